package sign

import (
	"encoding/base64"
	"errors"
	"fmt"
	"strconv"
	"strings"
)

// The part of Structured Field Values (RFC 8941) that signatures are written in: a
// dictionary whose members are inner lists of strings, or byte sequences, with parameters
// that are strings, tokens, integers, byte sequences or booleans.

// member is one member of a dictionary.
type member struct {
	name   string
	items  []item // of an inner list
	bytes  []byte // of a byte sequence
	inner  bool
	params []param
	raw    string // of an inner list: as it stands, with its parameters
}

// item is a string of an inner list, with its parameters.
type item struct {
	value  string
	params []param
}

// param is a parameter; its value is a string, an int64, []byte or true.
type param struct {
	name  string
	value any
}

var errField = errors.New("the field cannot be read")

// mostField bounds a field, in bytes, and mostMembers what stands in it.
const (
	mostField   = 16 << 10
	mostMembers = 64
)

type fieldReader struct {
	s  string
	at int
}

// readDictionary reads a field (RFC 8941, 4.2.2).
func readDictionary(s string) ([]member, error) {
	if len(s) > mostField {
		return nil, fmt.Errorf("%w: it has %d bytes", errField, len(s))
	}
	r := &fieldReader{s: s}
	var out []member
	for r.space(); r.at < len(r.s); {
		m, err := r.member()
		if err != nil {
			return nil, err
		}
		if out = append(out, m); len(out) > mostMembers {
			return nil, fmt.Errorf("%w: it has too many members", errField)
		}
		r.space()
		if r.at == len(r.s) {
			return out, nil
		}
		if r.s[r.at] != ',' {
			return nil, r.bad("a comma")
		}
		r.at++
		r.space()
		if r.at == len(r.s) {
			return nil, r.bad("a member behind the comma")
		}
	}
	return out, nil
}

func (r *fieldReader) bad(wanted string) error {
	return fmt.Errorf("%w: at character %d %s was expected", errField, r.at+1, wanted)
}

func (r *fieldReader) space() {
	for r.at < len(r.s) && (r.s[r.at] == ' ' || r.s[r.at] == '\t') {
		r.at++
	}
}

func (r *fieldReader) next(c byte) bool {
	if r.at < len(r.s) && r.s[r.at] == c {
		r.at++
		return true
	}
	return false
}

func (r *fieldReader) member() (m member, err error) {
	if m.name, err = r.key(); err != nil {
		return m, err
	}
	if !r.next('=') {
		return m, r.bad("=")
	}
	begin := r.at
	if r.next('(') {
		m.inner = true
		if m.items, err = r.inner(); err != nil {
			return m, err
		}
	} else if m.bytes, err = r.byteSequence(); err != nil {
		return m, err
	}
	m.params, err = r.params()
	m.raw = r.s[begin:r.at]
	return m, err
}

// key reads a name (3.1.2): small letters, digits and _-.*
func (r *fieldReader) key() (string, error) {
	begin := r.at
	for ; r.at < len(r.s); r.at++ {
		c := r.s[r.at]
		if !(c >= 'a' && c <= 'z' || c == '*' || r.at > begin && (c >= '0' && c <= '9' || strings.IndexByte("_-.", c) >= 0)) {
			break
		}
	}
	if r.at == begin {
		return "", r.bad("a name")
	}
	return r.s[begin:r.at], nil
}

func (r *fieldReader) inner() (out []item, err error) {
	for {
		r.space()
		if r.next(')') {
			return out, nil
		}
		var one item
		if one.value, err = r.text(); err != nil {
			return nil, err
		}
		if one.params, err = r.params(); err != nil {
			return nil, err
		}
		if out = append(out, one); len(out) > mostMembers {
			return nil, fmt.Errorf("%w: a list has too many items", errField)
		}
		if r.at < len(r.s) && r.s[r.at] != ' ' && r.s[r.at] != ')' {
			return nil, r.bad("a space or )")
		}
	}
}

// text reads a string (3.3.3).
func (r *fieldReader) text() (string, error) {
	if !r.next('"') {
		return "", r.bad(`"`)
	}
	var out strings.Builder
	for ; r.at < len(r.s); r.at++ {
		switch c := r.s[r.at]; {
		case c == '"':
			r.at++
			return out.String(), nil
		case c == '\\':
			if r.at++; r.at == len(r.s) || r.s[r.at] != '"' && r.s[r.at] != '\\' {
				return "", r.bad(`" or \ behind \`)
			}
			out.WriteByte(r.s[r.at])
		case c < 0x20 || c > 0x7e:
			return "", r.bad("a printable character")
		default:
			out.WriteByte(c)
		}
	}
	return "", r.bad(`the end of the text, "`)
}

func (r *fieldReader) byteSequence() ([]byte, error) {
	if !r.next(':') {
		return nil, r.bad(":")
	}
	end := strings.IndexByte(r.s[r.at:], ':')
	if end < 0 {
		return nil, r.bad("the end of the bytes, :")
	}
	out, err := base64.StdEncoding.DecodeString(r.s[r.at : r.at+end])
	if err != nil {
		return nil, r.bad("base64")
	}
	r.at += end + 1
	return out, nil
}

func (r *fieldReader) params() (out []param, err error) {
	for r.next(';') {
		r.space()
		var p param
		if p.name, err = r.key(); err != nil {
			return nil, err
		}
		p.value = true
		if r.next('=') {
			if p.value, err = r.bare(); err != nil {
				return nil, err
			}
		}
		if out = append(out, p); len(out) > mostMembers {
			return nil, fmt.Errorf("%w: there are too many parameters", errField)
		}
	}
	return out, nil
}

// bare reads the value of a parameter.
func (r *fieldReader) bare() (any, error) {
	if r.at == len(r.s) {
		return nil, r.bad("a value")
	}
	switch c := r.s[r.at]; {
	case c == '"':
		return r.text()
	case c == ':':
		return r.byteSequence()
	case c == '?':
		if r.at++; r.next('1') {
			return true, nil
		} else if r.next('0') {
			return false, nil
		}
		return nil, r.bad("0 or 1")
	case c == '-' || c >= '0' && c <= '9':
		begin := r.at
		for r.at++; r.at < len(r.s) && r.s[r.at] >= '0' && r.s[r.at] <= '9'; r.at++ {
		}
		n, err := strconv.ParseInt(r.s[begin:r.at], 10, 64)
		if err != nil || r.at-begin > 16 {
			return nil, r.bad("a whole number")
		}
		return n, nil
	case c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c == '*':
		begin := r.at
		for r.at++; r.at < len(r.s) && (strings.IndexByte("!#$%&'*+-.^_`|~:/", r.s[r.at]) >= 0 || isAlnum(r.s[r.at])); r.at++ {
		}
		return r.s[begin:r.at], nil
	}
	return nil, r.bad("a value")
}

func isAlnum(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9'
}

// quoted writes a string.
func quoted(s string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(s) + `"`
}

// Package multipart reads and writes multipart/form-data (RFC 7578, RFC 2046), over the
// document tree of core/message.
//
//	{"card": "LC1", "photo": {"filename": "maud.png", "type": "image/png", "content": …}}
//
// is a map by the names of the fields: a text for a plain one, for a file its name, its media
// type and its bytes. A name that stands more than once is a list.
//
// The boundary is what the first line says. One that is written is made of what is between, so
// that the same document is the same bytes on every try.
package multipart

import (
	"bytes"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	"net/textproto"
	"strings"
	"unicode/utf8"

	"readyferry/core/message"
)

// Boundary gives the boundary that a document begins with; "" for one that begins otherwise.
func Boundary(src []byte) string {
	line, _, _ := bytes.Cut(bytes.TrimLeft(src, "\r\n"), []byte("\n"))
	name, begins := bytes.CutPrefix(bytes.TrimRight(line, "\r \t"), []byte("--"))
	if !begins || len(name) > 70 {
		return ""
	}
	return string(bytes.TrimSuffix(name, []byte("--"))) // one without any part ends at once
}

// ContentType gives the media type of a document, with its boundary.
func ContentType(src []byte) string {
	return mime.FormatMediaType("multipart/form-data", map[string]string{"boundary": Boundary(src)})
}

// Decode reads a document. The error is a *message.SyntaxError. maxNodes limits the parts.
func Decode(src []byte, maxNodes int) (*message.Node, error) {
	n := 0
	fail := func(problem string) error {
		return &message.SyntaxError{Format: "multipart", Line: 1, Column: 1, Problem: fmt.Sprintf("part %d: %s", n, problem)}
	}
	boundary := Boundary(src)
	if boundary == "" {
		n = 1
		return nil, fail("the text does not begin with a boundary, such as --x")
	}
	r := multipart.NewReader(bytes.NewReader(src), boundary)
	all := fields{at: map[string]int{}}
	for {
		p, err := r.NextRawPart()
		if errors.Is(err, io.EOF) {
			root := message.NewMap(all.members...)
			root.Offset = 0
			return root, nil
		}
		n++
		if err != nil {
			return nil, fail(plain(err))
		}
		if maxNodes > 0 && n*4 > maxNodes {
			return nil, fail(fmt.Sprintf("the document has more than %d values", maxNodes))
		}
		name, value, err := part(p)
		if err != nil {
			return nil, fail(plain(err))
		}
		all.add(name, value)
	}
}

func plain(err error) string {
	if errors.Is(err, io.ErrUnexpectedEOF) {
		return "the document ends before its last boundary"
	}
	return strings.TrimPrefix(err.Error(), "multipart: ")
}

// fields are those of a document while it is read, by their names: there may be as many as there is
// room for.
type fields struct {
	members []message.Member
	at      map[string]int
}

// add puts a value under its name; a second one makes a list of them.
func (f *fields) add(name string, v *message.Node) {
	i, there := f.at[name]
	switch {
	case !there:
		f.at[name] = len(f.members)
		f.members = append(f.members, message.Member{Name: name, Value: v})
	case f.members[i].Value.Kind == message.List: // no part is a list itself
		f.members[i].Value.Items = append(f.members[i].Value.Items, v)
	default:
		f.members[i].Value = message.NewList(f.members[i].Value, v)
	}
}

// part gives the name and value of one part. Without a file's name what is text is a text.
func part(p *multipart.Part) (string, *message.Node, error) {
	name := p.FormName()
	if name == "" {
		return "", nil, errors.New("it has no name: Content-Disposition: form-data; name=\"…\" is missing")
	}
	content, err := io.ReadAll(p)
	if err != nil {
		return "", nil, err
	}
	if strings.EqualFold(p.Header.Get("Content-Transfer-Encoding"), "base64") { // old programs; RFC 7578, 4.7
		if content, err = base64.StdEncoding.DecodeString(strings.Join(strings.Fields(string(content)), "")); err != nil {
			return "", nil, fmt.Errorf("%s is no base64", name)
		}
	}
	kind := p.Header.Get("Content-Type")
	if p.FileName() == "" && utf8.Valid(content) && (kind == "" || strings.HasPrefix(kind, "text/plain")) {
		return name, message.NewString(string(content)), nil
	}
	file := message.NewMap(
		message.Member{Name: "filename", Value: message.NewString(p.FileName())},
		message.Member{Name: "type", Value: message.NewString(kind)},
		message.Member{Name: "content", Value: message.NewBytes(content)})
	return name, file, nil
}

// Encode writes a map of fields. A map with content is a file: bytes, a text, or base64 in a
// member base64. The error names the field that cannot be written.
func Encode(n *message.Node) ([]byte, error) {
	if n.Kind != message.Map {
		return nil, fmt.Errorf("multipart: a document is a map of fields, not a %s", n.Kind)
	}
	sum := sha256.New()
	if err := write(sum, n, "x"); err != nil {
		return nil, err
	}
	var out bytes.Buffer
	err := write(&out, n, "readyferry-"+hex.EncodeToString(sum.Sum(nil)[:12]))
	return out.Bytes(), err
}

func write(into io.Writer, n *message.Node, boundary string) error {
	w := multipart.NewWriter(into)
	if err := w.SetBoundary(boundary); err != nil {
		return err
	}
	for _, m := range n.Members {
		values := []*message.Node{m.Value}
		if m.Value.Kind == message.List {
			values = m.Value.Items
		}
		for _, v := range values {
			if err := field(w, m.Name, v); err != nil {
				return fmt.Errorf("multipart, field %s: %w", m.Name, err)
			}
		}
	}
	return w.Close()
}

func field(w *multipart.Writer, name string, v *message.Node) error {
	h := textproto.MIMEHeader{}
	params := map[string]string{"name": name}
	content := []byte(nil)
	switch text, scalar := v.Scalar(); {
	case v.Kind == message.Map:
		file, kind, body, err := fileOf(v)
		if err != nil {
			return err
		}
		if params["filename"] = file; file == "" {
			delete(params, "filename")
		}
		h.Set("Content-Type", kind)
		content = body
	case v.Kind == message.Bytes:
		h.Set("Content-Type", "application/octet-stream")
		content = []byte(v.Text)
	case scalar:
		content = []byte(text)
	default:
		return fmt.Errorf("a %s does not fit into a field", v.Kind)
	}
	h.Set("Content-Disposition", disposition(params))
	p, err := w.CreatePart(h)
	if err == nil {
		_, err = p.Write(content)
	}
	return err
}

// disposition writes names as RFC 7578, 4.2 and browsers do: in quotes, in UTF-8, with quotes
// and line ends by their percent codes.
func disposition(params map[string]string) string {
	plain := strings.NewReplacer("\"", "%22", "\r", "%0D", "\n", "%0A")
	out := `form-data; name="` + plain.Replace(params["name"]) + `"`
	if file, is := params["filename"]; is {
		out += `; filename="` + plain.Replace(file) + `"`
	}
	return out
}

func fileOf(v *message.Node) (name, kind string, content []byte, err error) {
	text := func(member string) string {
		if m := v.Get(member); m != nil {
			s, _ := m.Scalar()
			return s
		}
		return ""
	}
	name, kind = text("filename"), text("type")
	if kind == "" {
		kind = "application/octet-stream"
	}
	if strings.ContainsAny(kind, "\r\n") {
		return "", "", nil, errors.New("its type has a line end")
	}
	switch c, coded := v.Get("content"), v.Get("base64"); {
	case c != nil && c.Kind == message.Bytes:
		return name, kind, []byte(c.Text), nil
	case c != nil:
		s, scalar := c.Scalar()
		if !scalar {
			return "", "", nil, fmt.Errorf("its content is a %s", c.Kind)
		}
		return name, kind, []byte(s), nil
	case coded != nil:
		content, err = base64.StdEncoding.DecodeString(coded.Text)
		if err != nil {
			err = errors.New("its base64 cannot be read")
		}
		return name, kind, content, err
	}
	return "", "", nil, errors.New("a file has content, as bytes or a text, or base64")
}

// Package pointer reads and writes places in a document by JSON Pointer
// (RFC 6901) and applies JSON Patch documents (RFC 6902).
//
// Reading follows the standard to the letter. Writing needs one rule that the
// standard leaves open, what a missing container becomes: a list where the
// next token is "-" or "0", else a map.
package pointer

import (
	"fmt"
	"net/url"
	"strconv"
	"strings"

	"readyferry/core/message"
)

// Pointer is a parsed JSON Pointer: its reference tokens, unescaped.
type Pointer []string

// ParseFragment reads a pointer in its form for the end of a URI: "#" before
// it, and percent-encoded (RFC 6901, 6).
func ParseFragment(s string) (Pointer, error) {
	text, is := strings.CutPrefix(s, "#")
	if !is {
		return nil, fmt.Errorf("the fragment %q must begin with #", s)
	}
	text, err := url.PathUnescape(text)
	if err != nil {
		return nil, fmt.Errorf("the fragment %q: %w", s, err)
	}
	return Parse(text)
}

// Parse reads a pointer. "" is the whole document; anything else begins
// with "/". "~" may stand only in "~0" and "~1".
func Parse(s string) (Pointer, error) {
	if s == "" {
		return nil, nil
	}
	if s[0] != '/' {
		return nil, fmt.Errorf("the pointer %q must be empty or begin with /", s)
	}
	tokens := strings.Split(s[1:], "/")
	for i, t := range tokens {
		if strings.Contains(t, "~") {
			rest := strings.ReplaceAll(strings.ReplaceAll(t, "~0", ""), "~1", "")
			if strings.Contains(rest, "~") {
				return nil, fmt.Errorf("in the pointer %q, ~ must be written ~0 and / inside a name ~1", s)
			}
			tokens[i] = strings.ReplaceAll(strings.ReplaceAll(t, "~1", "/"), "~0", "~")
		}
	}
	return tokens, nil
}

// String writes the pointer with its tokens escaped.
func (p Pointer) String() string {
	var b strings.Builder
	for _, t := range p {
		b.WriteByte('/')
		b.WriteString(strings.ReplaceAll(strings.ReplaceAll(t, "~", "~0"), "/", "~1"))
	}
	return b.String()
}

// Index reads an array index of RFC 6901 section 4: digits without a leading
// zero. ok is false for anything else, "-" among it.
func Index(token string) (i int, ok bool) {
	if token == "" || len(token) > 9 || len(token) > 1 && token[0] == '0' {
		return 0, false
	}
	for _, c := range []byte(token) {
		if c < '0' || c > '9' {
			return 0, false
		}
		i = i*10 + int(c-'0')
	}
	return i, true
}

// nowhere tells that a pointer leads to nothing. Its words are made when somebody reads them:
// most who look something up only want to know whether it is there.
type nowhere struct {
	at Pointer
	in *message.Node
}

func (e *nowhere) Error() string {
	_, err := child(e.in, e.at[len(e.at)-1])
	return fmt.Sprintf("%s: %v", e.at, err)
}

// member gives a member of a map, or an item of a list.
func member(n *message.Node, token string) (*message.Node, bool) {
	switch n.Kind {
	case message.Map:
		v := n.Get(token)
		return v, v != nil
	case message.List:
		if i, is := Index(token); is && i < len(n.Items) {
			return n.Items[i], true
		}
	}
	return nil, false
}

// Get gives the value at the pointer. The error names the first token that
// leads nowhere.
func (p Pointer) Get(root *message.Node) (*message.Node, error) {
	n := root
	for i, t := range p {
		next, is := member(n, t)
		if !is {
			return nil, &nowhere{p[:i+1], n}
		}
		n = next
	}
	return n, nil
}

func child(n *message.Node, token string) (*message.Node, error) {
	switch n.Kind {
	case message.Map:
		if v := n.Get(token); v != nil {
			return v, nil
		}
		return nil, fmt.Errorf("there is no member %q", token)
	case message.List:
		i, ok := Index(token)
		if !ok {
			return nil, fmt.Errorf("%q is no index of a list", token)
		}
		if i >= len(n.Items) {
			return nil, fmt.Errorf("the list has %d items, none at %d", len(n.Items), i)
		}
		return n.Items[i], nil
	}
	return nil, fmt.Errorf("a %s has no members", n.Kind)
}

// Set gives a document in which the value stands at the pointer: an existing
// value is replaced, "-" appends to a list, missing containers are made.
// root may be nil for a document that does not exist yet.
func (p Pointer) Set(root, v *message.Node) (*message.Node, error) {
	return set(root, p, 0, v)
}

func set(n *message.Node, p Pointer, at int, v *message.Node) (*message.Node, error) {
	if at == len(p) {
		return v, nil
	}
	token := p[at]
	if n == nil {
		if token == "-" || token == "0" {
			n = message.NewList()
		} else {
			n = message.NewMap()
		}
	}
	switch n.Kind {
	case message.Map:
		next, err := set(n.Get(token), p, at+1, v)
		if err != nil {
			return nil, err
		}
		return n.With(token, next), nil
	case message.List:
		i, ok := Index(token)
		switch {
		case token == "-":
			i = len(n.Items)
		case !ok:
			return nil, fmt.Errorf("%s: %q is no index of a list; use a number or - to append", p[:at+1], token)
		case i > len(n.Items):
			return nil, fmt.Errorf(
				"%s: the list has %s, so the next place is %d, not %d",
				p[:at+1],
				count(len(n.Items), "item"),
				len(n.Items),
				i,
			)
		}
		var old *message.Node
		if i < len(n.Items) {
			old = n.Items[i]
		}
		next, err := set(old, p, at+1, v)
		if err != nil {
			return nil, err
		}
		items := append([]*message.Node(nil), n.Items...)
		if i == len(items) {
			items = append(items, next)
		} else {
			items[i] = next
		}
		return &message.Node{Kind: message.List, Offset: n.Offset, Items: items}, nil
	}
	return nil, fmt.Errorf("%s: a %s is in the way, only maps and lists have places", p[:at+1], n.Kind)
}

func count(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return strconv.Itoa(n) + " " + what + "s"
}

package config

import (
	"fmt"
	"regexp"
	"strings"

	"readyferry/core/message"
)

// hole is a value named in a text of a connection.
var hole = regexp.MustCompile(`\$\{\s*config\.([a-zA-Z0-9_.]+)\s*\}`)

// Named tells whether a document names a value.
func Named(document []byte) bool { return hole.Match(document) }

// Fill puts values where ${config.name} stands in the texts of a document. A text that is
// nothing else becomes the value with its kind, so that a number is one. unknown is told
// of each name that there is not, by the pointer of its text.
func (v Values) Fill(n *message.Node, unknown func(pointer, name string)) *message.Node {
	return v.fill(n, "", unknown)
}

var escape = strings.NewReplacer("~", "~0", "/", "~1")

func (v Values) fill(n *message.Node, at string, unknown func(pointer, name string)) *message.Node {
	switch n.Kind {
	case message.Map:
		out := *n
		out.Members = make([]message.Member, len(n.Members))
		for i, m := range n.Members {
			m.Value = v.fill(m.Value, at+"/"+escape.Replace(m.Name), unknown)
			out.Members[i] = m
		}
		return &out
	case message.List:
		out := *n
		out.Items = make([]*message.Node, len(n.Items))
		for i, item := range n.Items {
			out.Items[i] = v.fill(item, fmt.Sprintf("%s/%d", at, i), unknown)
		}
		return &out
	case message.String:
		return v.text(n, at, unknown)
	}
	return n
}

func (v Values) text(n *message.Node, at string, unknown func(pointer, name string)) *message.Node {
	if !strings.Contains(n.Text, "${") {
		return n
	}
	if m := hole.FindStringSubmatchIndex(n.Text); m != nil && m[0] == 0 && m[1] == len(n.Text) {
		if value := v[n.Text[m[2]:m[3]]]; value != nil {
			return value
		}
	}
	out := *n
	out.Text = hole.ReplaceAllStringFunc(n.Text, func(all string) string {
		name := hole.FindStringSubmatch(all)[1]
		value := v[name]
		if value == nil {
			unknown(at, name)
			return all
		}
		return value.Text
	})
	return &out
}

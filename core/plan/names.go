package plan

import (
	"regexp"

	"readyferry/core/message"
)

var words = regexp.MustCompile(`[\pL_][\pL\pN_./-]*`)

// Names tells whether a text stands in the document of the flow: as a setting, as a key, or
// as a word of one, such as a column that an expression names. Numbers and single letters do
// not count, because they stand everywhere.
func (p *Plan) Names(text string) bool {
	p.named.Do(func() {
		p.names = map[string]struct{}{}
		collect(p.Document.Source.Root, p.names)
	})
	_, ok := p.names[text]
	return ok
}

func collect(n *message.Node, into map[string]struct{}) {
	if n == nil {
		return
	}
	note := func(s string) {
		for _, w := range append(words.FindAllString(s, -1), s) {
			if len(w) > 1 && words.MatchString(w) {
				into[w] = struct{}{}
			}
		}
	}
	if n.Kind == message.String {
		note(n.Text)
	}
	for _, m := range n.Members {
		note(m.Name)
		collect(m.Value, into)
	}
	for _, item := range n.Items {
		collect(item, into)
	}
}

package plan

import (
	"slices"
	"sort"
	"strings"

	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
	"readyferry/core/pointer"
	"readyferry/core/schema"
)

// stepAt names the innermost step around a pointer.
func stepAt(root *message.Node, ptr string) string {
	p, err := pointer.Parse(ptr)
	if err != nil {
		return ""
	}
	id := ""
	for i := range p {
		if n, err := p[:i+1].Get(root); err == nil && n.Kind == message.Map && i > 0 && p[i-1] == "steps" {
			id = ""
			if v := n.Get("id"); v != nil {
				id = v.Text
			}
		}
	}
	return id
}

// switchedOff tells whether a failure lies in a step that is off, and so is
// not checked. What tells one row from another is checked all the same.
func switchedOff(root *message.Node, f schema.Failure) bool {
	p, err := pointer.Parse(f.Pointer)
	if err != nil || len(p) == 0 {
		return false
	}
	last := p[len(p)-1]
	if _, isIndex := pointer.Index(last); isIndex ||
		slices.Contains([]string{"id", "kind", "off", "ways", "otherwise", "steps", "name"}, last) {
		return false
	}
	for i := 2; i < len(p); i++ {
		if p[i-2] != "steps" {
			continue
		}
		if n, err := p[:i].Get(root); err == nil && n.Kind == message.Map {
			if off := n.Get("off"); off != nil && off.Kind == message.Bool && off.Text == "true" {
				return true
			}
		}
	}
	return false
}

func shownText(root *message.Node, ptr string) string {
	p, err := pointer.Parse(ptr)
	if err != nil {
		return ""
	}
	if n, err := p.Get(root); err == nil && n.Kind == message.String {
		return n.Text
	}
	return ""
}

func shown(root *message.Node, ptr string) string {
	p, err := pointer.Parse(ptr)
	if err != nil {
		return "that"
	}
	n, err := p.Get(root)
	if err != nil {
		return "that"
	}
	text := []rune(string(jsonfmt.Encode(n)))
	if len(text) > 60 {
		return string(text[:60]) + "…"
	}
	return string(text)
}

// known lists the keys that the schema knows in the map around an unknown key:
// it walks the schema beside the document.
func (r *Reader) known(root *message.Node, ptr string) []string {
	p, err := pointer.Parse(ptr)
	if err != nil || len(p) == 0 {
		return nil
	}
	schemas := []*message.Node{r.root}
	value := root
	for _, token := range p[:len(p)-1] {
		var next []*message.Node
		for _, s := range r.spread(schemas, value) {
			if prop := s.Get("properties").Get(token); prop != nil {
				next = append(next, prop)
			} else if item := s.Get("items"); item != nil && value != nil && value.Kind == message.List {
				next = append(next, item)
			}
		}
		schemas = next
		if value, err = (pointer.Pointer{token}).Get(value); err != nil {
			return nil
		}
	}
	names := map[string]bool{}
	for _, s := range r.spread(schemas, value) {
		if s.Get("additionalProperties") != nil {
			for _, n := range s.Get("properties").Names() {
				names[n] = true
			}
		}
	}
	out := make([]string, 0, len(names))
	for n := range names {
		out = append(out, n)
	}
	sort.Strings(out)
	return out
}

// spread follows $ref, if, then, else and allOf to the schemas that bear on a value.
func (r *Reader) spread(schemas []*message.Node, value *message.Node) []*message.Node {
	var out []*message.Node
	var add func(s *message.Node)
	add = func(s *message.Node) {
		if s == nil {
			return
		}
		out = append(out, s)
		if ref := s.Get("$ref"); ref != nil {
			add(r.root.Get("$defs").Get(strings.TrimPrefix(ref.Text, "#/$defs/")))
		}
		if cond := s.Get("if"); cond != nil {
			if holds(cond, value) {
				add(s.Get("then"))
			} else {
				add(s.Get("else"))
			}
		}
		if all := s.Get("allOf"); all != nil {
			for _, item := range all.Items {
				add(item)
			}
		}
	}
	for _, s := range schemas {
		add(s)
	}
	return out
}

// holds decides the few forms of if that the flow's schema uses.
func holds(cond, value *message.Node) bool {
	if t := cond.Get("type"); t != nil {
		return value != nil && value.Kind == message.String == (t.Text == "string")
	}
	for _, m := range cond.Get("properties").Members {
		v := value.Get(m.Name)
		if c := m.Value.Get("const"); c != nil && v != nil && v.Text != c.Text {
			return false
		}
	}
	return true
}

package plan

import (
	"regexp"
	"slices"

	"readyferry/core/format"
	"readyferry/core/message"
)

// passing are the kinds of step that hand a message on without looking into it, where no
// expression of theirs does.
var passing = []string{"deliver", "filter", "route", "note", "once", "hold", "pace"}

// passed are the settings of a delivery that hands over the message as it is.
var passed = []string{"id", "kind", "title", "note", "when", "off", "to", "path", "method", "headers", "retry", "order",
	"else",
	"folder", "name", "exists", "behind", "make"}

var bodyWord = regexp.MustCompile(`\b(body|bodies)\b`)

// Unread tells that no step looks into the bytes of a message: they may go from the caller to
// the disk, and from there to the target, without ever being held. It says no where it does
// not know better.
func (p *Plan) Unread() bool {
	p.unread.Do(func() {
		root := p.Document.Source.Root
		in := &p.Document.Intake
		p.isUnread = in.Kind == "webhook" && (in.Format == format.Binary || in.Format == "auto") && len(in.Callers) == 0 &&
			in.Faults == "" && root.Get("on-dead-letter") == nil && passes(root.Get("intake")) && passes(root.Get("steps"))
	})
	return p.isUnread
}

// passes tells whether nothing in a part of a document looks into a message.
func passes(n *message.Node) bool {
	switch n.Kind {
	case message.String:
		return !bodyWord.MatchString(n.Text)
	case message.List:
		return !slices.ContainsFunc(n.Items, func(one *message.Node) bool { return !passes(one) })
	case message.Map:
		if kind := n.Get("kind"); kind != nil && n.Get("id") != nil && !passesStep(n, kind.Text) {
			return false
		}
		return !slices.ContainsFunc(n.Members, func(m message.Member) bool {
			return m.Name != "note" && m.Name != "title" && !passes(m.Value)
		})
	}
	return true
}

func passesStep(n *message.Node, kind string) bool {
	if !slices.Contains(passing, kind) {
		return false
	}
	if kind != "deliver" {
		return true
	}
	to := n.Get("to")
	return to != nil && to.Kind == message.String && !slices.ContainsFunc(n.Members, func(m message.Member) bool {
		return !slices.Contains(passed, m.Name)
	})
}

package watch

import (
	"fmt"
	"strings"

	"readyferry/core/plan"
	"readyferry/core/step"
	"readyferry/store"
)

// Done says in a few words what was done with a message that was delivered: to whom it went.
func (w *Watch) Done(t *Transaction) string {
	if t.State != Delivered {
		return ""
	}
	var to []string
	seen := map[string]bool{}
	add := func(what string) {
		if !seen[what] {
			seen[what] = true
			to = append(to, what)
		}
	}
	if rows, err := w.Store.All().Deliveries(t.ID); err == nil {
		for i := range rows {
			if rows[i].State == store.Done {
				add("to " + rows[i].Target)
			}
		}
	}
	if p, err := w.Catalog.Plan(t.Flow, t.Version); err == nil && len(p.Uses) > 0 {
		if rows, err := w.Store.All().Effects(t.ID); err == nil {
			for i := range rows {
				if what := handedTo(p, rows[i].Path); what != "" {
					add(what)
				}
			}
		}
	}
	switch {
	case t.Parts > 0:
		add(fmt.Sprintf("in %d parts", t.Parts))
	case len(to) == 0:
		return "nothing was to be sent"
	}
	if len(to) > 4 {
		to = append(to[:4], fmt.Sprintf("%d more", len(to)-4))
	}
	return strings.Join(to, ", ")
}

// handedTo names the queue, topic or flow that the step at a path hands to.
func handedTo(p *plan.Plan, path string) string {
	path = partNumbers.ReplaceAllString(path, "")
	if i := strings.LastIndexByte(path, '/'); i >= 0 {
		path = path[i+1:]
	}
	for _, u := range p.Uses {
		if u.Step != path {
			continue
		}
		switch u.Kind {
		case step.UseQueue:
			return "to the queue " + u.Name
		case step.UseTopic:
			return "to the topic " + u.Name
		case step.UseFlow:
			return "through " + u.Name
		}
	}
	return ""
}

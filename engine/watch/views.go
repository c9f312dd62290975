package watch

import (
	"context"
	"fmt"
	"strings"

	"readyferry/core/message"
	"readyferry/engine/journal"
	"readyferry/store"
)

// SaveView keeps a list under a name.
func (w *Watch) SaveView(ctx context.Context, name, query, by string) error {
	if strings.TrimSpace(name) == "" || len(name) > 100 || len(query) > 4000 {
		return fmt.Errorf(
			"%w: a view has a name of at most 100 bytes, and a filter of at most 4,000",
			journal.ErrDecision,
		)
	}
	return w.Store.Write(ctx, func(tx *store.Tx) error {
		return tx.SaveView(&store.SavedView{Name: name, Query: query, By: by})
	})
}

// DropView removes a view.
func (w *Watch) DropView(ctx context.Context, name string) error {
	return w.Store.Write(ctx, func(tx *store.Tx) error { return tx.DropView(name) })
}

// FilterValues lists the values that filters can have, by filter.
func (w *Watch) FilterValues() map[string][]string {
	out := map[string][]string{"state": {"under-way", "waiting", "delivered", "turned-away", "dead-letter"}}
	for _, c := range w.Catalog.Connections() {
		out["target"] = append(out["target"], c.Name)
	}
	for _, f := range w.Catalog.Flows() {
		out["flow"] = append(out["flow"], f.Name)
		p := f.Live
		if p == nil {
			p = f.Draft
		}
		if p == nil {
			continue
		}
		for _, u := range p.Uses {
			if u.Kind == "queue" || u.Kind == "topic" {
				out["target"] = append(out["target"], u.Name)
			}
		}
		stepsAndWays(p.Document.Source.Root.Get("steps"), out)
	}
	return out
}

func stepsAndWays(steps *message.Node, out map[string][]string) {
	if steps == nil {
		return
	}
	for _, s := range steps.Items {
		id := s.Get("id")
		if id == nil {
			continue
		}
		out["step"] = append(out["step"], id.Text)
		if ways := s.Get("ways"); ways != nil {
			for _, way := range ways.Items {
				if name := way.Get("name"); name != nil {
					out["way"] = append(out["way"], id.Text+"."+name.Text)
				}
				stepsAndWays(way.Get("steps"), out)
			}
			out["way"] = append(out["way"], id.Text+".otherwise")
		}
		if other := s.Get("otherwise"); other != nil {
			stepsAndWays(other.Get("steps"), out)
		}
		stepsAndWays(s.Get("steps"), out)
	}
}

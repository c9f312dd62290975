package engine

import "readyferry/store"

// Held tells what is kept in memory of work under way, and how much there may be of each.
func (e *Engine) Held() []store.InMemory {
	out := e.Journal.Store.Held()
	for _, part := range []interface{ Held() []store.InMemory }{e.Journal, e.Perform, e.Lane, e.Intake} {
		out = append(out, part.Held()...)
	}
	return out
}

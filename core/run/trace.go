package run

import (
	"fmt"
	"strings"
	"time"

	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
	"readyferry/core/step"
)

// shownBytes bounds the bodies in a trace, so that many parts of a large
// message do not fill the memory; steps behind it are shown without them.
const shownBytes = 64 << 20

func (w *walker) clock() time.Duration {
	if w.in.Clock == nil {
		return 0
	}
	return w.in.Clock()
}

func (w *walker) trace(e Entry, before step.State, after *step.State, began time.Duration) {
	if !w.in.Trace {
		return
	}
	e.Path += w.suffix
	e.Took = float64((w.clock() - began).Microseconds()) / 1000
	if !w.in.NoBodies && w.shown < shownBytes {
		e.Before, e.After = show(&before.Message), show(&after.Message)
		e.Names = named(&before)
		e.Earlier = earlier(&before)
		if answered := after.Replies.Get(e.Step); answered != nil && answered != before.Replies.Get(e.Step) {
			e.Reply = string(jsonfmt.Encode(answered))
		}
		w.shown += e.Before.size() + e.After.size()
		for _, n := range e.Names {
			w.shown += len(n.JSON)
		}
	}
	w.result.Trace = append(w.result.Trace, e)
}

// earlier names the steps behind which the body was another than it is now, the intake first.
func earlier(st *step.State) (names []string) {
	if st.Bodies == nil {
		return nil
	}
	var last *message.Node
	for _, m := range st.Bodies.Members {
		if m.Value != last && m.Value != st.Message.Body {
			names = append(names, m.Name)
		}
		last = m.Value
	}
	return names
}

// short keeps the first words of a reason for a cell.
func short(reason string) string {
	r := []rune(reason)
	if i := strings.IndexAny(reason, ";:"); i > 0 && i < 60 {
		return reason[:i]
	}
	if len(r) > 60 {
		return fmt.Sprintf("%s…", string(r[:59]))
	}
	return reason
}

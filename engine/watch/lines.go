package watch

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"readyferry/core/retry"
	"readyferry/store"
)

// What a line of the log across transactions tells of.
const (
	LineEnd    = "end"    // delivered or turned away
	LineDeath  = "death"  // a dead letter
	LineFailed = "failed" // a try that failed
	LineNote   = "note"   // what a flow's own step noted
)

// LineKinds lists them.
var LineKinds = []string{LineEnd, LineDeath, LineFailed, LineNote}

// Line is one line of the log.
type Line struct {
	N           int64     `json:"n"` // grows with every event; several lines of one have the same
	At          time.Time `json:"at"`
	What        string    `json:"what"`
	Flow        string    `json:"flow"`
	Step        string    `json:"step"`
	Transaction ID        `json:"transaction"`
	Reference   string    `json:"reference"`
	State       string    `json:"state"`
	Text        string    `json:"text"`
}

// LineQuery says which lines are wanted.
type LineQuery struct {
	Flow   string
	Of     store.Of // nil: of all flows
	What   []string // kinds; none: all
	Words  string   // all of them have to stand in a line, in upper or lower case
	Before int64    // only those of earlier events; 0: from the newest on
	Limit  int
}

// lines remember what happened lately; what each line says is read when somebody looks.
type lines struct {
	mu    sync.Mutex
	ring  []store.Happened
	first int64 // number of the first that is remembered
}

const (
	keptLines    = 20_000
	scannedLines = 1_000 // at one look: where none of them fits, the next one goes on
	seededLines  = 500   // from before the start
)

func (l *lines) add(all []store.Happened) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for i := range all {
		h := &all[i]
		if h.Part && h.What != store.WasTried || h.What == store.HasCome || h.What == store.HasSettled ||
			h.What == store.WasTried && h.Outcome == string(retry.Delivered) {
			continue
		}
		l.ring = append(l.ring, *h)
	}
	if over := len(l.ring) - keptLines; over > keptLines/10 { // seldom, as it copies them
		l.ring = append([]store.Happened(nil), l.ring[over:]...)
		l.first += int64(over)
	}
}

// before gives the events before a number, the newest first, and the numbers of the first and the
// last of them.
func (l *lines) before(n int64) (out []store.Happened, last int64) {
	l.mu.Lock()
	defer l.mu.Unlock()
	end := int64(len(l.ring))
	if n > 0 {
		end = min(end, max(0, n-1-l.first))
	}
	out = slices.Clone(l.ring[max(0, end-scannedLines):end])
	slices.Reverse(out)
	return out, l.first + end
}

// seedLines remembers how the newest transactions of before the start ended.
func (w *Watch) seedLines() error {
	rows, err := w.Store.All().Transactions(store.Filter{Limit: seededLines})
	if err != nil {
		return err
	}
	var all []store.Happened
	for i := range rows {
		t := &rows[i]
		h := store.Happened{Tx: t.ID, Flow: t.Flow, State: t.State, At: t.ReceivedAt, Part: t.Parent != nil, Step: t.Place}
		switch {
		case t.State == store.DeadLetter:
			h.What = store.HasDied
		case t.FinishedAt != nil:
			h.What, h.Took = store.HasEnded, t.FinishedAt.Sub(t.ReceivedAt)
		default:
			continue
		}
		all = append(all, h)
	}
	slices.SortStableFunc(all, func(a, b store.Happened) int { return a.At.Add(a.Took).Compare(b.At.Add(b.Took)) })
	w.lines.mu.Lock()
	defer w.lines.mu.Unlock()
	now := w.lines.ring
	w.lines.ring = nil
	for i := range all {
		if !all[i].Part {
			w.lines.ring = append(w.lines.ring, all[i])
		}
	}
	w.lines.ring = append(w.lines.ring, now...)
	return nil
}

// Logged gives the lines of the log that fit, the newest first. next is what Before has to be for
// older ones; 0 where there are none.
func (w *Watch) Logged(q LineQuery) (out []Line, next int64, err error) {
	words := strings.Fields(strings.ToLower(q.Words))
	events, n := w.lines.before(q.Before)
	for i := range events {
		h := &events[i]
		if (q.Flow == "" || h.Flow == q.Flow) && (q.Of == nil || slices.Contains(q.Of, h.Flow)) {
			for _, line := range w.linesOf(h, q.What) {
				if line.N = n; line.has(words) {
					out = append(out, line)
				}
			}
		}
		if len(out) >= q.Limit {
			return out, n, nil
		}
		n--
	}
	if len(events) == scannedLines {
		return out, n + 1, nil
	}
	return out, 0, nil
}

func (l *Line) has(words []string) bool {
	text := strings.ToLower(l.Text + " " + l.Reference + " " + l.Flow + " " + l.Step)
	for _, word := range words {
		if !strings.Contains(text, word) {
			return false
		}
	}
	return true
}

// linesOf gives the lines of an event, as far as their kinds are wanted.
func (w *Watch) linesOf(h *store.Happened, kinds []string) (out []Line) {
	wanted := func(kind string) bool { return len(kinds) == 0 || slices.Contains(kinds, kind) }
	line := Line{At: h.At.Add(h.Took), Flow: h.Flow, Step: h.Step, Transaction: h.Tx, State: h.State.String()}
	switch h.What {
	case store.HasDied:
		line.What, line.At = LineDeath, h.At
	case store.HasEnded:
		line.What, line.Step = LineEnd, ""
	case store.WasTried:
		line.What, line.State = LineFailed, ""
	default:
		return nil
	}
	notes := h.What == store.HasEnded && wanted(LineNote) && w.notesOf(h.Flow)
	if !wanted(line.What) && !notes {
		return nil
	}
	t, err := w.Transaction(h.Tx)
	if err != nil {
		if errors.Is(err, store.ErrNotFound) {
			line.Text = "it is not kept any more"
			return []Line{line}
		}
		return nil
	}
	line.Reference = t.Reference
	if wanted(line.What) {
		line.Text = w.lineText(h, &t, &line)
		out = append(out, line)
	}
	if notes {
		if r, err := w.Inspect(h.Tx); err == nil {
			for _, note := range slices.Backward(r.Notes) {
				of := line
				of.What, of.Text = LineNote, note.Text
				out = append(out, of)
			}
		}
	}
	return out
}

func (w *Watch) lineText(h *store.Happened, t *Transaction, line *Line) string {
	switch h.What {
	case store.HasDied:
		if letters, err := w.Store.All().LettersOf(h.Tx); err == nil && len(letters) > 0 {
			l := letters[0]
			line.Step, line.At = l.Step, l.At
			return l.Reason
		}
		return t.Reason
	case store.WasTried:
		text := fmt.Sprintf("try %d at %s", h.N, h.Target)
		tries, err := w.Store.All().Tries(h.Delivery)
		if err != nil {
			return text
		}
		for _, try := range tries {
			if try.N == h.N && try.Detail != "" {
				return text + ": " + try.Detail
			}
		}
		if h.Status > 0 {
			return fmt.Sprintf("%s: %d", text, h.Status)
		}
		return text
	}
	if h.State == store.TurnedAway {
		return t.Reason
	}
	return w.Done(t)
}

// notesOf tells whether a flow has a step that notes something.
func (w *Watch) notesOf(flow string) bool {
	f := w.Catalog.Flow(flow)
	return f != nil && f.Live != nil && hasNotes(f.Live.Document.Source.Root)
}

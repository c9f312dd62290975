package run

import (
	"fmt"
	"sort"
	"strings"
	"time"

	"readyferry/core/group"
	"readyferry/core/step"
	"readyferry/core/want"
)

// line is where the messages of one key wait for their turn in a rehearsal.
type line struct {
	key     string
	next    int64
	gap     int64 // the number that was given up just now, or -1
	waiting []*held
}

// BehindSaid tells what a message waited for; gap is the number that did not
// come in time, or -1.
func BehindSaid(number, gap int64) string {
	if gap >= 0 {
		return fmt.Sprintf("%d, without %d", number, gap)
	}
	return fmt.Sprintf("%d, behind %d", number, number-1)
}

// held is a message that waits for its turn.
type held struct {
	line   *line
	number int64
	until  time.Time
	order  *group.Order
	w      *walker
	entry  int // of its step in the trace
	step   *step.Compiled
	call   step.Call
	split  *inline // of a part
	part   int
}

// turn lets a message go on, hold it, or turns it away, where nothing is real.
func (w *walker) turn(s *step.Compiled, call *step.Call, res step.Result, asked want.Asked) (step.Result, error) {
	g, t := w.in.Groups, asked.Want.(*want.Turn)
	g.tick(w.in.Message.ReceivedAt)
	g.passTime(w.in.Message.ReceivedAt)
	id := GroupPath(asked.Path) + "\x00" + t.Key
	l := g.lines[id]
	if l == nil {
		l = &line{key: t.Key, next: t.Order.First, gap: -1}
		g.lines[id] = l
	}
	switch t.Order.Turn(t.Number, l.next) {
	case group.Later:
		if !t.Order.PassLate {
			call.Effect = &want.Effect{Refused: TurnPassed(t.Key, t.Number, l.next)}
			return s.Runner.Run(call)
		}
		call.Effect = &want.Effect{Order: TurnOrder(asked.Path, t.Key), Said: fmt.Sprintf("%d, late", t.Number)}
		return s.Runner.Run(call)
	case group.Wait:
		if len(l.waiting) >= t.Order.Limit {
			return step.Result{}, FullLine(t.Key, len(l.waiting))
		}
		l.waiting = append(
			l.waiting,
			&held{l, t.Number, g.now.Add(t.Order.Wait), t.Order, w, len(w.result.Trace), s, *call, w.split, w.part},
		)
		sort.SliceStable(l.waiting, func(i, j int) bool { return l.waiting[i].number < l.waiting[j].number })
		res.Outcome = fmt.Sprintf("%d waits for %d", t.Number, l.next)
		res.Want = asked.Want
		return res, nil
	}
	l.next++
	call.Effect = &want.Effect{Order: TurnOrder(asked.Path, t.Key), Said: fmt.Sprint(t.Number)}
	g.later = append(g.later, func() { l.release(g) })
	return s.Runner.Run(call)
}

// TurnPassed says why a message behind its turn is turned away.
func TurnPassed(key string, number, next int64) string {
	return fmt.Sprintf("number %d of %s has come already or is too late; the next one is %d", number, key, next)
}

// TurnOrder is the value by which deliveries behind a resequence keep their order.
func TurnOrder(path, key string) string { return GroupPath(path) + " " + key }

// FullLine is the failure of a message for which there is no room to wait.
func FullLine(key string, waiting int) *step.Failure {
	return &step.Failure{
		Phase: "limit",
		Class: step.Data,
		Reason: fmt.Sprintf(
			"%d messages of %s wait for their turn, which is the limit; raise limit, or send the missing number",
			waiting,
			key,
		),
	}
}

// GapReason says why a message that waited in vain is a dead letter.
func GapReason(number, next int64, wait time.Duration) string {
	return fmt.Sprintf("number %d waited %s for number %d, which did not come", number, wait, next)
}

// release lets those go on whose turn it is now.
func (l *line) release(g *Groups) {
	for len(l.waiting) > 0 && l.waiting[0].number <= l.next {
		h := l.waiting[0]
		l.waiting = l.waiting[1:]
		if h.number == l.next {
			l.next++
		}
		h.goOn(BehindSaid(h.number, l.gap))
		l.gap = -1
	}
}

// goOn walks on behind the step, where the message waited.
func (h *held) goOn(said string) {
	w := h.w
	h.call.Effect = &want.Effect{Order: TurnOrder(h.call.Path, h.line.key), Said: said}
	res, err := h.step.Runner.Run(&h.call)
	if err != nil {
		return // it ran before with the same message
	}
	if h.entry < len(w.result.Trace) {
		e := &w.result.Trace[h.entry]
		e.Outcome, e.State = res.Outcome, ""
	}
	st := res.State
	h.ends(w.stateOf(func() progress { return w.seekFrom(h.call.Path, &st) }))
}

// ends tells the split around a part what has become of it.
func (h *held) ends(state string) {
	if h.split != nil {
		h.split.states[h.part] = state
		h.split.tell()
	}
}

// overdue is the message that has waited longest beyond its time.
func (g *Groups) overdue(now time.Time) *held {
	var first *held
	for _, l := range g.lines {
		for _, h := range l.waiting {
			if !h.until.After(now) &&
				(first == nil || h.until.Before(first.until) || h.until.Equal(first.until) && h.number < first.number) {
				first = h
			}
		}
	}
	return first
}

// overdue gives the gap up for which a message has waited.
func (h *held) overdue() {
	l, g := h.line, h.w.in.Groups
	if !h.order.Dead {
		l.gap, l.next = l.next, l.waiting[0].number
		l.release(g)
		return
	}
	for i, o := range l.waiting {
		if o == h {
			l.waiting = append(l.waiting[:i:i], l.waiting[i+1:]...)
		}
	}
	f := step.Failure{
		Step:   h.step.ID,
		Path:   h.call.Path,
		Kind:   h.step.Kind,
		Phase:  "wait",
		Class:  step.Data,
		Reason: GapReason(h.number, l.next, h.order.Wait),
	}
	h.w.result.Failures = append(h.w.result.Failures, f)
	if h.entry < len(h.w.result.Trace) {
		e := &h.w.result.Trace[h.entry]
		e.Outcome, e.State, e.Error = short(f.Reason), DeadLetter, &f.Reason
	}
	h.ends(DeadLetter)
}

// seekFrom walks on behind the step at a path with a given state.
func (w *walker) seekFrom(path string, st *step.State) progress {
	end, found := w.seek(w.in.Groups.plan.Block, "", &Resume{Path: path}, st)
	if found && !strings.Contains(path, "[") {
		w.later = &end // it is not a part of the message that goes on, but the message
	}
	return end
}

package run

import (
	"errors"
	"strings"
	"time"

	"readyferry/core/step"
	"readyferry/core/table"
	"readyferry/core/want"
)

// virtual is what a rehearsal keeps of steps that look, wait or remember. It has
// a counterpart for each want that the engine brings about inside the application;
// what it has none for gets the sample's stand-in answer.
type virtual struct {
	tables  *table.Scratch
	once    map[string]time.Time // until when a key is remembered
	paces   map[string][]time.Time
	pretend map[string]pretender
}

// pretender answers a want where nothing is real; now is when the message came.
type pretender func(asked want.Asked, now time.Time, replies map[string]want.Effect) StandInReply

func newVirtual() *virtual {
	v := &virtual{once: map[string]time.Time{}, paces: map[string][]time.Time{}}
	v.pretend = map[string]pretender{
		want.KindRows: v.rows, want.KindLook: v.look, want.KindPair: v.pair, want.KindOnce: v.remember, want.KindPace: v.pace, want.KindHold: v.hold,
	}
	return v
}

// look finds rows in the tables as they are, with what was written in the rehearsal.
func (v *virtual) look(asked want.Asked, _ time.Time, replies map[string]want.Effect) StandInReply {
	w := asked.Want.(*want.Look)
	if answer, ok := replied(asked, replies); ok {
		looked := want.Looked{Table: w.Table, Key: "the sample's stand-in answer"}
		if len(answer.Body) > 0 && answer.Status != 404 {
			looked.Row = answer.Body
		}
		return StandInReply{Effect: want.Effect{Looked: []want.Looked{looked}}}
	}
	effect, err := w.Do(v.tables)
	return outcome(effect, err, "in")
}

// rows finds what the settings of a step ask for, in the tables as they are.
func (v *virtual) rows(asked want.Asked, _ time.Time, _ map[string]want.Effect) StandInReply {
	effect, err := asked.Want.(*want.Rows).Do(v.tables)
	return outcome(effect, err, "settings")
}

// pair writes a row that stays in the rehearsal.
func (v *virtual) pair(asked want.Asked, _ time.Time, _ map[string]want.Effect) StandInReply {
	w := asked.Want.(*want.Pair)
	t, p, effect, err := w.Decide(v.tables)
	if err == nil {
		v.tables.Write(w.Table, t, p)
	}
	return outcome(effect, err, "in")
}

// outcome gives an effect, or the failure instead of it.
func outcome(effect want.Effect, err error, phase string) StandInReply {
	if err == nil {
		return StandInReply{Effect: effect}
	}
	var f *step.Failure
	if !errors.As(err, &f) {
		f = &step.Failure{Phase: phase, Class: step.Flow, Reason: err.Error()}
	}
	return StandInReply{Fail: f}
}

// remember tells a key that came before from one that did not.
func (v *virtual) remember(asked want.Asked, now time.Time, _ map[string]want.Effect) StandInReply {
	w := asked.Want.(*want.Once)
	key := GroupPath(asked.Path) + "\x00" + w.Key
	if until, ok := v.once[key]; ok && now.Before(until) {
		return StandInReply{Effect: want.Effect{Refused: "a message with the key " + w.Key + " came before"}}
	}
	v.once[key] = now.Add(w.For)
	return StandInReply{Effect: want.Effect{Said: "first"}}
}

// pace lets time pass until there is room.
func (v *virtual) pace(asked want.Asked, now time.Time, _ map[string]want.Effect) StandInReply {
	w := asked.Want.(*want.Pace)
	key := GroupPath(asked.Path) + "\x00" + w.Key
	at := w.Pace.Slot(v.paces[key], now)
	wait := at.Sub(now)
	if w.Pace.Within > 0 && wait > w.Pace.Within {
		return StandInReply{Fail: step.TooMany(w, wait)}
	}
	v.paces[key] = w.Pace.Went(v.paces[key], at)
	return StandInReply{Effect: want.Effect{Said: PaceSaid(wait), Over: wait > 0}}
}

// hold lets time pass, or looks whether the row is there.
func (v *virtual) hold(asked want.Asked, now time.Time, replies map[string]want.Effect) StandInReply {
	h := asked.Want.(*want.Hold)
	if h.Fits == nil {
		return StandInReply{Effect: want.Effect{Over: true, Said: HeldSaid(now, h.End(now))}}
	}
	if _, ok := replies[asked.Step]; ok {
		return StandInReply{Effect: want.Effect{Said: "the row is there"}}
	}
	fits, looked, err := h.Fits(v.tables)
	switch {
	case err != nil:
		return outcome(want.Effect{}, err, "until")
	case fits:
		return StandInReply{Effect: want.Effect{Said: "the row is there", Looked: []want.Looked{looked}}}
	}
	return StandInReply{Wait: "held until a row of " + h.Table + " fits"}
}

// HeldSaid tells how long a message is held.
func HeldSaid(from, until time.Time) string {
	if !until.After(from) {
		return "not held, the time has passed"
	}
	return "held for " + Span(until.Sub(from))
}

// PaceSaid tells how long a message waits for its turn at a pace.
func PaceSaid(wait time.Duration) string {
	if wait <= 0 {
		return "at once"
	}
	return "after " + Span(wait)
}

// Span gives a span of time in words that are short: 2h5m, 300ms.
func Span(d time.Duration) string {
	switch {
	case d >= time.Minute:
		d = d.Round(time.Second)
	case d >= time.Second:
		d = d.Round(10 * time.Millisecond)
	default:
		d = d.Round(time.Millisecond)
	}
	text := d.String()
	if strings.HasSuffix(text, "m0s") {
		text = strings.TrimSuffix(text, "0s")
	}
	if strings.HasSuffix(text, "h0m") {
		text = strings.TrimSuffix(text, "0m")
	}
	return text
}

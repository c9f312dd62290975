package run

import (
	"errors"
	"strings"
	"time"

	"readyferry/core/step"
	"readyferry/core/table"
)

// fromTables answers a want for tables where nothing is real: rows are found in
// the tables as they are, and what is written stays in the rehearsal.
func fromTables(want step.Want, tables *table.Scratch, replies map[string]step.Effect) StandInReply {
	effect, err := step.Effect{}, error(nil)
	given, ok := replies[want.Path]
	if !ok {
		given, ok = replies[want.Step]
	}
	switch {
	case ok && want.Kind == step.WantLookup:
		looked := step.Looked{Table: want.Target, Key: "the sample's stand-in answer"}
		if len(given.Body) > 0 && given.Status != 404 {
			looked.Row = given.Body
		}
		return StandInReply{Effect: step.Effect{Looked: []step.Looked{looked}}}
	case want.Kind == step.WantLookup:
		effect, err = want.Lookup.Do(tables)
	default:
		var t table.Table
		var p table.Pairing
		if t, p, effect, err = want.Pair.Decide(tables); err == nil {
			tables.Write(want.Pair.Table, t, p)
		}
	}
	if err == nil {
		return StandInReply{Effect: effect}
	}
	var f *step.Failure
	if !errors.As(err, &f) {
		f = &step.Failure{Phase: "in", Class: step.Flow, Reason: err.Error()}
	}
	return StandInReply{Fail: f}
}

// virtual is what a rehearsal keeps of steps that wait or remember.
type virtual struct {
	tables *table.Scratch
	once   map[string]time.Time // until when a key is remembered
	paces  map[string][]time.Time
}

// waits answers a want for time where nothing is real: time passes at once.
func (v *virtual) waits(want step.Want, now time.Time, replies map[string]step.Effect) StandInReply {
	path := GroupPath(want.Path)
	switch want.Kind {
	case step.WantOnce:
		key := path + "\x00" + want.Once.Key
		if until, ok := v.once[key]; ok && now.Before(until) {
			return StandInReply{Effect: step.Effect{Refused: "a message with the key " + want.Once.Key + " came before"}}
		}
		v.once[key] = now.Add(want.Once.For)
		return StandInReply{Effect: step.Effect{Said: "first"}}
	case step.WantPace:
		key := path + "\x00" + want.Paced.Key
		at := want.Paced.Pace.Slot(v.paces[key], now)
		wait := at.Sub(now)
		if w := want.Paced.Pace.Within; w > 0 && wait > w {
			return StandInReply{Fail: want.Paced.TooMany(wait)}
		}
		v.paces[key] = want.Paced.Pace.Went(v.paces[key], at)
		return StandInReply{Effect: step.Effect{Said: PaceSaid(wait), Over: wait > 0}}
	}
	h := want.Hold
	if h.Fits == nil {
		return StandInReply{Effect: step.Effect{Over: true, Said: HeldSaid(now, h.End(now))}}
	}
	if _, given := replies[want.Step]; given {
		return StandInReply{Effect: step.Effect{Said: "the row is there"}}
	}
	fits, looked, err := h.Fits(v.tables)
	switch {
	case err != nil:
		f := step.HoldFailure(err)
		if f == nil {
			f = &step.Failure{Phase: "until", Class: step.Flow, Reason: err.Error()}
		}
		return StandInReply{Fail: f}
	case fits:
		return StandInReply{Effect: step.Effect{Said: "the row is there", Looked: []step.Looked{looked}}}
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

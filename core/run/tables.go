package run

import (
	"errors"

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

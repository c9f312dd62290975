package erase

import (
	"context"
	"encoding/json"
	"errors"

	"readyferry/engine/journal"
)

// A value is taken out of all partitions of a fleet: each looks through what it has.

// BeginAll is Begin in all partitions.
func (e *Erasures) BeginAll(ctx context.Context, flow, value string, preview bool) error {
	if err := e.Begin(ctx, flow, value, preview); err != nil {
		return err
	}
	_, err := e.EverywhereDo(ctx, journal.Asked{What: journal.AskErase, Flow: flow, Value: value, Preview: preview})
	if err != nil {
		e.Stop()
	}
	return err
}

// StopAll is Stop in all partitions.
func (e *Erasures) StopAll(ctx context.Context) error {
	e.Stop()
	_, err := e.EverywhereDo(ctx, journal.Asked{What: journal.AskNoMore})
	return err
}

// NowAll says how it is going in all partitions together. One that does not answer is an error, as nobody knows what is left
// there.
func (e *Erasures) NowAll(ctx context.Context) View {
	all := e.Now()
	err := e.AskAll(ctx, journal.Asked{What: journal.AskErasing}, func(d journal.Done) error {
		var one View
		if err := json.Unmarshal(d.Said, &one); err != nil {
			return err
		}
		if one.Flow == all.Flow && one.Preview == all.Preview {
			all.add(&one)
		}
		return nil
	})
	if err != nil && all.State != "none" {
		all.State, all.Error = "failed", errors.Join(errors.New(all.Error), err).Error()
	}
	return all
}

// add adds what another partition says.
func (v *View) add(o *View) {
	v.Looked, v.Found, v.Erased, v.Left, v.Samples = v.Looked+o.Looked, v.Found+o.Found, v.Erased+o.Erased, v.Left+o.Left,
		v.Samples+o.Samples
	for _, state := range []string{"looking", "failed", "stopped"} { // the first of these counts
		if v.State == state {
			break
		}
		if o.State == state {
			v.State, v.Error = state, o.Error
			break
		}
	}
}

package intake

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"readyferry/connect"
	"readyferry/core/message"
	"readyferry/core/run"
	"readyferry/engine/catalog"
	"readyferry/engine/journal"
	"readyferry/store"
)

// A receiver takes the messages of an outside system for one flow. What it has
// taken is settled with the outside only behind the commit that stores it.
type receiver struct {
	*Intakes
	flow string
	stop context.CancelFunc
	of   *catalog.Flow // as it was when the receiver began
	conn *connect.Connection
}

// The pauses after which a receiver that failed begins anew: they grow.
const (
	firstPause   = time.Second
	longestPause = time.Minute
)

// startReceivers sets a receiver going for every live flow that reads an outside
// system, and ends those whose flow or connection is another now.
func (k *Intakes) startReceivers() {
	k.sources.starting.Lock()
	defer k.sources.starting.Unlock()
	now := k.Room()
	short := now.Short()
	reads := map[string]*catalog.Flow{}
	k.Catalog.Each(func(f *catalog.Flow) {
		if f.Live == nil || f.Paused || short {
			return
		}
		if s := k.Catalog.Systems().Find(f.Live.Document.Intake.Kind); s != nil && s.Intake != nil && k.runs(f) {
			reads[f.Name] = f
		}
	})
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.Life.Ending() {
		return
	}
	for name, r := range k.receivers {
		f := reads[name]
		if f == nil || f.Live != r.of.Live || k.Catalog.Connection(f.Live.Document.Intake.Of) != r.conn {
			r.stop()
			delete(k.receivers, name)
		}
	}
	for name, f := range reads {
		if k.receivers[name] != nil || k.moves(name) {
			continue
		}
		ctx, stop := context.WithCancel(k.Life.Taking())
		r := &receiver{Intakes: k, flow: name, stop: stop, of: f, conn: k.Catalog.Connection(f.Live.Document.Intake.Of)}
		k.receivers[name] = r
		before, ended := k.sources.ended[name], make(chan struct{})
		k.sources.ended[name] = ended
		k.Life.Go(func() {
			r.run(ctx)
			if before != nil {
				<-before
			}
			close(ended)
		})
	}
}

func (r *receiver) run(ctx context.Context) {
	for pause := firstPause; ctx.Err() == nil; pause = min(2*pause, longestPause) {
		began := r.Now()
		err := r.receive(ctx)
		if ctx.Err() != nil {
			return
		}
		if err == nil {
			err = errors.New("the system ended it")
		}
		r.Log.Error("receiving messages", "flow", r.flow, "error", err)
		r.note(ctx, err)
		if r.conn != nil {
			r.links.Pulses.Failed(r.conn.Name, connect.Inward, err.Error(), false, r.Now())
		}
		if r.Now().Sub(began) > longestPause {
			pause = firstPause // it has worked for a while
		}
		select {
		case <-ctx.Done():
		case <-time.After(pause):
		}
	}
}

func (r *receiver) receive(ctx context.Context) (err error) {
	defer func() {
		if p := recover(); p != nil {
			err = fmt.Errorf("the application failed over what came: %v", p)
		}
	}()
	in := &r.of.Live.Document.Intake
	if r.conn == nil {
		return fmt.Errorf("there is no connection named %s", in.Of)
	}
	link, err := r.links.Link(ctx, r.conn)
	if err != nil {
		return err
	}
	from, ok := link.(connect.Receiver)
	if !ok {
		return fmt.Errorf("nothing comes from the connection %s, which is of kind %s", r.conn.Name, r.conn.Kind)
	}
	mark := []byte(nil)
	if c, err := r.Store.Clock(r.flow); err == nil {
		mark = c.Mark
	} else if !errors.Is(err, store.ErrNotFound) {
		return err
	}
	return from.Receive(connect.WithTelling(ctx, connect.Telling{
		Flow:     r.flow,
		Ready:    func() { r.links.Pulses.Ready(r.conn.Name, connect.Inward, r.Now()) },
		Behind:   func(n int64) { r.links.Pulses.Behind(r.conn.Name, r.flow, n) },
		Answered: r.answered,
		Trouble: func(err error) {
			r.Log.Error("receiving messages", "flow", r.flow, "error", err)
			r.note(ctx, err)
			r.links.Pulses.Failed(r.conn.Name, connect.Inward, err.Error(), false, r.Now())
		},
	}), in.Settings, mark, r.take)
}

// take stores messages, with the mark behind them, in one database transaction.
func (r *receiver) take(ctx context.Context, list []connect.Arrival) (taken []connect.Taken, err error) {
	in := &r.of.Live.Document.Intake
	if err := r.paced(ctx, r.of); err != nil {
		return nil, err
	}
	err = r.Do(ctx, r.flow, func(s *journal.Session) error {
		taken = make([]connect.Taken, len(list))
		mark, n := []byte(nil), 0
		for _, a := range list {
			if a.Mark != nil {
				mark = a.Mark
			}
			headers, err := json.Marshal(orEmpty(a.Headers))
			if err != nil {
				return err
			}
			arrival := journal.Arrival{Headers: headers, Body: a.Body, Source: in.Kind + " " + r.conn.Name, ID: a.ID,
				Refused: a.Refused}
			if err := s.Take(r.of, arrival, nil, nil); err != nil {
				return err
			}
			n++
		}
		s.Then(func(tx *store.Tx, notice *journal.Notice) error {
			c, err := tx.Clock(r.flow)
			if err != nil && !errors.Is(err, store.ErrNotFound) {
				return err
			}
			now := r.Now()
			c.Flow, c.LastAt = r.flow, &now
			c.Failed(nil, now)
			c.Taken += int64(n)
			if mark != nil {
				c.Mark = mark
			}
			notice.Events[journal.EventFlows] = true
			return tx.SaveClock(&c)
		})
		return nil
	})
	if err == nil {
		r.links.Pulses.Through(r.conn.Name, connect.Inward, len(list), r.Now())
		bytes := int64(0)
		for _, a := range list {
			bytes += int64(len(a.Body))
		}
		r.came(r.of, len(list), bytes)
	}
	return taken, err
}

// answered takes one message whose sender waits, as a webhook does.
func (r *receiver) answered(ctx context.Context, a connect.Arrival, stored func()) (connect.Answer, error) {
	if err := errors.Join(r.stopping(), r.paced(ctx, r.of)); err != nil {
		return connect.Answer{}, err
	}
	r.came(r.of, 1, int64(len(a.Body)))
	t := &taking{
		Intakes: r.Intakes, in: &Intake{Flow: r.flow, version: r.of.Version, plan: r.of.Live, trial: r.trial()}, id: store.NewID(), called: a.ID,
		envelope: run.Envelope{ReceivedAt: r.Now(), Headers: orEmpty(a.Headers), Params: []message.Header{}, Query: []message.Header{},
			Body: a.Body},
		source: r.of.Live.Document.Intake.Kind + " " + r.conn.Name,
	}
	said, err := t.accept(ctx, func() {
		r.links.Pulses.Through(r.conn.Name, connect.Inward, 1, r.Now())
		stored()
	})
	var refused *run.RefusedError
	if errors.As(err, &refused) {
		said, err = run.RefusalAnswer(refused), nil
	}
	if err != nil {
		return connect.Answer{}, err
	}
	return connect.Answer{Status: said.Status, Headers: said.Headers, Body: said.Body}, nil
}

func orEmpty(h []message.Header) []message.Header {
	out := slices.Clone(h)
	if out == nil {
		out = []message.Header{}
	}
	slices.SortStableFunc(out, func(a, b message.Header) int { return strings.Compare(a.Name, b.Name) })
	return out
}

// note keeps why a receiver fails, where people see it.
func (r *receiver) note(ctx context.Context, failed error) {
	err := r.Store.Write(ctx, func(tx *store.Tx) error {
		c, err := tx.Clock(r.flow)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return err
		}
		c.Flow = r.flow
		c.Failed(failed, r.Now())
		return tx.SaveClock(&c)
	})
	if err != nil && ctx.Err() == nil {
		r.Log.Error("keeping why a flow receives nothing", "flow", r.flow, "error", err)
	}
	r.Announce(journal.EventFlows)
}

// trial is the version that takes a share of what is received; nil for none, or where another
// version is live than that which receives.
func (r *receiver) trial() *catalog.Trial {
	if f := r.Catalog.Flow(r.flow); f != nil && f.Live == r.of.Live {
		return f.Trial
	}
	return nil
}

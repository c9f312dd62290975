package journal

import (
	"context"
	"errors"
	"sync"

	"readyferry/core/run"
	"readyferry/core/step"
	"readyferry/store"
)

// woken are the transactions that others have brought something about for, and
// that are to be walked. The file knows them all (Transaction.ToWalk); in memory
// there are some of each flow, and whether there are more.
type woken struct {
	j  *Journal
	mu sync.Mutex
	of map[string]*wokenFlow
}

type wokenFlow struct {
	ids     []store.ID
	known   map[store.ID]bool // in ids, or worked on
	more    bool              // the file has others
	running int
}

// How many transactions of a flow are remembered, and how many are worked on at
// once: their walks share the flow's share, and their commits each other's.
const (
	wokenKept   = 1024
	wokenAtOnce = 16
)

func newWoken(j *Journal) *woken { return &woken{j: j, of: map[string]*wokenFlow{}} }

// start finds those that an earlier process has left.
func (k *woken) start() error {
	flows, err := k.j.Store.FlowsToWalk()
	if err != nil {
		return err
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	for _, f := range flows {
		k.flow(f).more = true
		k.work(f)
	}
	return nil
}

func (k *woken) flow(name string) *wokenFlow {
	f := k.of[name]
	if f == nil {
		f = &wokenFlow{known: map[store.ID]bool{}}
		k.of[name] = f
	}
	return f
}

func (k *woken) add(flow string, id store.ID) {
	k.mu.Lock()
	defer k.mu.Unlock()
	f := k.flow(flow)
	switch {
	case f.known[id]: // it is worked on, and what it has not seen makes it stale or is seen behind it
		f.more = true
	case len(f.ids) >= wokenKept:
		f.more = true
	default:
		f.ids, f.known[id] = append(f.ids, id), true
	}
	k.work(flow)
}

// work begins workers of a flow as far as there is work; mu is held.
func (k *woken) work(flow string) {
	f := k.of[flow]
	for f.running < wokenAtOnce && (f.running < len(f.ids) || f.running == 0 && f.more) && !k.j.Life.Over() {
		f.running++
		k.j.Life.Go(func() { k.run(flow, f) })
	}
}

func (k *woken) run(flow string, f *wokenFlow) {
	for {
		id, ok := k.take(flow, f)
		if !ok {
			return
		}
		err := k.j.Advance(k.j.Life.Context(), flow, id)
		var refused *run.RefusedError
		switch {
		case errors.As(err, &refused):
			err = k.j.Lost(id, step.Failure{Kind: "intake", Phase: "intake", Class: step.Data, Reason: refused.Error()})
		default:
			if f := CannotGoOn(err); f != nil {
				err = k.j.Lost(id, *f)
			}
		}
		if err != nil && !k.j.Life.Over() {
			k.j.Log.Error("taking a transaction on", "transaction", id, "error", err)
		}
		k.mu.Lock()
		delete(f.known, id)
		k.mu.Unlock()
	}
}

// take gives the next transaction of a flow, or ends the worker.
func (k *woken) take(flow string, f *wokenFlow) (id store.ID, ok bool) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if len(f.ids) == 0 && f.more {
		k.refill(flow, f)
	}
	if len(f.ids) == 0 || k.j.Life.Over() {
		f.running--
		return id, false
	}
	id, f.ids = f.ids[0], f.ids[1:]
	return id, true
}

// refill reads others from the file; mu is held.
func (k *woken) refill(flow string, f *wokenFlow) {
	f.more = false
	ids, err := k.j.Store.ToWalk(flow, wokenKept)
	if err != nil {
		if !k.j.Life.Over() {
			k.j.Log.Error("looking for transactions that go on", "flow", flow, "error", err)
		}
		return
	}
	for _, id := range ids {
		if !f.known[id] {
			f.ids, f.known[id] = append(f.ids, id), true
		}
	}
	f.more = len(ids) == wokenKept
}

// Unreadable is the failure of a transaction whose version can no longer be read.
func Unreadable(err error) step.Failure {
	return step.Failure{
		Kind: "intake", Phase: "version", Class: step.Flow,
		Reason: err.Error() + "; what it had done until then is kept, and it can be sent again under the live version",
	}
}

// Lost makes a dead letter of a transaction that is to be walked and cannot be.
func (j *Journal) Lost(id store.ID, f step.Failure) error {
	return j.Write(context.WithoutCancel(j.Life.Context()), func(tx *store.Tx, n *Notice) error {
		w, err := j.Open(tx, n, id)
		if err != nil || !w.T.ToWalk {
			return err
		}
		w.T.ToWalk = false
		if err := w.Fails(f); err != nil {
			return err
		}
		return w.Settle()
	})
}

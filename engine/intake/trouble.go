package intake

import (
	"errors"
	"maps"
	"slices"
	"sync"
	"time"

	"readyferry/engine/journal"
	"readyferry/store"
)

// troubled notes that the source of a flow fails, or with nil that it works again:
// where people see it, with since when and why. It is written when that changes, and
// not more often than people could read it.
func (k *Intakes) troubled(flow string, failed error) {
	k.mu.Lock()
	was := k.troubles[flow]
	now := k.Now()
	text := ""
	if failed != nil {
		text = failed.Error()
	}
	if was.why == text && (text == "" || now.Sub(was.at) < troubleEvery) {
		k.mu.Unlock()
		return
	}
	k.troubles[flow] = trouble{text, now}
	k.mu.Unlock()
	err := k.Store.Write(k.Life.Taking(), func(tx *store.Tx) error {
		c, err := tx.Clock(flow)
		if errors.Is(err, store.ErrNotFound) && failed == nil {
			return nil
		}
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return err
		}
		if failed == nil && c.Error == "" {
			return nil
		}
		c.Flow = flow
		c.Failed(failed, now)
		return tx.SaveClock(&c)
	})
	if err != nil && !k.Life.Ending() {
		k.Log.Error("noting that a source fails", "flow", flow, "error", err)
	}
	k.Announce(journal.EventFlows)
}

// trouble is what was noted last of a source.
type trouble struct {
	why string
	at  time.Time
}

const troubleEvery = 30 * time.Second

// Refusal is a call that was not let in, because its caller did not prove who it is.
type Refusal struct {
	At     time.Time `json:"at"`
	Flow   string    `json:"flow"`
	Method string    `json:"method"`
	Path   string    `json:"path"`
	From   string    `json:"from"` // the address that it came from
	Why    string    `json:"why"`
}

// keptRefusals is how many refusals are kept; older ones are counted alone.
const keptRefusals = 200

// refusals remember who was not let in since the application began: the last ones
// with what they asked for, and all of them as counts. Nothing of it is on disk, so
// that nobody can fill it from outside.
type refusals struct {
	run    store.ID // tells this engine from those before it
	mu     sync.Mutex
	last   []Refusal
	counts map[string]int64 // by flow
	others map[int]*refusedElsewhere
}

// refusedElsewhere is what another partition has refused. Where another member leads it it counts anew.
type refusedElsewhere struct {
	Refused
	before map[string]int64 // of those that led it before
}

// Refused is what an engine has refused since it began.
type Refused struct {
	Run    store.ID         // of the engine
	Counts map[string]int64 // by flow
	Last   []Refusal        // the newest last; nothing where they are known
}

// all counts what was refused. The lock is held by whoever may change it.
func (r *Refused) all() (n int64) {
	for _, of := range r.Counts {
		n += of
	}
	return n
}

// beyond gives what was refused here to who knows of so many by a run; the calls only where there are more.
func (r *refusals) beyond(run store.ID, known int64) Refused {
	r.mu.Lock()
	defer r.mu.Unlock()
	out := Refused{Run: r.run, Counts: maps.Clone(r.counts)}
	if run != r.run || known != out.all() {
		out.Last = slices.Clone(r.last)
	}
	return out
}

// known gives what is known of another partition.
func (r *refusals) known(part int) (run store.ID, n int64) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if is := r.others[part]; is != nil {
		run, n = is.Run, is.all()
	}
	return run, n
}

// hear takes in what another partition says of itself.
func (r *refusals) hear(part int, now Refused) {
	if now.Run == (store.ID{}) { // an earlier release does not say
		return
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.others == nil {
		r.others = map[int]*refusedElsewhere{}
	}
	is := r.others[part]
	if is == nil {
		is = &refusedElsewhere{before: map[string]int64{}}
		r.others[part] = is
	}
	if is.Run != now.Run {
		for flow, n := range is.Counts {
			is.before[flow] += n
		}
	}
	is.Run, is.Counts = now.Run, now.Counts
	if len(now.Last) > 0 {
		is.Last = now.Last
	}
}

func (r *refusals) add(one Refusal) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.counts[one.Flow]++
	if r.last = append(r.last, one); len(r.last) > keptRefusals {
		r.last = append(r.last[:0:0], r.last[len(r.last)-keptRefusals:]...)
	}
}

// Refusals gives the calls that were not let in since the application began, in any partition, the
// newest first, and how many they were by flow.
func (k *Intakes) Refusals() (last []Refusal, counts map[string]int64) {
	r := &k.refused
	r.mu.Lock()
	defer r.mu.Unlock()
	last, counts = slices.Clone(r.last), maps.Clone(r.counts)
	for _, o := range r.others {
		last = append(last, o.Last...)
		for _, some := range []map[string]int64{o.Counts, o.before} {
			for flow, n := range some {
				counts[flow] += n
			}
		}
	}
	slices.SortStableFunc(last, func(a, b Refusal) int { return a.At.Compare(b.At) })
	last = last[max(0, len(last)-keptRefusals):]
	slices.Reverse(last)
	return last, counts
}

package intake

import (
	"errors"
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
	mu     sync.Mutex
	last   []Refusal
	counts map[string]int64 // by flow
}

func (r *refusals) add(one Refusal) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.counts[one.Flow]++
	if r.last = append(r.last, one); len(r.last) > keptRefusals {
		r.last = append(r.last[:0:0], r.last[len(r.last)-keptRefusals:]...)
	}
}

// Refusals gives the calls that were not let in since the application began, the
// newest first, and how many they were by flow.
func (k *Intakes) Refusals() (last []Refusal, counts map[string]int64) {
	r := &k.refused
	r.mu.Lock()
	defer r.mu.Unlock()
	counts = map[string]int64{}
	for flow, n := range r.counts {
		counts[flow] = n
	}
	for i := len(r.last) - 1; i >= 0; i-- {
		last = append(last, r.last[i])
	}
	return last, counts
}

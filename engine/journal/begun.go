package journal

import (
	"sync"
	"time"

	"readyferry/core/plan"
	"readyferry/core/want"
	"readyferry/store"
)

// begun keeps what the walks of messages under way began with, decoded: when a try has
// ended the walk is done again, and the message need not be read again for it. A message
// never changes; a repaired one has another number.
type begun struct {
	mu    sync.Mutex
	all   map[store.ID]*begunOnce
	order []store.ID
	bytes int
}

// begunOnce is one message under a plan.
type begunOnce struct {
	Begun
	plan *plan.Plan
	took time.Duration // to read and walk it
	ends bool          // nothing comes behind its deliveries
	size int
}

// What is held in memory of messages under way, decoded: so many at most, and so many
// bytes of them as they came. A tree takes about ten times as much.
const (
	mostBegun      = 4096
	mostBegunBytes = 4 << 20
)

// quick is how long a walk may take that is done while others of its flow wait: a try is
// stored with it, and nothing that has come may be kept waiting.
const quick = 2 * time.Millisecond

func newBegun() *begun { return &begun{all: map[store.ID]*begunOnce{}} }

func (b *begun) put(id store.ID, one *begunOnce) {
	one.size = len(one.Envelope.Body)
	if one.size > mostBegunBytes/16 {
		return
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	b.remove(id)
	b.all[id], b.order = one, append(b.order, id)
	b.bytes += one.size
	for len(b.all) > mostBegun || b.bytes > mostBegunBytes {
		b.remove(b.order[0])
		b.order = b.order[1:]
	}
	if len(b.order) > 2*mostBegun { // most of these have ended
		kept := b.order[:0]
		for _, id := range b.order {
			if b.all[id] != nil {
				kept = append(kept, id)
			}
		}
		b.order = kept
	}
}

func (b *begun) remove(id store.ID) {
	if one := b.all[id]; one != nil {
		b.bytes -= one.size
		delete(b.all, id)
	}
}

func (b *begun) get(id store.ID) *begunOnce {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.all[id]
}

func (b *begun) drop(id store.ID) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.remove(id)
}

// Quick tells whether a transaction's walk is at hand and takes no time to speak of.
func (j *Journal) Quick(id store.ID) bool {
	one := j.begun.get(id)
	return one != nil && one.took < quick
}

// ends tells whether nothing follows from the deliveries of a new transaction but its end.
func (v *Move) ends() bool {
	t := &v.Tx
	return v.result.Ends && len(v.waits) == 0 && t.Parent == nil && t.Caller == nil && t.OfLetter == nil && !t.FromGroup
}

// Ends tells whether a transaction is at its end when its deliveries are through, as it has
// been since it began.
func (j *Journal) Ends(id store.ID) bool {
	one := j.begun.get(id)
	return one != nil && one.ends
}

// HearsLast records what the delivery of a transaction came to behind which nothing comes.
// It gives ErrStale where that is no longer so.
func (w *Writing) HearsLast(effect store.Effect) error {
	if t := w.T; !w.Tx.AtHand(t.ID) || t.ToWalk || t.Gathered > 0 {
		return ErrStale
	}
	return w.record(effect)
}

// remember keeps what a new transaction has begun with, where it waits for deliveries.
func (v *Move) remember(in *Arrived, took time.Duration) {
	for _, asked := range v.result.Wants {
		if _, sends := asked.Want.(*want.Send); sends {
			b := v.Begun
			b.Envelope = in.Envelope
			b.input.Effects = nil
			v.Session.begun.put(v.Tx.ID, &begunOnce{Begun: b, plan: v.Plan, took: took, ends: v.ends()})
			return
		}
	}
}

// again gives what a walk over a transaction begins with, where it is at hand.
func (s *Session) again(t *store.Transaction, m *store.Message, p *plan.Plan) (Begun, bool, error) {
	one := s.begun.get(t.ID)
	if one == nil || one.plan != p || m.N != 0 {
		return Begun{}, false, nil
	}
	rows, err := s.Store.Effects(t.ID)
	if err != nil {
		return Begun{}, false, err
	}
	b := one.Begun
	b.input.Effects, err = decodeEffects(rows)
	return b, err == nil, err
}

// Held tells what the journal holds in memory.
func (j *Journal) Held() []store.InMemory {
	j.begun.mu.Lock()
	defer j.begun.mu.Unlock()
	return []store.InMemory{
		{What: "decoded messages", N: int64(len(j.begun.all)), Most: mostBegun},
		{What: "bytes of decoded messages", N: int64(j.begun.bytes), Most: mostBegunBytes},
	}
}

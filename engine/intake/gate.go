package intake

import (
	"bytes"
	"context"
	"fmt"
	"sync/atomic"
	"time"

	"golang.org/x/sync/semaphore"

	"readyferry/core/run"
	"readyferry/store"
)

// A gate bounds how much is read and worked on at once, in bytes of memory as they are
// estimated: a small text may hold many values, and each takes a hundred times the
// place of the comma before it. Who comes when it is full waits in turn for a while,
// and is then told to come again.
type gate struct {
	room *semaphore.Weighted
	size int64
	held atomic.Int64 // bytes that are in
}

// gateSize is how much the gate lets in at once, in bytes.
const gateSize = 384 << 20

// gatePatience is how long somebody waits at the gate.
const gatePatience = 5 * time.Second

func newGate() *gate { return &gate{room: semaphore.NewWeighted(gateSize), size: gateSize} }

// Enter waits for room for a document; leave gives it back. The error is a
// *run.RefusedError that says to come again, or that of ctx.
func (k *Intakes) Enter(ctx context.Context, document []byte) (leave func(), err error) {
	return k.gate.enter(ctx, document, gatePatience)
}

func (g *gate) enter(ctx context.Context, document []byte, patience time.Duration) (leave func(), err error) {
	need := min(weight(document), g.size) // the largest goes alone
	if !g.room.TryAcquire(need) {
		waiting, stop := context.WithTimeout(ctx, patience)
		defer stop()
		if g.room.Acquire(waiting, need) != nil {
			if ctx.Err() != nil {
				return nil, ctx.Err()
			}
			return nil, &run.RefusedError{
				Status: 429,
				Title:  "Too much is being read at once",
				Detail: fmt.Sprintf("nothing was stored; the body would need about %d MiB to be worked on, and others "+
					"have the room; send it again a little later", need>>20),
			}
		}
	}
	g.held.Add(need)
	return func() {
		g.held.Add(-need)
		g.room.Release(need)
	}, nil
}

// What a value and a byte of text are taken to need, in bytes: a decoded value with its
// name and what the format keeps of it, and the text as it is kept, cut up and written.
const (
	valueNeeds = 260
	byteNeeds  = 4
)

// separators stand between values, in one format or another.
var separators = []string{",", ":", "<", "=", "|", "^", "~", "&", "\n", "["}

// weight estimates what a document needs, in bytes, without reading it.
func weight(document []byte) int64 {
	values := 0
	for _, s := range separators {
		values += bytes.Count(document, []byte(s))
	}
	return 4096 + int64(values)*valueNeeds + int64(len(document))*byteNeeds
}

// Held tells what the intakes hold in memory.
func (k *Intakes) Held() []store.InMemory {
	k.mu.Lock()
	waiting := len(k.expected)
	k.mu.Unlock()
	k.refused.mu.Lock()
	refused := len(k.refused.last)
	k.refused.mu.Unlock()
	return []store.InMemory{
		{What: "bytes that are read and worked on", N: k.gate.held.Load(), Most: gateSize},
		{What: "callers who wait for an end", N: int64(waiting), Most: mostExpected},
		{What: "calls that were not let in", N: int64(refused), Most: keptRefusals},
	}
}

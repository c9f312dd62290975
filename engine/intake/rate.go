package intake

import (
	"context"
	"fmt"
	"sync"
	"time"

	"readyferry/core/flow"
	"readyferry/core/run"
	"readyferry/engine/catalog"
)

// flowRates bound how much each flow takes in. Who calls is told when to come again; whoever
// fetches messages waits before it takes the next.
type flowRates struct {
	mu  sync.Mutex
	all map[string]*catalog.Rate
}

func newFlowRates() *flowRates { return &flowRates{all: map[string]*catalog.Rate{}} }

// of gives the rate of a flow; nil where nothing bounds it.
func (r *flowRates) of(name string, b flow.Bounds) *catalog.Rate {
	if b == (flow.Bounds{}) {
		return nil
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if had := r.all[name]; had != nil && had.Bounds == b {
		return had
	}
	r.all[name] = catalog.NewRate(b)
	return r.all[name]
}

// within refuses a message that comes too soon behind others of its flow.
func (k *Intakes) within(in *Intake, body []byte) error {
	b := in.plan.Document.Bounds
	if after := k.rates.of(in.Flow, b).Take(int64(len(body)), time.Now()); after > 0 {
		return &run.RefusedError{
			Status:     429,
			Title:      "The flow takes no more just now",
			Detail:     fmt.Sprintf("%s takes %s; nothing was stored, send it again later", in.Flow, bounds(b)),
			RetryAfter: after,
		}
	}
	return nil
}

// bounds says in words what bounds a flow.
func bounds(b flow.Bounds) string {
	switch {
	case b.PerSecond > 0 && b.Bytes > 0:
		return fmt.Sprintf("%d messages and %s a second", b.PerSecond, size(b.Bytes))
	case b.PerSecond > 0:
		return fmt.Sprintf("%d messages a second", b.PerSecond)
	}
	return size(b.Bytes) + " a second"
}

// paced waits until a flow may take messages again.
func (k *Intakes) paced(ctx context.Context, f *catalog.Flow) error {
	wait := k.rates.of(f.Name, f.Live.Document.Bounds).Wait(time.Now())
	if wait <= 0 {
		return nil
	}
	select {
	case <-time.After(wait):
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// came notes what a flow has taken.
func (k *Intakes) came(f *catalog.Flow, messages int, bytes int64) {
	k.rates.of(f.Name, f.Live.Document.Bounds).Spend(messages, bytes, time.Now())
}

// mostAtOnce is how many messages a flow may take in one go, of those that stand ready.
func mostAtOnce(f *catalog.Flow, most int) int {
	if n := f.Live.Document.Bounds.PerSecond; n > 0 {
		return min(most, n)
	}
	return most
}

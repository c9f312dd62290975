package journal

import (
	"context"
	"sync"
)

// Life is how long an engine lives: its work runs as goroutines that end with it.
type Life struct {
	ctx    context.Context
	stop   context.CancelFunc
	taking context.Context
	refuse context.CancelFunc
	mu     sync.Mutex
	work   sync.WaitGroup
}

// NewLife begins a life.
func NewLife() *Life {
	l := &Life{}
	l.ctx, l.stop = context.WithCancel(context.Background())
	l.taking, l.refuse = context.WithCancel(l.ctx)
	return l
}

// Context ends when the engine stops.
func (l *Life) Context() context.Context { return l.ctx }

// Closing is closed when the application is about to stop: who waits for something
// that may take long tells so and ends. Work goes on until Context ends.
func (l *Life) Closing() <-chan struct{} { return l.taking.Done() }

// Close says that the end is near.
func (l *Life) Close() { l.refuse() }

// Taking ends when the application is about to stop: until then new work is taken on. What
// is under way goes on until Context ends.
func (l *Life) Taking() context.Context { return l.taking }

// Ending tells whether no new work is taken on.
func (l *Life) Ending() bool { return l.taking.Err() != nil }

// Over tells whether the engine stops.
func (l *Life) Over() bool { return l.ctx.Err() != nil }

// Go starts work that ends when Context does. Once the engine stops, nothing
// more begins; began tells whether it did.
func (l *Life) Go(work func()) (began bool) {
	l.mu.Lock() // so that End waits for all that began
	defer l.mu.Unlock()
	if l.Over() {
		return false
	}
	l.work.Go(work)
	return true
}

// End ends it and waits for its work.
func (l *Life) End() {
	l.Close()
	l.mu.Lock()
	l.stop()
	l.mu.Unlock()
	l.work.Wait()
}

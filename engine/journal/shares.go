package journal

import (
	"context"
	"runtime"
	"sync"
)

// shares bound how much of the machine the walks of one flow may take: all
// processors but one, and one at the least. A flow at its limits then leaves a
// processor to everything else, and what waits for its share waits for walks of
// its own flow alone.
type shares struct {
	each int
	mu   sync.Mutex
	of   map[string]chan struct{}
}

func newShares() *shares {
	return &shares{each: max(1, runtime.GOMAXPROCS(0)-1), of: map[string]chan struct{}{}}
}

func (s *shares) share(flow string) chan struct{} {
	s.mu.Lock()
	defer s.mu.Unlock()
	c := s.of[flow]
	if c == nil {
		c = make(chan struct{}, s.each)
		s.of[flow] = c
	}
	return c
}

// take waits for a place in the flow's share; release gives it back.
func (s *shares) take(ctx context.Context, flow string) (release func(), err error) {
	c := s.share(flow)
	select {
	case c <- struct{}{}:
		return func() { <-c }, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// busy tells whether a walk of a flow would have to wait.
func (s *shares) busy(flow string) bool {
	c := s.share(flow)
	return len(c) == cap(c)
}

// Busy tells whether a walk of a flow would have to wait for others of it.
func (j *Journal) Busy(flow string) bool { return j.shares.busy(flow) }

package journal

import (
	"context"
	"runtime"
	"sync"
	"time"
)

// shares bound how much of the machine the walks of one flow may take: all
// processors but one, and one at the least. A flow at its limits then leaves a
// processor to everything else, and what waits for its share waits for walks of
// its own flow alone.
//
// Walks that take no time to speak of are let in more at once: they leave the processor
// again before anybody has waited for it, and a share would only make them stand in line.
type shares struct {
	each, wide int
	mu         sync.Mutex
	of         map[string]*share
}

// share is that of one flow.
type share struct {
	narrow, wide chan struct{}
	mu           sync.Mutex
	usual        time.Duration // how long its walks take, of late
}

func newShares() *shares {
	n := runtime.GOMAXPROCS(0)
	return &shares{each: max(1, n-1), wide: 8 * n, of: map[string]*share{}}
}

func (s *shares) share(flow string) *share {
	s.mu.Lock()
	defer s.mu.Unlock()
	c := s.of[flow]
	if c == nil {
		c = &share{narrow: make(chan struct{}, s.each), wide: make(chan struct{}, s.wide), usual: quick}
		s.of[flow] = c
	}
	return c
}

// places are those that a walk of the flow takes one of.
func (s *share) places() chan struct{} {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.usual < quick {
		return s.wide
	}
	return s.narrow
}

// learn notes how long a walk took. One that took long counts at once; it takes some quick
// ones until the flow counts as quick again.
func (s *share) learn(took time.Duration) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.usual = max(s.usual+(took-s.usual)/16, min(took, 8*quick)/2)
}

// take waits for a place in the flow's share; release gives it back.
func (s *shares) take(ctx context.Context, flow string) (release func(), err error) {
	c := s.share(flow)
	places := c.places()
	select {
	case places <- struct{}{}:
		began := time.Now()
		return func() {
			<-places
			c.learn(time.Since(began))
		}, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// busy tells whether a walk of a flow would have to wait.
func (s *shares) busy(flow string) bool {
	places := s.share(flow).places()
	return len(places) == cap(places)
}

// Busy tells whether a walk of a flow would have to wait for others of it.
func (j *Journal) Busy(flow string) bool { return j.shares.busy(flow) }

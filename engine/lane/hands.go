package lane

import "time"

// hands do work on goroutines that have worked before, where some are free: their stacks
// have grown to what the work needs.
type hands struct {
	begin func(work func()) bool // begins a goroutine, unless it is too late
	over  <-chan struct{}
	work  chan func()
}

// rest is how long a hand waits for other work.
const rest = 10 * time.Second

func newHands(begin func(work func()) bool, over <-chan struct{}) *hands {
	return &hands{begin, over, make(chan func())}
}

// do has something done; begun tells that it is.
func (h *hands) do(work func()) (begun bool) {
	select {
	case h.work <- work:
		return true
	default:
		return h.begin(func() { h.run(work) })
	}
}

func (h *hands) run(work func()) {
	timer := time.NewTimer(rest)
	defer timer.Stop()
	for {
		work()
		timer.Reset(rest)
		select {
		case work = <-h.work:
		case <-timer.C:
			return
		case <-h.over:
			return
		}
	}
}

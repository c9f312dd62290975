package perform

import (
	"sync"
)

// waiting are those outside who wait for a message of a queue or topic. The zero value is
// ready.
type waiting struct {
	mu  sync.Mutex
	all map[string]map[chan struct{}]bool
}

func (w *waiting) enter(channel string) chan struct{} {
	c := make(chan struct{}, 1)
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.all == nil {
		w.all = map[string]map[chan struct{}]bool{}
	}
	if w.all[channel] == nil {
		w.all[channel] = map[chan struct{}]bool{}
	}
	w.all[channel][c] = true
	return c
}

func (w *waiting) leave(channel string, c chan struct{}) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if delete(w.all[channel], c); len(w.all[channel]) == 0 {
		delete(w.all, channel)
	}
}

func (w *waiting) wake(channel string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for c := range w.all[channel] {
		select {
		case c <- struct{}{}:
		default:
		}
	}
}

package watch

import (
	"slices"
	"sort"
	"sync"
	"time"
)

// settle is how long changes are gathered before listeners hear of them.
const settle = 200 * time.Millisecond

// Hub tells listeners what kinds of thing have changed. Changes that come
// close together are told once, so a busy engine costs a listener nothing.
type Hub struct {
	mu        sync.Mutex
	changed   map[string]bool
	armed     bool
	closed    bool
	listeners map[chan []string]bool
}

func newHub() *Hub {
	return &Hub{changed: map[string]bool{}, listeners: map[chan []string]bool{}}
}

// Publish tells that something of a topic has changed.
func (h *Hub) Publish(topic string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.closed || len(h.listeners) == 0 {
		return
	}
	h.changed[topic] = true
	if !h.armed {
		h.armed = true
		time.AfterFunc(settle, h.flush)
	}
}

func (h *Hub) flush() {
	h.mu.Lock()
	defer h.mu.Unlock()
	topics := make([]string, 0, len(h.changed))
	for t := range h.changed {
		topics = append(topics, t)
	}
	sort.Strings(topics)
	h.changed, h.armed = map[string]bool{}, false
	for l := range h.listeners {
		word := topics
		select {
		case unread := <-l: // it has not read the last word yet: what that says is said again
			word = slices.Compact(slices.Sorted(slices.Values(append(slices.Clone(unread), topics...))))
		default:
		}
		l <- word // nobody else sends, so there is room
	}
}

// Listen gives a channel of changed topics; cancel ends it.
func (h *Hub) Listen() (changes <-chan []string, cancel func()) {
	l := make(chan []string, 1)
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.closed {
		close(l)
		return l, func() {}
	}
	h.listeners[l] = true
	return l, func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		if h.listeners[l] {
			delete(h.listeners, l)
			close(l)
		}
	}
}

func (h *Hub) close() {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.closed = true
	for l := range h.listeners {
		close(l)
	}
	h.listeners = map[chan []string]bool{}
}

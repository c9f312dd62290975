package connect

import (
	"context"
	"errors"
	"sync"
)

// Opener opens connections: a Registry does.
type Opener interface {
	Open(ctx context.Context, c *Connection) (Link, error)
}

// Links keeps connections open, one for each, and opens one anew when its
// document or its secrets have changed. It is safe for concurrent use.
type Links struct {
	// Late is told of answers that came late or a second time, where it is not nil.
	// It must be set before the first link is opened.
	Late   func(connection, id string, r Receipt)
	Pulses Pulses // how each connection is
	opener Opener
	mu     sync.Mutex
	open   map[string]*opened
}

type opened struct {
	mu   sync.Mutex // held while it opens: who else wants it waits for that
	conn *Connection
	link Link
}

// NewLinks makes an empty set.
func NewLinks(o Opener) *Links { return &Links{opener: o, open: map[string]*opened{}} }

// Link gives the open link of a connection.
func (l *Links) Link(ctx context.Context, c *Connection) (Link, error) {
	l.mu.Lock()
	o := l.open[c.Name]
	if o == nil {
		o = &opened{}
		l.open[c.Name] = o
	}
	l.mu.Unlock()
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.link != nil {
		if o.conn == c || o.conn.Same(c) {
			o.conn = c
			return o.link, nil
		}
		l.Pulses.Forget(c.Name)
		_ = o.link.Close() // what is under way on it ends with an error, and is tried again
		o.link = nil
	}
	link, err := l.opener.Open(ctx, c)
	if err != nil {
		return nil, err
	}
	if h, hears := link.(Hearer); hears && l.Late != nil {
		h.OnLate(func(id string, r Receipt) { l.Late(c.Name, id, r) })
	}
	o.conn, o.link = c, link
	return link, nil
}

// Close closes all links.
func (l *Links) Close() error {
	l.mu.Lock()
	defer l.mu.Unlock()
	var errs []error
	for name, o := range l.open {
		o.mu.Lock()
		if o.link != nil {
			errs = append(errs, o.link.Close())
		}
		o.mu.Unlock()
		delete(l.open, name)
	}
	return errors.Join(errs...)
}

package folder

import (
	"fmt"
	"io"
	"sync"
	"sync/atomic"
	"time"
)

// patience is a tree that is closed when one thing that it is asked for takes too long: the
// clients of several protocols wait for ever.
type patience struct {
	Tree
	limit time.Duration
	late  atomic.Bool
}

func patient(t Tree, limit time.Duration) Tree { return &patience{Tree: t, limit: limit} }

// begin lets something take its time; done ends that, and says whether it took longer.
func (p *patience) begin() (more func(), done func(err *error)) {
	timer := time.AfterFunc(p.limit, func() {
		p.late.Store(true)
		_ = p.Tree.Close()
	})
	return func() { timer.Reset(p.limit) }, func(err *error) {
		timer.Stop()
		if *err != nil && p.late.Load() {
			*err = fmt.Errorf("nothing came within %s", p.limit)
		}
	}
}

// List implements Tree.
func (p *patience) List(dir string, most int) (out []Info, err error) {
	_, done := p.begin()
	defer done(&err)
	return p.Tree.List(dir, most)
}

// Stat implements Tree.
func (p *patience) Stat(name string) (out Info, err error) {
	_, done := p.begin()
	defer done(&err)
	return p.Tree.Stat(name)
}

// atOnce gives a tree as one on which a file is there at once, where it is one.
func atOnce(t Tree) (Putter, bool) {
	if p, is := t.(*patience); is {
		_, is = p.Tree.(Putter)
		return p, is
	}
	p, is := t.(Putter)
	return p, is
}

// Put implements Putter; atOnce tells whether the tree does.
func (p *patience) Put(name string, body Body) (err error) {
	more, done := p.begin()
	defer done(&err)
	open := body.open
	body.open = func() (io.ReadCloser, error) {
		in, err := open()
		return &sent{in, more}, err
	}
	return p.Tree.(Putter).Put(name, body)
}

// sent is a body on its way: the time counts for each piece that is taken of it.
type sent struct {
	io.ReadCloser
	more func()
}

// Read implements io.Reader.
func (s *sent) Read(b []byte) (int, error) {
	s.more()
	return s.ReadCloser.Read(b)
}

// Rename implements Tree.
func (p *patience) Rename(from, to string) (err error) {
	_, done := p.begin()
	defer done(&err)
	return p.Tree.Rename(from, to)
}

// Remove implements Tree.
func (p *patience) Remove(name string) (err error) {
	_, done := p.begin()
	defer done(&err)
	return p.Tree.Remove(name)
}

// MakeDir implements Tree.
func (p *patience) MakeDir(name string) (err error) {
	_, done := p.begin()
	defer done(&err)
	return p.Tree.MakeDir(name)
}

// Open implements Tree. Each piece that is read may take the whole time.
func (p *patience) Open(name string, offset int64) (f io.ReadCloser, err error) {
	_, done := p.begin()
	defer done(&err)
	if f, err = p.Tree.Open(name, offset); err == nil {
		f = &reading{f, p}
	}
	return f, err
}

type reading struct {
	io.ReadCloser
	of *patience
}

// Read implements io.Reader.
func (r *reading) Read(b []byte) (n int, err error) {
	_, done := r.of.begin()
	defer done(&err)
	return r.ReadCloser.Read(b)
}

// Close implements io.Closer.
func (r *reading) Close() (err error) {
	_, done := r.of.begin()
	defer done(&err)
	return r.ReadCloser.Close()
}

// Create implements Tree.
func (p *patience) Create(name string) (f io.WriteCloser, err error) {
	_, done := p.begin()
	defer done(&err)
	if f, err = p.Tree.Create(name); err == nil {
		f = &writing{f, p}
	}
	return f, err
}

// Append implements Tree.
func (p *patience) Append(name string) (f io.WriteCloser, err error) {
	_, done := p.begin()
	defer done(&err)
	if f, err = p.Tree.Append(name); err == nil {
		f = &writing{f, p}
	}
	return f, err
}

type writing struct {
	io.WriteCloser
	of *patience
}

// Write implements io.Writer. What is written in one go may be large, so the time counts
// for each piece of it.
func (w *writing) Write(b []byte) (n int, err error) {
	more, done := w.of.begin()
	defer done(&err)
	for n < len(b) && err == nil {
		var m int
		m, err = w.WriteCloser.Write(b[n:min(n+64<<10, len(b))])
		n += m
		more()
	}
	return n, err
}

// Close implements io.Closer.
func (w *writing) Close() (err error) {
	_, done := w.of.begin()
	defer done(&err)
	return w.WriteCloser.Close()
}

// idle keeps open trees for the next who needs one. Servers end what says nothing for long,
// so nothing is kept for long.
type idle struct {
	mu     sync.Mutex
	trees  []idling
	closed bool
}

type idling struct {
	tree  Tree
	since time.Time
}

// keptIdle is how long a tree is kept, mostIdle how many are.
const (
	keptIdle = 15 * time.Second
	mostIdle = 8
)

func (i *idle) take() Tree {
	i.mu.Lock()
	defer i.mu.Unlock()
	for n := len(i.trees); n > 0; n = len(i.trees) {
		last := i.trees[n-1]
		i.trees = i.trees[:n-1]
		if time.Since(last.since) < keptIdle {
			return last.tree
		}
		_ = last.tree.Close()
	}
	return nil
}

func (i *idle) give(t Tree) {
	i.mu.Lock()
	defer i.mu.Unlock()
	if p, is := t.(*patience); i.closed || len(i.trees) >= mostIdle || is && p.late.Load() {
		_ = t.Close()
		return
	}
	i.trees = append(i.trees, idling{t, time.Now()})
}

func (i *idle) close() error {
	i.mu.Lock()
	defer i.mu.Unlock()
	i.closed = true
	for _, one := range i.trees {
		_ = one.tree.Close()
	}
	i.trees = nil
	return nil
}

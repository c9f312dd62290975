package main

import (
	"io"
	"math/rand/v2"
	"net"
	"sync"
	"testing"
	"time"
)

// How a way is.
const (
	good       = iota
	slow       // each piece takes 50 ms, and one in a hundred 300 more, as where it was lost and sent anew
	swallowing // nothing comes through, and nobody is told so
)

// badWay is a way between two that is not as good as loopback.
type badWay struct {
	address string
	mu      sync.Mutex
	changed *sync.Cond
	is      int
	open    map[net.Conn]bool
}

func newBadWay(t *testing.T, to string) *badWay {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	w := &badWay{address: l.Addr().String(), open: map[net.Conn]bool{}}
	w.changed = sync.NewCond(&w.mu)
	t.Cleanup(func() {
		_ = l.Close()
		w.be(good)
		w.cut()
	})
	go func() {
		for {
			from, err := l.Accept()
			if err != nil {
				return
			}
			on, err := net.Dial("tcp", to)
			if err != nil {
				_ = from.Close() // the application is being started anew
				continue
			}
			w.mu.Lock()
			w.open[from], w.open[on] = true, true
			w.mu.Unlock()
			go w.carry(from, on)
			go w.carry(on, from)
		}
	}()
	return w
}

func (w *badWay) be(is int) {
	w.mu.Lock()
	w.is = is
	w.mu.Unlock()
	w.changed.Broadcast()
}

// cut ends what is open, with a word to both sides.
func (w *badWay) cut() {
	w.mu.Lock()
	defer w.mu.Unlock()
	for c := range w.open {
		_ = c.Close()
		delete(w.open, c)
	}
}

// carry takes pieces from one side to the other, as the way is.
func (w *badWay) carry(from, to net.Conn) {
	defer to.Close()
	piece := make([]byte, 16<<10)
	for {
		n, err := from.Read(piece)
		if n > 0 {
			w.wait()
			if _, err := to.Write(piece[:n]); err != nil {
				_ = from.Close()
				return
			}
		}
		if err != nil {
			if err != io.EOF {
				_ = from.Close()
			}
			return
		}
	}
}

func (w *badWay) wait() {
	w.mu.Lock()
	for w.is == swallowing {
		w.changed.Wait()
	}
	is := w.is
	w.mu.Unlock()
	if is != slow {
		return
	}
	late := 50 * time.Millisecond
	if rand.IntN(100) == 0 {
		late += 300 * time.Millisecond
	}
	time.Sleep(late)
}

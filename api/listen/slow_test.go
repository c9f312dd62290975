package listen

import (
	"net"
	"testing"
	"time"
)

// wire is a connection that notes what is asked of it, and takes so many bytes at once.
type wire struct {
	net.Conn
	limits []time.Time
	pieces []int
}

func (w *wire) SetWriteDeadline(at time.Time) error {
	w.limits = append(w.limits, at)
	return nil
}

func (w *wire) Write(p []byte) (int, error) {
	w.pieces = append(w.pieces, len(p))
	return len(p), nil
}

// Each piece of an answer has to be taken within its time, so that a slow line gets a large one
// and nobody holds one for as long as they like.
func TestSlowReadersAreCutOff(t *testing.T) {
	w := &wire{}
	c := &conn{Conn: w, leave: func() {}}
	began := time.Now()
	if n, err := c.Write(make([]byte, 300<<10)); err != nil || n != 300<<10 {
		t.Fatal(n, err)
	}
	if len(w.pieces) != 5 || len(w.limits) != len(w.pieces) {
		t.Fatalf("%d pieces, %d limits", len(w.pieces), len(w.limits))
	}
	for i, at := range w.limits {
		if at.Before(began.Add(WriteWithin)) || w.pieces[i] > 64<<10 {
			t.Errorf("piece %d has %d bytes until %s", i, w.pieces[i], at)
		}
	}
	near, far := net.Pipe()
	defer far.Close()
	held := &conn{Conn: &late{near}, leave: func() {}}
	if _, err := held.Write([]byte("nobody takes it")); err == nil {
		t.Error("an answer is held for ever")
	}
}

// late is a connection whose time is over at once.
type late struct{ net.Conn }

func (l *late) SetWriteDeadline(time.Time) error { return l.Conn.SetWriteDeadline(time.Unix(1, 0)) }

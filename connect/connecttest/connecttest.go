// Package connecttest helps to test kinds of outside system: it receives as the engine
// would, sends, and plays servers that mean no good.
package connecttest

import (
	"context"
	"encoding/json"
	"io"
	"net"
	"strings"
	"sync"
	"testing"
	"time"

	"readyferry/connect"
	"readyferry/core/message"
	"readyferry/core/retry"
	"readyferry/core/system"
	"readyferry/core/want"
)

// Request is a delivery with settings as JSON, an id and a body; it has a content type
// and the header x-shelf: F 12.
func Request(settings, id, body string) connect.Request {
	return connect.Request{ID: id, Request: want.Request{Settings: []byte(settings), Body: []byte(body),
		Headers: []message.Header{{Name: "Content-Type", Value: "application/json"}, {Name: "x-shelf", Value: "F 12"}}}}
}

// Open opens a connection, and closes it behind the test.
func Open(t testing.TB, s connect.System, c *connect.Connection) connect.Link {
	t.Helper()
	l, err := s.Open(context.Background(), c)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = l.Close() })
	return l
}

// Send sends a delivery.
func Send(l connect.Link, settings, id, body string) (connect.Receipt, error) {
	return l.(connect.Sender).Send(context.Background(), Request(settings, id, body))
}

// Header gives a header of an arrival, "" where it has none of that name.
func Header(a connect.Arrival, name string) string {
	for _, h := range a.Headers {
		if strings.EqualFold(h.Name, name) {
			return h.Value
		}
	}
	return ""
}

// Taker takes what a receiver brings, as the engine would, until it is told to stop.
type Taker struct {
	Failed chan error // how the receiver ended
	Stop   context.CancelFunc

	mu    sync.Mutex
	got   []connect.Arrival
	mark  []byte
	ready bool
	crash error
}

// Receive sets a receiver going. crash is what storing a message with the body "stored"
// ends with behind its commit, as when the process dies before it acknowledges; nil: it
// does not die.
func Receive(t testing.TB, l connect.Link, in string, mark []byte, crash error) *Taker {
	t.Helper()
	ctx, stop := context.WithCancel(context.Background())
	f := &Taker{mark: mark, Failed: make(chan error, 1), Stop: stop, crash: crash}
	ctx = connect.WithTelling(ctx, connect.Telling{Flow: "reader",
		Ready: func() { f.mu.Lock(); f.ready = true; f.mu.Unlock() }})
	go func() { f.Failed <- l.(connect.Receiver).Receive(ctx, system.Schema(in), mark, f.take) }()
	t.Cleanup(stop)
	return f
}

func (f *Taker) take(_ context.Context, list []connect.Arrival) ([]connect.Taken, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.got = append(f.got, list...)
	for _, a := range list {
		if a.Mark != nil {
			f.mark = a.Mark
		}
	}
	for _, a := range list {
		if f.crash != nil && string(a.Body) == "stored" {
			return nil, f.crash
		}
	}
	return make([]connect.Taken, len(list)), nil
}

// Got gives what has come, and the mark behind it.
func (f *Taker) Got() ([]connect.Arrival, []byte) {
	f.mu.Lock()
	defer f.mu.Unlock()
	return append([]connect.Arrival{}, f.got...), f.mark
}

// Eventually waits until something holds; a minute is longer than any machine needs.
func Eventually(t testing.TB, what string, holds func() bool) {
	t.Helper()
	for range 12_000 {
		if holds() {
			return
		}
		time.Sleep(5 * time.Millisecond)
	}
	t.Fatal("it never came to this: " + what)
}

// Ready waits until the receiver has asked for messages.
func (f *Taker) Ready(t testing.TB) *Taker {
	t.Helper()
	Eventually(t, "the receiver is ready", func() bool {
		f.mu.Lock()
		defer f.mu.Unlock()
		f.died(t)
		return f.ready
	})
	return f
}

func (f *Taker) died(t testing.TB) {
	t.Helper()
	select {
	case err := <-f.Failed:
		f.Failed <- err
		if f.crash == nil {
			t.Fatalf("the receiver ended: %v", err)
		}
	default:
	}
}

// Until waits for so many messages.
func (f *Taker) Until(t testing.TB, n int) []connect.Arrival {
	t.Helper()
	var got []connect.Arrival
	Eventually(t, "enough messages come", func() bool {
		got, _ = f.Got()
		if len(got) < n {
			f.died(t)
		}
		return len(got) >= n
	})
	return got
}

// Find waits for the message with an id.
func (f *Taker) Find(t testing.TB, id string) connect.Arrival {
	t.Helper()
	for n := 1; ; n++ {
		for _, a := range f.Until(t, n) {
			if a.ID == id {
				return a
			}
		}
	}
}

// Says plays a server that says something to whoever comes, and hears what they say. It
// gives its address.
func Says(t testing.TB, what string) string {
	t.Helper()
	return Serve(t, func(c net.Conn) {
		_, _ = io.WriteString(c, what)
		_, _ = io.Copy(io.Discard, c)
		_ = c.Close()
	})
}

// Serve listens until the test is over, and does something with whoever comes, which is to
// close the connection, too. It gives its address.
func Serve(t testing.TB, do func(c net.Conn)) string {
	t.Helper()
	door, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = door.Close() })
	go func() {
		for {
			c, err := door.Accept()
			if err != nil {
				return
			}
			go do(c)
		}
	}()
	return door.Addr().String()
}

// Settings makes the settings of a connection.
func Settings(of map[string]string) connect.Settings {
	b, _ := json.Marshal(of)
	return system.Schema(string(b))
}

// Pipe brings what comes from each of two connections to the other, until one ends.
func Pipe(a, b net.Conn) {
	for _, way := range [][2]net.Conn{{a, b}, {b, a}} {
		go func() {
			_, _ = io.Copy(way[0], way[1])
			_, _ = a.Close(), b.Close()
		}()
	}
}

// Hostile tries a system against servers that mean no good: a delivery must not be called
// delivered, and a receiver must end with an error.
func Hostile(t *testing.T, s connect.System, c connect.Connection, address func(hostPort string) string, deliver,
	intake string, says map[string]string) {
	t.Helper()
	for name, what := range says {
		t.Run(name, func(t *testing.T) {
			c := c
			c.Address, c.TimeLimit = address(Says(t, what)), 300*time.Millisecond
			l := Open(t, s, &c)
			if r, err := Send(l, deliver, "x", "{}"); err == nil && r.Outcome == retry.Delivered {
				t.Errorf("%+v", r)
			}
			in := Receive(t, l, intake, nil, nil)
			select {
			case err := <-in.Failed:
				if err == nil {
					t.Error("it ended without an error")
				}
			case <-time.After(time.Minute):
				t.Error("it does not end")
			}
		})
	}
}

package tcp

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"sync"
	"time"

	"readyferry/connect"
	"readyferry/connect/reach"
	"readyferry/core/message"
	"readyferry/core/retry"
)

// link is one partner: connections to it that are free, each for one message at a time.
type link struct {
	c    *connect.Connection
	door *reach.Door

	mu     sync.Mutex
	free   []*line
	closed bool
}

// line is one connection to a partner.
type line struct {
	net.Conn
	r     *bufio.Reader
	used  time.Time
	heard chan error // while it is free: how waiting for a word of the partner ended
}

// keptFree is how long a connection is kept on which nothing is said: what stands between
// often forgets it after some minutes, without a word.
const keptFree = 90 * time.Second

// Close implements connect.Link.
func (l *link) Close() error {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.closed = true
	for _, one := range l.free {
		_ = one.Close()
	}
	l.free = nil
	return nil
}

func (l *link) framing() string {
	if f := l.c.Text("/framing"); f != "" {
		return f
	}
	return MLLP
}

// take gives a free connection, or a new one.
func (l *link) take(ctx context.Context, w *reach.Way) (one *line, fresh bool, err error) {
	l.mu.Lock()
	for n := len(l.free); n > 0; n = len(l.free) {
		one, l.free = l.free[n-1], l.free[:n-1]
		if time.Since(one.used) < keptFree {
			l.mu.Unlock()
			return one, false, nil
		}
		_ = one.Close()
	}
	l.mu.Unlock()
	if _, _, is := listensAt(l.c); is {
		return nil, true, fmt.Errorf("%w: the connection %s listens; nothing is sent to it", connect.ErrCannotSend, l.c.Name)
	}
	dialing, cancel := context.WithTimeout(ctx, l.c.TimeLimit)
	defer cancel()
	conn, err := l.door.Dial(dialing, l.c, w)
	if err != nil {
		return nil, true, err
	}
	return &line{Conn: conn, r: bufio.NewReaderSize(conn, 64<<10)}, true, nil
}

func (l *link) give(one *line) {
	l.mu.Lock()
	defer l.mu.Unlock()
	one.used = time.Now()
	if l.closed || one.r.Buffered() > 0 { // what it says more belongs to nothing
		_ = one.Close()
		return
	}
	_ = one.SetDeadline(time.Time{})
	one.heard = make(chan error, 1)
	go func() {
		_, err := one.r.Peek(1)
		one.heard <- err
	}()
	l.free = append(l.free, one)
}

// exchange sends a message and reads what is answered; nil where nothing is waited for.
func (l *link) exchange(ctx context.Context, body []byte, waits bool) ([]byte, error) {
	out, err := frame(l.framing(), body)
	if err != nil {
		return nil, errors.Join(fmt.Errorf("%w: %w", connect.ErrCannotSend, err), connect.ErrBadData)
	}
	for {
		one, fresh, err := l.take(ctx, nil)
		if err != nil {
			return nil, err
		}
		answer, sent, err := l.say(ctx, one, out, waits)
		if err == nil {
			l.give(one)
			return answer, nil
		}
		_ = one.Close()
		if !fresh && !sent {
			continue // it was closed meanwhile, and nothing of the message has gone
		}
		return nil, err
	}
}

// say says one message. sent tells that some of it may have come.
func (l *link) say(ctx context.Context, one *line, out []byte, waits bool) (answer []byte, sent bool, err error) {
	stop := context.AfterFunc(ctx, func() { _ = one.Close() })
	defer stop()
	if one.gone() {
		return nil, false, net.ErrClosed
	}
	_ = one.SetDeadline(time.Now().Add(l.c.TimeLimit))
	if _, err := one.Write(out); err != nil {
		return nil, true, fmt.Errorf("sending to %s: %w", l.c.Name, inWords(err, l.c.TimeLimit))
	}
	if !waits {
		return nil, true, nil
	}
	answer, err = readFrame(one.r, l.framing())
	if err != nil {
		return nil, true, fmt.Errorf("waiting for the answer of %s: %w", l.c.Name, inWords(err, l.c.TimeLimit))
	}
	return answer, true, nil
}

// gone tells whether the other side has closed a connection that was free, or has said
// something that nobody asked for.
func (c *line) gone() bool {
	if c.heard == nil {
		return false // it is new
	}
	_ = c.SetReadDeadline(time.Now().Add(-time.Second)) // whoever waits for a word, waits no more
	err := <-c.heard
	c.heard = nil
	var late net.Error
	return !(errors.As(err, &late) && late.Timeout())
}

// inWords says what happened to a connection.
func inWords(err error, limit time.Duration) error {
	var late net.Error
	switch {
	case errors.As(err, &late) && late.Timeout():
		return fmt.Errorf("nothing came within %s", limit)
	case errors.Is(err, errTooLarge), errors.Is(err, errNoFrame):
		return err
	}
	return fmt.Errorf("the connection broke off (%w)", err)
}

// Send implements connect.Sender.
func (l *link) Send(ctx context.Context, r connect.Request) (connect.Receipt, error) {
	s := struct{ Answer string }{"acknowledged"}
	if err := readSettings(r.Settings, &s); err != nil {
		return connect.Receipt{}, fmt.Errorf("%w: the settings of the delivery cannot be read", connect.ErrCannotSend)
	}
	answer, err := l.exchange(ctx, r.Body, s.Answer != "none")
	switch {
	case err != nil:
		return connect.Receipt{}, err
	case s.Answer == "none":
		return connect.Receipt{Outcome: retry.Delivered, Code: "sent"}, nil
	case s.Answer == "any" || l.framing() != MLLP:
		return heard(answer, "answered", retry.Delivered), nil
	}
	return l.acknowledged(r.Body, answer)
}

// readSettings reads what a step says, which may be nothing.
func readSettings(b []byte, into any) error {
	if len(b) == 0 {
		return nil
	}
	return json.Unmarshal(b, into)
}

// acknowledged reads what an acknowledgement says of a message.
func (l *link) acknowledged(body, answer []byte) (connect.Receipt, error) {
	ack, err := readAck(answer)
	if err != nil {
		return connect.Receipt{}, err
	}
	if id := headerOf(body).field(10); id != "" && ack.of != id {
		return connect.Receipt{}, fmt.Errorf("%s acknowledges %q, and the message is %q", l.c.Name,
			connect.HeaderText(ack.of), id)
	}
	outcome := retry.Never
	switch ack.code {
	case "AA", "CA":
		outcome = retry.Delivered
	case "AR", "CR":
		outcome = retry.Again
	}
	out := heard(answer, ack.code, outcome)
	out.Words = connect.ShortText(ack.text)
	return out, nil
}

func heard(answer []byte, code string, outcome retry.Outcome) connect.Receipt {
	out := connect.Receipt{Outcome: outcome, Code: connect.HeaderText(code), Answer: bytes.NewReader(answer)}
	if bytes.HasPrefix(answer, []byte("MSH")) {
		out.Headers = []message.Header{{Name: "Content-Type", Value: "application/hl7-v2"}}
	}
	return out
}

// Ask implements connect.Asker: what is answered is the answer; with HL7 one that names
// another message is none.
func (l *link) Ask(ctx context.Context, r connect.Request) (connect.Receipt, error) {
	answer, err := l.exchange(ctx, r.Body, true)
	if err != nil {
		return connect.Receipt{}, err
	}
	if l.framing() == MLLP && bytes.HasPrefix(r.Body, []byte("MSH")) {
		return l.acknowledged(r.Body, answer)
	}
	return heard(answer, "answered", retry.Delivered), nil
}

// Check implements connect.Link: it reaches the partner, and says nothing to it. A
// connection that listens is tried by listening.
func (l *link) Check(ctx context.Context) (connect.Report, error) {
	var w reach.Way
	if at, secure, is := listensAt(l.c); is {
		if secure {
			if _, err := reach.ListenConfig(l.c); err != nil {
				return w.Report(&reach.Error{Step: "reading the own certificate", Err: err,
					Repair: "paste the certificate and its key anew"}, ""), nil
			}
			w.Did("the own certificate and its key belong together")
		}
		return checkListening(at, &w), nil
	}
	ctx, cancel := context.WithTimeout(ctx, l.c.TimeLimit)
	defer cancel()
	conn, err := l.door.Dial(ctx, l.c, &w)
	if err != nil {
		return w.Report(err, ""), nil
	}
	return w.Report(nil, "the partner is reached; it was sent nothing"), conn.Close()
}

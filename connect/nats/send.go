package nats

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	client "github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"

	"readyferry/connect"
	"readyferry/core/message"
	"readyferry/core/retry"
)

// outgoing makes the message of a request.
func outgoing(r connect.Request) (*client.Msg, error) {
	var s struct{ Subject string }
	if err := json.Unmarshal(r.Settings, &s); err != nil {
		return nil, errors.New("the settings of the delivery cannot be read")
	}
	if err := checkSubject(s.Subject); err != nil {
		return nil, fmt.Errorf("%w: %w", connect.ErrBadData, err)
	}
	m := client.NewMsg(s.Subject)
	m.Data = r.Body
	for _, h := range r.Headers {
		if own(h.Name) {
			continue
		}
		if strings.ContainsAny(h.Name, "\r\n:") || strings.ContainsAny(h.Value, "\r\n") {
			return nil, fmt.Errorf("%w: the header %.40q has a line end", connect.ErrBadData, h.Name)
		}
		m.Header.Add(h.Name, h.Value)
	}
	if r.ID != "" {
		m.Header.Set(client.MsgIdHdr, r.ID)
	}
	return m, nil
}

// checkSubject tells whether something can be published to a subject.
func checkSubject(s string) error {
	bad := s == "" || len(s) > 4000 || strings.ContainsAny(s, " \t\r\n\x00*>")
	for _, word := range strings.Split(s, ".") {
		bad = bad || word == ""
	}
	if bad {
		return fmt.Errorf("%q is no subject: words between dots, without spaces, * and >", s)
	}
	return nil
}

// own tells whether a header says what the message itself does.
func own(name string) bool {
	return strings.HasPrefix(strings.ToLower(name), "nats-") || strings.EqualFold(name, "Idempotency-Key")
}

// Send implements connect.Sender: one message is published, and delivered when a stream has
// stored it.
func (l *link) Send(ctx context.Context, r connect.Request) (connect.Receipt, error) {
	m, err := outgoing(r)
	if err != nil {
		return connect.Receipt{}, fmt.Errorf("%w: %w", connect.ErrCannotSend, err)
	}
	conn, err := l.connection(ctx)
	if err != nil {
		return connect.Receipt{}, err
	}
	js, err := jetstream.New(conn)
	if err != nil {
		return connect.Receipt{}, err
	}
	ctx, cancel := context.WithTimeout(ctx, l.c.TimeLimit)
	defer cancel()
	ack, err := js.PublishMsg(ctx, m, jetstream.WithRetryAttempts(0))
	if err != nil {
		return l.outcomeOf(ctx, m.Subject, err)
	}
	out := connect.Receipt{Outcome: retry.Delivered, Code: fmt.Sprintf("%s %d", ack.Stream, ack.Sequence)}
	if ack.Duplicate {
		out.Words = "the stream had it already under this id"
	}
	return out, nil
}

// OnLate implements connect.Hearer.
func (l *link) OnLate(told func(id string, r connect.Receipt)) {
	l.answers.Late(func(id string, m *client.Msg) { told(id, answered(m)) })
}

func answered(m *client.Msg) connect.Receipt {
	return connect.Receipt{Outcome: retry.Delivered, Code: "answered", Headers: headersOf(m.Subject, m.Header), Answer: bytes.NewReader(m.Data)}
}

// Ask implements connect.Asker: a question is published, and the first answer taken.
func (l *link) Ask(ctx context.Context, r connect.Request) (connect.Receipt, error) {
	m, err := outgoing(r)
	if err != nil {
		return connect.Receipt{}, fmt.Errorf("%w: %w", connect.ErrCannotSend, err)
	}
	conn, err := l.connection(ctx)
	if err != nil {
		return connect.Receipt{}, err
	}
	key, wait, done := l.answers.Expect(r.ID)
	defer done()
	m.Reply = l.inbox + "." + base64.RawURLEncoding.EncodeToString([]byte(key)) // one word, whatever the id is
	ctx, cancel := context.WithTimeout(ctx, l.c.TimeLimit)
	defer cancel()
	if err := conn.PublishMsg(m); err != nil {
		return l.outcomeOf(ctx, m.Subject, err)
	}
	closed := conn.StatusChanged(client.CLOSED)
	select {
	case a := <-wait:
		if len(a.Data) == 0 && a.Header.Get("Status") == "503" {
			return connect.Receipt{Outcome: retry.Again, Code: "503", Words: "nobody listens at " + m.Subject + ", so nobody answers"}, nil
		}
		return answered(a), nil
	case <-closed:
		return connect.Receipt{}, fmt.Errorf("the connection to %s broke off", l.c.Name)
	case <-ctx.Done():
		if l.forbidden(m.Subject) {
			return l.outcomeOf(ctx, m.Subject, ctx.Err())
		}
		return connect.Receipt{}, fmt.Errorf("%s: nobody answered at %s within %s", l.c.Name, m.Subject, l.c.TimeLimit)
	}
}

// headersOf gives the headers of a message, behind its subject.
func headersOf(subject string, h client.Header) []message.Header {
	out := []message.Header{{Name: "Nats-Subject", Value: subject}}
	for name, values := range h {
		out = append(out, message.Header{Name: connect.HeaderText(name), Value: connect.HeaderText(strings.Join(values, ", "))})
	}
	return out
}

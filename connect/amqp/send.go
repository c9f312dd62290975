package amqp

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"time"

	client "github.com/rabbitmq/amqp091-go"

	"readyferry/connect"
	"readyferry/core/flow"
	"readyferry/core/retry"
)

// outgoing is a message that is to be published.
type outgoing struct {
	exchange, key string
	client.Publishing
}

// outgoingOf makes it of a request. The key by which repeats are told is the message-id.
func outgoingOf(r connect.Request) (*outgoing, error) {
	var s struct {
		Exchange, Expires string
		Key               string `json:"routing-key"`
		Transient         bool
		Priority          uint8
	}
	if err := json.Unmarshal(r.Settings, &s); err != nil {
		return nil, errors.New("the settings of the delivery cannot be read")
	}
	for name, value := range map[string]string{"exchange": s.Exchange, "routing-key": s.Key} {
		if len(value) > 255 {
			return nil, fmt.Errorf("%w: %s has %d bytes; the protocol has room for 255", connect.ErrBadData, name, len(value))
		}
	}
	if s.Exchange == "" && s.Key == "" {
		return nil, fmt.Errorf("%w: neither an exchange nor a routing key is named", connect.ErrBadData)
	}
	out := &outgoing{s.Exchange, s.Key, client.Publishing{
		DeliveryMode: client.Persistent, Priority: s.Priority, MessageId: r.ID, Timestamp: time.Now().UTC(), Body: r.Body,
	}}
	if s.Transient {
		out.DeliveryMode = client.Transient
	}
	if s.Expires != "" {
		d, err := flow.Duration(s.Expires)
		if err != nil {
			return nil, fmt.Errorf("expires: %w", err)
		}
		out.Expiration = strconv.FormatInt(d.Milliseconds(), 10)
	}
	for _, h := range r.Headers {
		if err := property(&out.Publishing, h); err != nil {
			return nil, fmt.Errorf("%w: %w", connect.ErrBadData, err)
		}
	}
	return out, nil
}

// publisher is a channel that confirms. One message goes by it at a time, so that what
// the broker says of a channel is said of that message.
type publisher struct {
	ch       *client.Channel
	of       *client.Connection
	returned chan client.Return
	closed   chan *client.Error
}

// Send implements connect.Sender: one message is published, and delivered when the
// broker has confirmed it.
func (l *link) Send(ctx context.Context, r connect.Request) (connect.Receipt, error) {
	out, err := outgoingOf(r)
	if err != nil {
		return connect.Receipt{}, fmt.Errorf("%w: %w", connect.ErrCannotSend, err)
	}
	return l.publish(ctx, out)
}

func (l *link) publish(ctx context.Context, out *outgoing) (connect.Receipt, error) {
	ctx, cancel := context.WithTimeout(ctx, l.c.TimeLimit)
	defer cancel()
	p, err := l.publisher(ctx)
	if err != nil {
		var no *refused
		if errors.As(err, &no) {
			return receipt(no.code, no.text)
		}
		return connect.Receipt{}, err
	}
	l.mu.Lock()
	blocked := l.blocked
	l.mu.Unlock()
	if blocked != "" {
		l.giveBack(p)
		return connect.Receipt{Outcome: retry.Again, Code: "blocked", Words: blocked}, nil
	}
	confirmed, err := p.ch.PublishWithDeferredConfirmWithContext(ctx, out.exchange, out.key, true, false, out.Publishing)
	if err != nil {
		return p.ended(l, err)
	}
	select {
	case <-confirmed.Done():
	case <-ctx.Done():
		_ = p.ch.Close() // what comes late must not be taken for the answer of another
		return connect.Receipt{}, fmt.Errorf("%s did not confirm it within %s", l.c.Name, l.c.TimeLimit)
	}
	select {
	case back, is := <-p.returned: // it comes before the confirmation (the confirm extension of 0-9-1)
		if is {
			l.giveBack(p)
			return receipt(int(back.ReplyCode), fmt.Sprintf("%s, exchange %q, routing key %q", back.ReplyText, back.Exchange, back.RoutingKey))
		}
	default:
	}
	if confirmed.Acked() {
		l.giveBack(p)
		return connect.Receipt{Outcome: retry.Delivered, Code: "confirmed"}, nil
	}
	if p.ch.IsClosed() {
		return p.ended(l, nil)
	}
	l.giveBack(p)
	return nacked, nil
}

// ended says why a channel ended while a message went by it.
func (p *publisher) ended(l *link, err error) (connect.Receipt, error) {
	select {
	case why := <-p.closed:
		if why != nil && why.Server {
			return receipt(why.Code, why.Reason)
		}
	case <-time.After(time.Second): // it was not closed by the broker
	}
	if code, text := replyOf(err); code != 0 {
		return receipt(code, text)
	}
	return connect.Receipt{}, l.broke(err)
}

// publisher gives a channel that nobody else publishes by.
func (l *link) publisher(ctx context.Context) (*publisher, error) {
	conn, err := l.connection(ctx)
	if err != nil {
		return nil, err
	}
	l.mu.Lock()
	for len(l.free) > 0 {
		p := l.free[len(l.free)-1]
		l.free = l.free[:len(l.free)-1]
		if p.of == conn && !p.ch.IsClosed() {
			l.mu.Unlock()
			return p, nil
		}
	}
	l.mu.Unlock()
	ch, err := conn.Channel()
	if err != nil {
		return nil, l.broke(err)
	}
	if err := ch.Confirm(false); err != nil {
		_ = ch.Close()
		return nil, l.broke(err)
	}
	return &publisher{
		ch: ch, of: conn, returned: ch.NotifyReturn(make(chan client.Return, 1)), closed: ch.NotifyClose(make(chan *client.Error, 1)),
	}, nil
}

// giveBack lets somebody else publish by a channel.
func (l *link) giveBack(p *publisher) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if p.of == l.shared && !p.ch.IsClosed() {
		l.free = append(l.free, p)
	}
}

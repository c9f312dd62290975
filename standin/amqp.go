package standin

import (
	"fmt"
	"net"
	"strings"
	"time"

	"readyferry/standin/amqp"
)

type amqpBroker struct{ *amqp.Broker }

func newAMQP(sys *System, now func() time.Time, changed func()) (speaker, error) {
	b := amqp.New()
	b.OnPublish = func(p amqp.Publish) amqp.Verdict {
		path := p.Exchange + "/" + p.Key
		status, _, _, delay := sys.decide(now(), "PUBLISH", path)
		call := Call{At: now(), Method: "PUBLISH", Path: path, Status: max(status, 0), Key: p.Properties.MessageID,
			Body: strings.ToValidUTF8(string(p.Body), "\uFFFD"), Headers: map[string]string{}}
		for name, v := range p.Properties.Headers {
			call.Headers[name] = fmt.Sprint(v)
		}
		for name, v := range map[string]string{"Content-Type": p.Properties.ContentType, "Message-Id": p.Properties.MessageID,
			"Correlation-Id": p.Properties.CorrelationID, "Reply-To": p.Properties.ReplyTo} {
			if v != "" {
				call.Headers[name] = v
			}
		}
		sys.note(call)
		changed()
		return verdict(status, delay)
	}
	return &amqpBroker{b}, nil
}

// verdict gives what a broker does that means what a status over HTTP does.
func verdict(status int, delay time.Duration) amqp.Verdict {
	v := amqp.Verdict{Delay: delay}
	switch {
	case status == never:
		v.Silent = true
	case status == 0:
		v.Cut = true
	case status < 300:
	case status == 401, status == 403:
		v.Code, v.Text = 403, "ACCESS_REFUSED"
	case status == 404:
		v.Code, v.Text = 404, "NOT_FOUND"
	case status == 413:
		v.Code, v.Text = 311, "CONTENT_TOO_LARGE"
	case status < 500:
		v.Code, v.Text = 406, "PRECONDITION_FAILED"
	default:
		v.Refuse = true
	}
	return v
}

func (b *amqpBroker) serve(conn net.Conn) { b.Serve(conn) }
func (b *amqpBroker) close() error        { return b.Close() }

// shape makes the queues and exchanges of a definition, a line for each: a queue, and
// with it an exchange, its type and the key of the binding. Those that it no longer names
// stay with what is in them.
func (b *amqpBroker) shape(d Definition) error {
	for _, line := range d.Has {
		words := strings.Fields(line)
		if len(words) != 1 && len(words) != 4 && (len(words) != 3 || words[2] != amqp.Fanout) {
			return fmt.Errorf("%q is no queue; write its name, or: queue exchange type key, such as returns desk topic returns.#", line)
		}
		words = append(words, "", amqp.Direct, "")[:max(4, len(words))]
		if err := b.Bind(words[1], words[2], words[0], words[3]); err != nil {
			return fmt.Errorf("%q: %w", line, err)
		}
	}
	return nil
}

func (b *amqpBroker) inside() []Inside {
	out := []Inside{}
	for _, q := range b.Queues() {
		out = append(out, Inside{Name: q.Name, Messages: int64(q.Messages), Consumers: q.Consumers})
	}
	return out
}

// send implements speaker.
func (b *amqpBroker) send(m Message) error {
	p := amqp.Publish{Exchange: m.Exchange, Key: m.Topic, Body: []byte(m.Body), Properties: amqp.Properties{
		Persistent: true, Headers: map[string]any{},
	}}
	into := map[string]*string{"content-type": &p.Properties.ContentType, "message-id": &p.Properties.MessageID,
		"correlation-id": &p.Properties.CorrelationID, "reply-to": &p.Properties.ReplyTo, "type": &p.Properties.Type}
	for name, v := range m.Headers {
		if at := into[strings.ToLower(name)]; at != nil {
			*at = v
		} else {
			p.Properties.Headers[name] = v
		}
	}
	n, err := b.Put(p)
	switch {
	case err != nil:
		return err
	case n == 0 && m.Exchange == "":
		return fmt.Errorf("there is no queue %q", m.Topic)
	case n == 0:
		return fmt.Errorf("nothing is bound to the exchange %s for the routing key %q", m.Exchange, m.Topic)
	}
	return nil
}

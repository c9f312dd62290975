package mqtt

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/eclipse/paho.golang/paho"

	"readyferry/connect"
	"readyferry/core/flow"
	"readyferry/core/message"
	"readyferry/core/retry"
)

// KeyProperty is the user property that is the same on every try of a delivery.
const KeyProperty = "Idempotency-Key"

// Send implements connect.Sender: one message is published, and delivered when the
// broker has acknowledged it.
func (l *link) Send(ctx context.Context, r connect.Request) (connect.Receipt, error) {
	p, err := publishing(r)
	if err != nil {
		return connect.Receipt{}, fmt.Errorf("%w: %w", connect.ErrCannotSend, err)
	}
	client, err := l.publishes(ctx)
	if err != nil {
		var no *refused
		if errors.As(err, &no) {
			return receipt(no.code, err.Error()), nil
		}
		return connect.Receipt{}, err
	}
	ctx, cancel := context.WithTimeout(ctx, l.c.TimeLimit)
	defer cancel()
	answer, err := client.Publish(ctx, p)
	switch {
	case answer != nil && answer.ReasonCode >= 0x80:
		return receipt(answer.ReasonCode, ""), nil
	case errors.Is(err, paho.ErrInvalidArguments):
		return connect.Receipt{}, fmt.Errorf("%w: %w", connect.ErrCannotSend, err)
	case errors.Is(err, context.DeadlineExceeded):
		l.broken(client) // what comes late must not be taken for the answer of another
		return connect.Receipt{}, fmt.Errorf("%s did not acknowledge it within %s", l.c.Name, l.c.TimeLimit)
	case err != nil:
		l.broken(client)
		return connect.Receipt{}, fmt.Errorf("the connection to %s broke off: %w", l.c.Name, err)
	}
	return receipt(answer.ReasonCode, ""), nil
}

// receipt makes a receipt of a reason code; where is the step that ended with it, if
// that was not the publishing itself.
func receipt(code byte, where string) connect.Receipt {
	out := connect.Receipt{Outcome: outcome(code), Code: fmt.Sprintf("0x%02X", code)}
	if out.Outcome != retry.Delivered || code != 0 {
		out.Words = words(code)
	}
	if where != "" {
		out.Words = where
	}
	return out
}

// publishing makes the packet of a request.
func publishing(r connect.Request) (*paho.Publish, error) {
	var s struct {
		Topic, Expires string
		QoS            byte
		Retain         bool
	}
	if err := json.Unmarshal(r.Settings, &s); err != nil {
		return nil, errors.New("the settings of the delivery cannot be read")
	}
	if err := checkTopic(s.Topic); err != nil {
		return nil, fmt.Errorf("%w: %w", connect.ErrBadData, err)
	}
	p := &paho.Publish{Topic: s.Topic, QoS: s.QoS, Retain: s.Retain, Payload: r.Body, Properties: &paho.PublishProperties{}}
	if s.Expires != "" {
		d, err := flow.Duration(s.Expires)
		if err != nil {
			return nil, fmt.Errorf("expires: %w", err)
		}
		seconds := uint32(min((d+time.Second-1)/time.Second, 1<<32-1))
		p.Properties.MessageExpiry = &seconds
	}
	p.Properties.User.Add(KeyProperty, r.ID)
	for _, h := range r.Headers {
		if err := property(p.Properties, h); err != nil {
			return nil, fmt.Errorf("%w: %w", connect.ErrBadData, err)
		}
	}
	return p, nil
}

// The headers that are properties of MQTT, both ways; any other is a user property.
const (
	headerTopic       = "Mqtt-Topic"
	headerQoS         = "Mqtt-QoS"
	headerRetained    = "Mqtt-Retained"
	headerResponse    = "Mqtt-Response-Topic"
	headerCorrelation = "Mqtt-Correlation-Data"

	inBase64 = "base64:" // before correlation data that is no text
)

// property puts a header where the protocol has it.
func property(p *paho.PublishProperties, h message.Header) error {
	is := func(name string) bool { return strings.EqualFold(h.Name, name) }
	switch {
	case is("Content-Type"):
		p.ContentType = h.Value
	case is(headerResponse):
		if err := checkTopic(h.Value); err != nil {
			return err
		}
		p.ResponseTopic = h.Value
	case is(headerCorrelation):
		text, encoded := strings.CutPrefix(h.Value, inBase64)
		if !encoded {
			p.CorrelationData = []byte(h.Value)
			return nil
		}
		data, err := base64.StdEncoding.DecodeString(text)
		if err != nil {
			return fmt.Errorf("the header %s holds no base64", h.Name)
		}
		p.CorrelationData = data
	case is(KeyProperty), is(headerTopic), is(headerQoS), is(headerRetained):
		// it says so itself
	default:
		p.User.Add(h.Name, h.Value)
	}
	return nil
}

// publishes gives the client that publishes, and makes it where there is none.
func (l *link) publishes(ctx context.Context) (*paho.Client, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.publisher != nil {
		select {
		case <-l.publisher.Done():
		default:
			return l.publisher, nil
		}
	}
	l.publisher = nil
	client, err := l.join(ctx, paho.ClientConfig{ClientID: l.clientID("")}, &paho.Connect{
		ClientID: l.clientID(""), CleanStart: true,
	}, nil)
	if err != nil {
		return nil, err
	}
	l.publisher = client
	return client, nil
}

// broken lets the next delivery begin with a new client.
func (l *link) broken(client *paho.Client) {
	l.mu.Lock()
	if l.publisher == client {
		l.publisher = nil
	}
	l.mu.Unlock()
	_ = client.Disconnect(&paho.Disconnect{ReasonCode: 0})
}

// headersOf gives the properties of a message as headers.
func headersOf(p *paho.Publish) []message.Header {
	out := []message.Header{{Name: headerTopic, Value: p.Topic}, {Name: headerQoS, Value: fmt.Sprint(p.QoS)}}
	if p.Retain {
		out = append(out, message.Header{Name: headerRetained, Value: "true"})
	}
	if p.Properties == nil {
		return out
	}
	correlation := string(p.Properties.CorrelationData)
	if !utf8.ValidString(correlation) || strings.ContainsAny(correlation, "\x00\r\n") {
		correlation = inBase64 + base64.StdEncoding.EncodeToString(p.Properties.CorrelationData)
	}
	for name, value := range map[string]string{
		"Content-Type": p.Properties.ContentType, headerResponse: p.Properties.ResponseTopic,
		headerCorrelation: correlation,
	} {
		if value != "" {
			out = append(out, message.Header{Name: name, Value: value})
		}
	}
	for _, u := range p.Properties.User {
		out = append(out, message.Header{Name: u.Key, Value: u.Value})
	}
	return out
}

package amqp1

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	client "github.com/Azure/go-amqp"

	"readyferry/connect"
	"readyferry/core/flow"
	"readyferry/core/message"
)

// The headers that are properties of AMQP 1.0 (3.2.4); any other is an application property.
const (
	headerMessageID   = "Amqp-Message-Id"
	headerSubject     = "Amqp-Subject"
	headerCorrelation = "Amqp-Correlation-Id"
	headerReplyTo     = "Amqp-Reply-To"
	headerTo          = "Amqp-To"
	headerGroup       = "Amqp-Group-Id"
	headerCount       = "Amqp-Delivery-Count"
)

// outgoing is a message that is to be sent.
type outgoing struct {
	target string
	*client.Message
}

// depends tells whether a text is a template that depends on the message.
func depends(text string) bool { return strings.Contains(text, "${") }

// outgoingOf makes it of a request. The key by which repeats are told is the message-id.
func outgoingOf(r connect.Request) (*outgoing, error) {
	var s struct {
		Target, Subject, Expires string
		Transient                bool
	}
	if err := json.Unmarshal(r.Settings, &s); err != nil {
		return nil, errors.New("the settings of the delivery cannot be read")
	}
	if s.Target == "" {
		return nil, fmt.Errorf("%w: no target address is named", connect.ErrBadData)
	}
	m := client.NewMessage(r.Body)
	m.Header = &client.MessageHeader{Durable: !s.Transient}
	now := time.Now().UTC()
	m.Properties = &client.MessageProperties{MessageID: r.ID, CreationTime: &now}
	if s.Subject != "" {
		m.Properties.Subject = &s.Subject
	}
	if s.Expires != "" {
		d, err := flow.Duration(s.Expires)
		if err != nil {
			return nil, fmt.Errorf("expires: %w", err)
		}
		m.Header.TTL = d
	}
	for _, h := range r.Headers {
		property(m, h)
	}
	return &outgoing{s.Target, m}, nil
}

// property puts a header where the protocol has it.
func property(m *client.Message, h message.Header) {
	is := func(name string) bool { return strings.EqualFold(h.Name, name) }
	value := h.Value
	switch {
	case is("Content-Type"):
		m.Properties.ContentType = &value
	case is("Content-Encoding"):
		m.Properties.ContentEncoding = &value
	case is(headerSubject):
		m.Properties.Subject = &value
	case is(headerCorrelation):
		m.Properties.CorrelationID = value
	case is(headerReplyTo):
		m.Properties.ReplyTo = &value
	case is(headerGroup):
		m.Properties.GroupID = &value
	case is(headerMessageID), is(headerTo), is(headerCount), is("Idempotency-Key"): // said otherwise
	default:
		if m.ApplicationProperties == nil {
			m.ApplicationProperties = map[string]any{}
		}
		m.ApplicationProperties[h.Name] = value
	}
}

// bodyOf gives the body of a message: its data, or a value that is text or bytes; another
// value as JSON.
func bodyOf(m *client.Message) []byte {
	if len(m.Data) > 0 {
		return slices.Concat(m.Data...)
	}
	switch v := m.Value.(type) {
	case nil:
		if len(m.Sequence) == 0 {
			return nil
		}
		text, _ := json.Marshal(plain(m.Sequence))
		return text
	case string:
		return []byte(v)
	case []byte:
		return v
	default:
		text, err := json.Marshal(plain(v))
		if err != nil {
			return fmt.Append(nil, v)
		}
		return text
	}
}

// plain makes a value one that JSON has.
func plain(v any) any {
	switch v := v.(type) {
	case map[any]any:
		out := map[string]any{}
		for name, one := range v {
			out[fmt.Sprint(name)] = plain(one)
		}
		return out
	case map[string]any:
		out := map[string]any{}
		for name, one := range v {
			out[name] = plain(one)
		}
		return out
	case []any:
		out := make([]any, len(v))
		for i, one := range v {
			out[i] = plain(one)
		}
		return out
	case [][]any:
		out := []any{}
		for _, list := range v {
			for _, one := range list {
				out = append(out, plain(one))
			}
		}
		return out
	case []byte:
		return string(v)
	}
	return v
}

// idText writes a message-id or correlation-id, which may be a text, a number, a UUID or
// bytes (3.2.11 to 3.2.14).
func idText(id any) string {
	switch v := id.(type) {
	case nil:
		return ""
	case string:
		return v
	case []byte:
		return fmt.Sprintf("%x", v)
	case client.UUID:
		return v.String()
	}
	return fmt.Sprint(id)
}

// headersOf gives the properties of a message as headers.
func headersOf(m *client.Message) []message.Header {
	var out []message.Header
	add := func(name, value string) {
		if value != "" {
			out = append(out, message.Header{Name: name, Value: connect.HeaderText(value)})
		}
	}
	text := func(s *string) string {
		if s == nil {
			return ""
		}
		return *s
	}
	if p := m.Properties; p != nil {
		add("Content-Type", text(p.ContentType))
		add("Content-Encoding", text(p.ContentEncoding))
		add(headerMessageID, idText(p.MessageID))
		add(headerCorrelation, idText(p.CorrelationID))
		add(headerSubject, text(p.Subject))
		add(headerReplyTo, text(p.ReplyTo))
		add(headerTo, text(p.To))
		add(headerGroup, text(p.GroupID))
	}
	if m.Header != nil && m.Header.DeliveryCount > 0 {
		add(headerCount, fmt.Sprint(m.Header.DeliveryCount))
	}
	names := make([]string, 0, len(m.ApplicationProperties))
	for name := range m.ApplicationProperties {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		out = append(out, message.Header{Name: connect.HeaderText(name), Value: connect.HeaderText(fmt.Sprint(plain(m.ApplicationProperties[name])))})
	}
	return out
}

package amqp

import (
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	client "github.com/rabbitmq/amqp091-go"

	"readyferry/connect"
	"readyferry/core/message"
)

// The headers that are properties of AMQP, both ways; any other is a header there too.
const (
	headerExchange    = "Amqp-Exchange"
	headerKey         = "Amqp-Routing-Key"
	headerRedelivered = "Amqp-Redelivered"
	headerMessageID   = "Amqp-Message-Id"
	headerCorrelation = "Amqp-Correlation-Id"
	headerReplyTo     = "Amqp-Reply-To"
	headerType        = "Amqp-Type"
	headerApp         = "Amqp-App-Id"
	headerUser        = "Amqp-User-Id"
	headerPriority    = "Amqp-Priority"
	headerExpiration  = "Amqp-Expiration"
	headerTimestamp   = "Amqp-Timestamp"
)

// headersOf gives the properties and headers of a message as headers.
func headersOf(d *client.Delivery) []message.Header {
	out := []message.Header{{Name: headerExchange, Value: d.Exchange}, {Name: headerKey, Value: d.RoutingKey}}
	add := func(name, value string) {
		if value != "" {
			out = append(out, message.Header{Name: name, Value: connect.HeaderText(value)})
		}
	}
	add("Content-Type", d.ContentType)
	add("Content-Encoding", d.ContentEncoding)
	add(headerMessageID, d.MessageId)
	add(headerCorrelation, d.CorrelationId)
	add(headerReplyTo, d.ReplyTo)
	add(headerType, d.Type)
	add(headerApp, d.AppId)
	add(headerUser, d.UserId)
	add(headerExpiration, d.Expiration)
	if d.Redelivered {
		add(headerRedelivered, "true")
	}
	if d.Priority > 0 {
		add(headerPriority, strconv.Itoa(int(d.Priority)))
	}
	if !d.Timestamp.IsZero() {
		add(headerTimestamp, d.Timestamp.UTC().Format(time.RFC3339))
	}
	names := make([]string, 0, len(d.Headers))
	for name := range d.Headers {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		out = append(out, message.Header{Name: connect.HeaderText(name), Value: connect.HeaderText(valueText(d.Headers[name]))})
	}
	return out
}

// valueText writes a value of a header: what is more than one as JSON.
func valueText(v any) string {
	switch v := v.(type) {
	case nil:
		return ""
	case string:
		return v
	case []byte:
		return string(v)
	case time.Time:
		return v.UTC().Format(time.RFC3339)
	case client.Table, []any, map[string]any:
		text, err := json.Marshal(plain(v))
		if err == nil {
			return string(text)
		}
	}
	return fmt.Sprint(v)
}

// plain makes a value one that JSON has.
func plain(v any) any {
	switch v := v.(type) {
	case client.Table:
		return plain(map[string]any(v))
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
	case []byte:
		return string(v)
	}
	return v
}

// property puts a header where the protocol has it.
func property(p *client.Publishing, h message.Header) error {
	is := func(name string) bool { return strings.EqualFold(h.Name, name) }
	short := map[string]*string{
		"Content-Type": &p.ContentType, "Content-Encoding": &p.ContentEncoding, headerCorrelation: &p.CorrelationId,
		headerReplyTo: &p.ReplyTo, headerType: &p.Type, headerApp: &p.AppId, headerUser: &p.UserId,
	}
	for name, into := range short {
		if is(name) {
			if len(h.Value) > 255 {
				return fmt.Errorf("the header %s has %d bytes; the protocol has room for 255", h.Name, len(h.Value))
			}
			*into = h.Value
			return nil
		}
	}
	switch {
	case is("Idempotency-Key"), is(headerMessageID), is(headerExchange), is(headerKey), is(headerRedelivered),
		is(headerTimestamp), is(headerPriority), is(headerExpiration): // said otherwise
	case len(h.Name) > 255:
		return fmt.Errorf("the name of the header %.20s… has %d bytes; the protocol has room for 255", h.Name, len(h.Name))
	default:
		if p.Headers == nil {
			p.Headers = client.Table{}
		}
		p.Headers[h.Name] = h.Value
	}
	return nil
}

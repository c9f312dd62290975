// Package cloudevents reads messages in the form of CloudEvents 1.0 as they come over HTTP:
// binary, where the attributes are headers and the body is the data; structured, where one
// JSON document holds both; and batches of such documents.
//
// An event becomes a message with a header for each attribute, ce- before its name, and
// the data as body. Source and id together tell a repeat of it (CloudEvents 1.0, 3.1).
package cloudevents

import (
	"encoding/base64"
	"fmt"
	"mime"
	"net/url"
	"strings"
	"unicode/utf8"

	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
)

// The content types of the structured modes (JSON event format, 3 and 4).
const (
	Structured = "application/cloudevents+json"
	Batch      = "application/cloudevents-batch+json"
)

// Event is one event as a message.
type Event struct {
	Headers []message.Header
	Body    []byte
	Key     string // the same for a repeat, and for nothing else
}

// mostBatched bounds a batch, in events.
const mostBatched = 1000

// Is tells whether a message over HTTP is an event, by its headers.
func Is(headers []message.Header) bool {
	kind := mediaType(header(headers, "content-type"))
	return kind == Structured || kind == Batch || header(headers, "ce-specversion") != "" || header(headers, "ce-id") != ""
}

// header gives a header by its name, "" for none.
func header(headers []message.Header, name string) string {
	for _, h := range headers {
		if strings.EqualFold(h.Name, name) {
			return h.Value
		}
	}
	return ""
}

func mediaType(s string) string {
	kind, _, err := mime.ParseMediaType(s)
	if err != nil {
		return ""
	}
	return kind
}

// Read reads the events of a message for which Is holds. The error says what is wrong
// with which.
func Read(headers []message.Header, body []byte) ([]Event, error) {
	switch mediaType(header(headers, "content-type")) {
	case Structured:
		root, err := decode(body)
		if err != nil {
			return nil, err
		}
		e, err := structured(root)
		return []Event{e}, err
	case Batch:
		root, err := decode(body)
		if err != nil {
			return nil, err
		}
		if root.Kind != message.List || len(root.Items) > mostBatched {
			return nil, fmt.Errorf("a batch is a list of at most %d events", mostBatched)
		}
		out := make([]Event, len(root.Items))
		for i, one := range root.Items {
			if out[i], err = structured(one); err != nil {
				return nil, fmt.Errorf("event %d: %w", i+1, err)
			}
		}
		return out, nil
	}
	e, err := binary(headers, body)
	return []Event{e}, err
}

func decode(body []byte) (*message.Node, error) {
	r, err := jsonfmt.Decode(body)
	if err != nil {
		return nil, fmt.Errorf("the event cannot be read: %w", err)
	}
	return r.Root, nil
}

// attributes collects the attributes of one event.
type attributes struct {
	headers []message.Header
	values  map[string]string
}

func (a *attributes) add(name, value string) error {
	for _, c := range name {
		if (c < 'a' || c > 'z') && (c < '0' || c > '9') {
			return fmt.Errorf("%q is no name of an attribute: it has small letters and digits alone (CloudEvents 1.0, 3)", name)
		}
	}
	if _, twice := a.values[name]; twice {
		return fmt.Errorf("the attribute %s stands twice", name)
	}
	if a.values == nil {
		a.values = map[string]string{}
	}
	a.values[name] = value
	if name != "datacontenttype" {
		value = strings.Map(func(c rune) rune {
			if c == '\r' || c == '\n' || c == 0 {
				return ' '
			}
			return c
		}, value)
		a.headers = append(a.headers, message.Header{Name: "ce-" + name, Value: value})
	}
	return nil
}

// event makes the event, when the attributes are there that each must have (3.1).
func (a *attributes) event(kind string, body []byte) (Event, error) {
	for _, name := range []string{"specversion", "id", "source", "type"} {
		if a.values[name] == "" {
			return Event{}, fmt.Errorf("the event has no %s (CloudEvents 1.0, 3.1)", name)
		}
	}
	if v := a.values["specversion"]; v != "1.0" {
		return Event{}, fmt.Errorf("the event is of version %q; 1.0 is understood here", v)
	}
	headers := a.headers
	if kind != "" {
		headers = append([]message.Header{{Name: "content-type", Value: kind}}, headers...)
	}
	return Event{headers, body, a.values["source"] + "\x00" + a.values["id"]}, nil
}

// binary reads an event whose attributes are headers (HTTP binding, 3.1).
func binary(headers []message.Header, body []byte) (Event, error) {
	var a attributes
	kind := ""
	var others []message.Header
	for _, h := range headers {
		name := strings.ToLower(h.Name)
		attribute, is := strings.CutPrefix(name, "ce-")
		switch {
		case name == "content-type":
			kind = h.Value
		case is:
			value, err := url.PathUnescape(h.Value) // 3.1.3.2
			if err != nil || !utf8.ValidString(value) {
				return Event{}, fmt.Errorf("the header %s is not percent-encoded as it must be (HTTP binding, 3.1.3.2)", h.Name)
			}
			if err := a.add(attribute, value); err != nil {
				return Event{}, err
			}
		default:
			others = append(others, h)
		}
	}
	e, err := a.event(kind, body)
	e.Headers = append(e.Headers, others...)
	return e, err
}

// structured reads an event that is one JSON document (JSON event format, 3).
func structured(root *message.Node) (Event, error) {
	if root.Kind != message.Map {
		return Event{}, fmt.Errorf("an event is a JSON object, not a %s", root.Kind)
	}
	var a attributes
	var data, coded *message.Node
	for _, m := range root.Members {
		switch m.Name {
		case "data":
			data = m.Value
			continue
		case "data_base64":
			coded = m.Value
			continue
		}
		value, scalar := m.Value.Scalar()
		if !scalar {
			return Event{}, fmt.Errorf("the attribute %s is a %s; attributes are texts, whole numbers or booleans", m.Name, m.Value.Kind)
		}
		if m.Value.Kind == message.Null {
			continue // as if it were not there (2.2)
		}
		if err := a.add(m.Name, value); err != nil {
			return Event{}, err
		}
	}
	kind := a.values["datacontenttype"]
	switch {
	case data != nil && coded != nil:
		return Event{}, fmt.Errorf("the event has both data and data_base64 (JSON event format, 3.1)")
	case coded != nil:
		body, err := base64.StdEncoding.DecodeString(coded.Text)
		if err != nil || coded.Kind != message.String {
			return Event{}, fmt.Errorf("data_base64 holds no base64")
		}
		return a.event(kind, body)
	case data == nil:
		return a.event(kind, nil)
	case data.Kind == message.String && kind != "" && !isJSON(kind):
		return a.event(kind, []byte(data.Text)) // a text that is not JSON stands as a JSON string (3.1)
	}
	if kind == "" {
		kind = "application/json" // 3.1
	}
	return a.event(kind, jsonfmt.Encode(data))
}

// isJSON tells whether data of a content type is JSON (JSON event format, 3.1).
func isJSON(kind string) bool {
	kind = mediaType(kind)
	_, sub, _ := strings.Cut(kind, "/")
	return sub == "json" || strings.HasSuffix(sub, "+json")
}

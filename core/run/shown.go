package run

import (
	"crypto/sha256"
	"encoding/json"
	"strings"

	"github.com/google/uuid"

	"readyferry/core/message"
	"readyferry/core/step"
	"readyferry/core/want"
)

// ShownAnswer is what the caller would get.
type ShownAnswer struct {
	Status  int               `json:"status"`
	Headers map[string]string `json:"headers"`
	Body    string            `json:"body"`
}

// ShownIntake is what the intake made of the message.
type ShownIntake struct {
	Outcome   string   `json:"outcome"` // accepted, or why not
	Reference string   `json:"reference"`
	Once      string   `json:"once"`
	Order     string   `json:"order"`
	Warnings  []string `json:"warnings"`
	Body      *Body    `json:"body,omitempty"` // the message as it was read
}

// Delivery is what a delivery would hand over.
type Delivery struct {
	Path    string       `json:"path"`
	Step    string       `json:"step"`
	Kind    string       `json:"kind"`
	Target  string       `json:"target"`
	Request ShownRequest `json:"request"`
}

// ShownRequest is a request as people read it.
type ShownRequest struct {
	Method  string            `json:"method,omitempty"`
	URL     string            `json:"url,omitempty"`
	Headers map[string]string `json:"headers"`
	Text    *string           `json:"text,omitempty"`
	Base64  []byte            `json:"base64,omitempty"`
	Format  string            `json:"format"`
	Lines   []message.Line    `json:"lines,omitempty"` // laid out, of XML and HL7
	// Of a message for a queue: 0 to 9, and milliseconds that it may wait there.
	Priority *int  `json:"priority,omitempty"`
	Expires  int64 `json:"expires,omitempty"`
	// Of a question for a database: the values of its parameters.
	Query *want.Query `json:"query,omitempty"`
	// What a delivery says to its system besides.
	Settings json.RawMessage `json:"settings,omitempty"`
}

// ShowDelivery gives what is handed over as people read it, with the key by
// which an outside system can tell repeats.
func ShowDelivery(transaction, path, stepID string, w want.Handed) Delivery {
	to, name, r := w.Handed()
	d := Delivery{Path: path, Step: stepID, Kind: to, Target: name}
	d.Request = ShownRequest{
		Query:    r.Query,
		Settings: r.Settings,
		Method:   r.Method,
		URL:      r.Path,
		Headers:  headerMap(r.Headers),
	}
	if p, ok := w.(*want.Put); ok {
		d.Request.Priority, d.Request.Expires = &p.Priority, p.Expires.Milliseconds()
	}
	if _, outside := w.(*want.Send); outside && r.Query == nil { // each system carries it in its own place
		d.Request.Headers["Idempotency-Key"] = DeliveryID(transaction, path)
	}
	if q, ok := w.(*want.Question); ok {
		for name := range d.Request.Headers {
			if strings.EqualFold(name, "correlation-id") || strings.EqualFold(name, "reply-to") {
				delete(d.Request.Headers, name)
			}
		}
		d.Request.Headers["correlation-id"], d.Request.Headers["reply-to"] = DeliveryID(transaction, path), q.ReplyTo
	}
	b := NewBody(r.Format, r.Body)
	d.Request.Text, d.Request.Base64, d.Request.Format, d.Request.Lines = b.Text, b.Base64, b.Format, b.Lines
	return d
}

// DeliveryID gives the id of the delivery that a step of a transaction makes:
// the same on every walk. It is a UUID of version 7 with the transaction's
// time, so that ids sort by arrival, and a hash of transaction and path.
func DeliveryID(transaction, path string) string {
	var id uuid.UUID
	sum := sha256.Sum256([]byte(transaction + "\x00" + path))
	copy(id[:], sum[:])
	if tx, err := uuid.Parse(transaction); err == nil {
		copy(id[:6], tx[:6])
	}
	id[6] = id[6]&0x0F | 0x70
	id[8] = id[8]&0x3F | 0x80
	return id.String()
}

// ShowAnswer gives an answer as people read it.
func ShowAnswer(a *step.Answer) *ShownAnswer {
	return &ShownAnswer{Status: a.Status, Headers: headerMap(a.Headers), Body: string(a.Body)}
}

func headerMap(headers []message.Header) map[string]string {
	out := map[string]string{}
	for _, h := range headers {
		out[h.Name] = h.Value
	}
	return out
}

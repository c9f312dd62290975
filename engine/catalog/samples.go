package catalog

import (
	"encoding/json"
	"fmt"
	"sort"
	"time"
	"unicode/utf8"

	"readyferry/core/message"
	"readyferry/core/run"
	"readyferry/store"
)

// Sample is a message kept with a flow to design and check against.
type Sample struct {
	Name    string            `json:"name"`
	Body    string            `json:"body"`
	Base64  []byte            `json:"base64,omitempty"` // instead of Body for bytes that are not UTF-8
	Headers map[string]string `json:"headers"`
	Params  map[string]string `json:"params"`
	Query   map[string]string `json:"query"`
	Replies map[string]Reply  `json:"replies,omitempty"` // stand-in answers by step id or path
	Expect  *Expectation      `json:"expect,omitempty"`
	At      time.Time         `json:"at"` // when it counts as received
}

// Reply is the answer of a stand-in in a rehearsal.
type Reply struct {
	Status  int               `json:"status"`
	Headers map[string]string `json:"headers,omitempty"`
	Body    string            `json:"body,omitempty"`
}

// Expectation is the outcome that a person has pinned.
type Expectation struct {
	State    string            `json:"state"`
	Answer   int               `json:"answer,omitempty"` // HTTP status, 0 where nobody waits
	Outcomes map[string]string `json:"outcomes"`         // by path
}

// SetBody sets the bytes of the message.
func (s *Sample) SetBody(b []byte) {
	if utf8.Valid(b) {
		s.Body = string(b)
		return
	}
	s.Base64 = b
}

// Envelope gives the sample as a message that comes in. Its id follows from
// the flow and the sample, so that rehearsals repeat.
func (s *Sample) Envelope(flowName string) run.Envelope {
	at := s.At.UTC()
	if at.IsZero() {
		at = time.Date(2026, 3, 17, 9, 41, 7, 0, time.UTC)
	}
	in := run.Envelope{ID: run.DeliveryID(flowName, "sample "+s.Name), ReceivedAt: at, Body: []byte(s.Body)}
	if s.Base64 != nil {
		in.Body = s.Base64
	}
	in.Headers, in.Params, in.Query = Pairs(s.Headers), Pairs(s.Params), Pairs(s.Query)
	return in
}

// Pairs gives headers in the order of their names.
func Pairs(m map[string]string) []message.Header {
	out := make([]message.Header, 0, len(m))
	for k, v := range m {
		out = append(out, message.Header{Name: k, Value: v})
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Name < out[j].Name })
	return out
}

// SaveSample keeps a sample of a flow.
func SaveSample(tx *store.Tx, name string, s Sample) error {
	b, err := json.Marshal(s)
	if err != nil {
		return err
	}
	return tx.SaveSample(&store.Sample{Flow: name, Name: s.Name, Document: b})
}

// Samples lists the samples of a flow.
func (c *Catalog) Samples(name string) ([]Sample, error) {
	rows, err := c.store.Samples(name)
	if err != nil {
		return nil, err
	}
	out := make([]Sample, 0, len(rows))
	for _, r := range rows {
		var s Sample
		if err := json.Unmarshal(r.Document, &s); err != nil {
			return nil, fmt.Errorf("the sample %s of %s: %w", r.Name, name, err)
		}
		s.Name = r.Name
		out = append(out, s)
	}
	return out, nil
}

package catalog

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"sort"
	"strings"
	"time"
	"unicode/utf8"

	"readyferry/core/format"
	"readyferry/core/mask"
	"readyferry/core/message"
	"readyferry/core/plan"
	"readyferry/core/run"
	"readyferry/core/want"
	"readyferry/store"
)

// Sample is a message kept with a flow to design and check against.
type Sample struct {
	Name     string              `json:"name"`
	Group    string              `json:"group,omitempty"` // samples that belong together
	Body     string              `json:"body"`
	Base64   []byte              `json:"base64,omitempty"` // instead of Body for bytes that are not UTF-8
	Headers  map[string]string   `json:"headers"`
	Params   map[string]string   `json:"params"`
	Query    map[string]string   `json:"query"`
	Repeated map[string][]string `json:"repeated,omitempty"` // parameters of the query that stand more than once
	Replies  map[string]Reply    `json:"replies,omitempty"`  // stand-in answers by step id or path
	Expect   *Expectation        `json:"expect,omitempty"`
	At       time.Time           `json:"at"` // when it counts as received
}

// Reply is the answer of a stand-in in a rehearsal.
type Reply struct {
	Status  int               `json:"status"`
	Headers map[string]string `json:"headers,omitempty"`
	Body    string            `json:"body,omitempty"`
	Base64  []byte            `json:"base64,omitempty"` // instead of Body for bytes that are not UTF-8
}

// Effect gives the reply as what a want comes to.
func (r Reply) Effect() want.Effect {
	e := want.Effect{Status: r.Status, Headers: Pairs(r.Headers), Body: []byte(r.Body)}
	if r.Base64 != nil {
		e.Body = r.Base64
	}
	return e
}

// Effects gives replies as what wants come to, by path or step.
func Effects(replies map[string]Reply) map[string]want.Effect {
	out := make(map[string]want.Effect, len(replies))
	for at, r := range replies {
		out[at] = r.Effect()
	}
	return out
}

// ReplyOf keeps what a want came to as a stand-in's reply; false for one that has no
// answer of its own.
func ReplyOf(e *want.Effect) (Reply, bool) {
	r := Reply{Status: e.Status}
	content := e.Body
	switch n := len(e.Looked); {
	case n > 0 && e.Looked[n-1].Asked != "":
		return r, false // a rehearsal looks it up itself
	case n > 0 && e.Looked[n-1].Default:
		return r, false
	case n > 0:
		if content = e.Looked[n-1].Row; content == nil {
			r.Status = 404
		}
	case e.Status == 0 && len(e.Body) == 0:
		return r, false
	}
	if len(e.Headers) > 0 {
		r.Headers = map[string]string{}
	}
	for _, h := range e.Headers {
		r.Headers[h.Name] = h.Value
	}
	if utf8.Valid(content) {
		r.Body = string(content)
	} else {
		r.Base64 = content
	}
	return r, true
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

// Take takes over what came with a message, as it is stored.
func (s *Sample) Take(headers, params, query []byte) error {
	lists := make([][]message.Header, 3)
	for i, b := range [][]byte{headers, params, query} {
		var err error
		if lists[i], err = want.DecodeHeaders(b); err != nil {
			return err
		}
	}
	for _, h := range lists[0] {
		name := strings.ToLower(h.Name)
		if old, twice := s.Headers[name]; twice {
			h.Value = old + ", " + h.Value
		}
		s.Headers[name] = h.Value
	}
	for _, p := range lists[1] {
		s.Params[p.Name] = p.Value
	}
	values := map[string][]string{}
	for _, q := range lists[2] {
		values[q.Name] = append(values[q.Name], q.Value)
	}
	for name, list := range values {
		if len(list) == 1 {
			s.Query[name] = list[0]
			continue
		}
		if s.Repeated == nil {
			s.Repeated = map[string][]string{}
		}
		s.Repeated[name] = list
	}
	return nil
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
	for _, name := range slices.Sorted(maps.Keys(s.Repeated)) {
		for _, v := range s.Repeated[name] {
			in.Query = append(in.Query, message.Header{Name: name, Value: v})
		}
	}
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

// MadeUp puts made-up values of like shape in the place of what a flow masks, in a message
// that came in from outside and becomes a sample: in its body, and wherever the same
// stands in its headers, parameters and answers. Contents that no text is, and bodies that
// cannot be read, are left out.
func (s *Sample) MadeUp(p *plan.Plan, paths []mask.Path) {
	if len(paths) == 0 {
		return
	}
	var pairs []string
	root := s.masked(p, paths)
	if root == nil {
		s.SetBody(nil)
	} else {
		for _, v := range mask.Values(root, paths) {
			pairs = append(pairs, v, mask.MadeUp(v))
		}
	}
	same := strings.NewReplacer(pairs...)
	for _, of := range []map[string]string{s.Headers, s.Params, s.Query} {
		for name, value := range of {
			of[name] = same.Replace(value)
		}
	}
	for path, r := range s.Replies {
		r.Body, r.Base64 = same.Replace(r.Body), nil
		s.Replies[path] = r
	}
}

// masked makes the body one with made-up values, and gives the tree that it had.
func (s *Sample) masked(p *plan.Plan, paths []mask.Path) *message.Node {
	if p == nil {
		return nil
	}
	was := []byte(s.Body)
	if s.Base64 != nil {
		was = s.Base64
	}
	name, layout := format.Of(p.Document.Intake.Format, s.Headers["content-type"]), p.Document.Intake.Layout
	d, err := format.Decode(name, was, layout, format.Limits{})
	if err != nil {
		return nil
	}
	now, err := format.Encode(name, mask.MakeUp(d.Root, paths), d.Layout)
	if err != nil {
		return nil
	}
	s.SetBody(now)
	return d.Root
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

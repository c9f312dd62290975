package engine

import (
	"context"
	"encoding/json"
	"fmt"
	"sort"
	"time"
	"unicode/utf8"

	"readyferry/core/flow"
	"readyferry/core/message"
	"readyferry/core/plan"
	"readyferry/core/run"
	"readyferry/core/step"
	"readyferry/core/table"
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

// SampleRehearsal is the rehearsal of one sample.
type SampleRehearsal struct {
	Sample   string `json:"sample"`
	Expected string `json:"expected"` // as expected, differs, or none
	run.Rehearsal
}

func (s *Sample) setBody(b []byte) {
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
	in.Headers, in.Params, in.Query = pairs(s.Headers), pairs(s.Params), pairs(s.Query)
	return in
}

func pairs(m map[string]string) []message.Header {
	out := make([]message.Header, 0, len(m))
	for k, v := range m {
		out = append(out, message.Header{Name: k, Value: v})
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Name < out[j].Name })
	return out
}

// RehearseSamples runs samples through a draft: the given document and files,
// or the saved ones where they are nil; the given samples, or all saved ones.
// A document that cannot be walked gives its findings and no rehearsals.
func (e *Engine) RehearseSamples(name string, document []byte, samples []Sample) ([]SampleRehearsal, []flow.Finding, error) {
	f, err := e.store.Flow(name)
	if err != nil {
		return nil, nil, err
	}
	if document == nil {
		document = []byte(f.Draft)
	}
	files, err := e.store.Files(name)
	if err != nil {
		return nil, nil, err
	}
	if samples == nil {
		if samples, err = e.Samples(name); err != nil {
			return nil, nil, err
		}
	}
	p, findings := e.Read(name, document, files)
	if p == nil {
		return []SampleRehearsal{}, findings, nil
	}
	return rehearse(p, name, samples, e.store.LookIn()), findings, nil
}

// rehearse walks samples one after the other, so that they meet where a step
// gathers messages.
func rehearse(p *plan.Plan, name string, samples []Sample, tables table.Tables) []SampleRehearsal {
	began := time.Now()
	envelopes, options := make([]run.Envelope, len(samples)), make([]run.Options, len(samples))
	for i := range samples {
		replies := map[string]step.Effect{}
		for id, r := range samples[i].Replies {
			replies[id] = step.Effect{Status: r.Status, Headers: pairs(r.Headers), Body: []byte(r.Body)}
		}
		envelopes[i] = samples[i].Envelope(name)
		options[i] = run.Options{Replies: replies, Clock: func() time.Duration { return time.Since(began) }, Tables: tables}
	}
	out := make([]SampleRehearsal, len(samples))
	for i, r := range run.RehearseAll(p, envelopes, options) {
		out[i] = SampleRehearsal{Sample: samples[i].Name, Rehearsal: r, Expected: "none"}
		if x := samples[i].Expect; x != nil {
			out[i].Expected = "as expected"
			if !x.met(&r) {
				out[i].Expected = "differs"
			}
		}
	}
	return out
}

func (x *Expectation) met(r *run.Rehearsal) bool {
	if x.State != r.State || x.Answer != 0 && (r.Answer == nil || r.Answer.Status != x.Answer) || len(x.Outcomes) != len(r.Trace) {
		return false
	}
	for _, t := range r.Trace {
		if want, ok := x.Outcomes[t.Path]; !ok || want != t.Outcome {
			return false
		}
	}
	return true
}

// Samples lists the samples of a flow.
func (e *Engine) Samples(name string) ([]Sample, error) {
	rows, err := e.store.Samples(name)
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

// SaveSample creates or replaces a sample of a flow.
func (e *Engine) SaveSample(ctx context.Context, name string, s Sample) error {
	if s.At.IsZero() {
		s.At = e.clock()
	}
	err := e.store.Write(ctx, func(tx *store.Tx) error {
		if _, err := tx.Flow(name); err != nil {
			return err
		}
		return saveSample(tx, name, s)
	})
	e.Events.Publish(TopicFlows)
	return err
}

func saveSample(tx *store.Tx, name string, s Sample) error {
	b, err := json.Marshal(s)
	if err != nil {
		return err
	}
	return tx.SaveSample(&store.Sample{Flow: name, Name: s.Name, Document: b})
}

// DeleteSample removes a sample.
func (e *Engine) DeleteSample(ctx context.Context, name, sample string) error {
	defer e.Events.Publish(TopicFlows)
	return e.store.Write(ctx, func(tx *store.Tx) error { return tx.DeleteSample(name, sample) })
}

package design

import (
	"cmp"
	"slices"
	"strings"

	"readyferry/core/message"
	"readyferry/core/plan"
	"readyferry/core/run"
	"readyferry/core/step"
	"readyferry/engine/catalog"
)

// Touched is a flow that gets what another one hands on, or that calls it.
type Touched struct {
	Flow  string `json:"flow"`
	Title string `json:"title"`
	// By is how: queue, topic, flow (it is called) or caller (it calls).
	By   string `json:"by"`
	Name string `json:"name"` // of the queue or topic
	// Tried are the samples of which something comes to it, Breaks those of them with which
	// it cannot go on, and Why is why of the first.
	Tried  int      `json:"tried"`
	Breaks []string `json:"breaks"`
	Why    string   `json:"why,omitempty"`
}

// Touched tells which others are touched by a document, nil for the draft: the live readers of
// the queues and topics that it fills, the flows that it calls, and those that call it. What
// the samples hand on is rehearsed with each of them.
func (g *Designs) Touched(name string, document []byte) ([]Touched, error) {
	p, err := g.drafted(name, document)
	if err != nil {
		return nil, err
	}
	samples, err := g.Catalog.Samples(name)
	if err != nil {
		return nil, err
	}
	out := g.takers(name, p)
	for _, s := range g.rehearse(p, name, samples, func(string) bool { return true }) {
		for i := range out {
			g.tryOn(&out[i], &s)
		}
	}
	g.Catalog.Each(func(other *catalog.Flow) {
		if other.Name == name || other.Live == nil {
			return
		}
		if slices.ContainsFunc(other.Live.Uses, func(u step.Use) bool { return u.Kind == step.UseFlow && u.Name == name }) {
			out = append(out, Touched{Flow: other.Name, Title: titleOf(other), By: "caller", Breaks: []string{}})
		}
	})
	slices.SortStableFunc(out, func(a, b Touched) int {
		return cmp.Or(strings.Compare(a.By, b.By), strings.Compare(a.Name, b.Name), strings.Compare(a.Flow, b.Flow))
	})
	return out, nil
}

func titleOf(f *catalog.Flow) string { return cmp.Or(f.Live.Document.Title, f.Name) }

// takers names the live flows that take what a plan hands on inside the application.
func (g *Designs) takers(name string, p *plan.Plan) (out []Touched) {
	for _, u := range p.Uses {
		kind, readers := "", []string{}
		switch u.Kind {
		case step.UseQueue:
			kind, readers = "queue", g.Catalog.Readers(u.Name, false)
		case step.UseTopic:
			kind, readers = "topic", g.Catalog.Readers(catalog.TopicChannel(u.Name), false)
		case step.UseFlow:
			kind, readers = "flow", []string{u.Name}
		}
		for _, reader := range readers {
			f := g.Catalog.Flow(reader)
			known := func(t Touched) bool { return t.Flow == reader && t.By == kind && t.Name == u.Name }
			if f == nil || f.Live == nil || reader == name || slices.ContainsFunc(out, known) {
				continue
			}
			out = append(out, Touched{Flow: reader, Title: titleOf(f), By: kind, Name: u.Name, Breaks: []string{}})
		}
	}
	return out
}

// tryOn rehearses with a flow what comes to it of a sample.
func (g *Designs) tryOn(t *Touched, s *SampleRehearsal) {
	f := g.Catalog.Flow(t.Flow)
	if f == nil || f.Live == nil {
		return
	}
	tried := false
	for i := range s.Deliveries {
		d := &s.Deliveries[i]
		if d.Kind != t.By || d.Target != t.Name && t.By != "flow" || t.By == "flow" && d.Target != t.Flow {
			continue
		}
		in := run.Envelope{ID: run.DeliveryID(t.Flow, s.Sample+d.Path), ReceivedAt: g.Now(), Body: d.Request.Base64}
		if d.Request.Text != nil {
			in.Body = []byte(*d.Request.Text)
		}
		for name, value := range d.Request.Headers {
			in.Headers = append(in.Headers, message.Header{Name: name, Value: value})
		}
		tried = true
		r := run.Rehearse(f.Live, in, run.Options{Tables: g.Store.LookIn(), NoBodies: true, Strict: true})
		if r.State != run.DeadLetter {
			continue
		}
		if t.Why == "" && r.Reason != nil {
			t.Why = *r.Reason
		}
		if !slices.Contains(t.Breaks, s.Sample) {
			t.Breaks = append(t.Breaks, s.Sample)
		}
	}
	if tried {
		t.Tried++
	}
}

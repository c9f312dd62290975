package design

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"

	"readyferry/connect"
	"readyferry/core/expr"
	"readyferry/core/flow"
	"readyferry/core/message"
	"readyferry/core/plan"
	"readyferry/core/run"
	"readyferry/core/step"
	"readyferry/engine/catalog"
	"readyferry/engine/journal"
	"readyferry/store"
)

// SampleRehearsal is the rehearsal of one sample.
type SampleRehearsal struct {
	Sample   string `json:"sample"`
	Expected string `json:"expected"` // as expected, differs, or none
	// Breaks say how it differs.
	Breaks []string `json:"breaks,omitempty"`
	run.Rehearsal
}

// RehearseSamples runs samples through a draft: the given document and files,
// or the saved ones where they are nil; the given samples, or all saved ones.
// A document that cannot be walked gives its findings and no rehearsals.
func (g *Designs) RehearseSamples(
	name string,
	document []byte,
	samples []catalog.Sample,
) ([]SampleRehearsal, []flow.Finding, error) {
	out, findings, _, err := g.rehearsed(name, document, samples, func(string) bool { return true })
	return out, findings, err
}

// Follow is RehearseSamples of all that are kept, with the messages of one alone: what an
// edit does is asked for with every keystroke, and of the others only what happens is shown.
func (g *Designs) Follow(
	name string, document []byte, whole string,
) (all []SampleRehearsal, findings []flow.Finding, unreached []run.Unreached, err error) {
	return g.rehearsed(name, document, nil, func(sample string) bool { return sample == whole })
}

// rehearsed is RehearseSamples, with the messages of the samples that are shown.
func (g *Designs) rehearsed(
	name string,
	document []byte,
	samples []catalog.Sample,
	shown func(sample string) bool,
) ([]SampleRehearsal, []flow.Finding, []run.Unreached, error) {
	f, err := g.Store.Flow(name)
	if err != nil {
		return nil, nil, nil, err
	}
	if document == nil {
		document = []byte(f.Draft)
	}
	files, err := g.Store.Files(name)
	if err != nil {
		return nil, nil, nil, err
	}
	if samples == nil {
		if samples, err = g.Catalog.Samples(name); err != nil {
			return nil, nil, nil, err
		}
	}
	p, findings := g.Read(name, document, files)
	if p == nil {
		return []SampleRehearsal{}, findings, nil, nil
	}
	out := g.rehearse(p, name, samples, shown)
	for i := range out { // what only a message shows stands at the flow as well
		for _, f := range out[i].Findings {
			if !slices.ContainsFunc(
				findings,
				func(o flow.Finding) bool { return o.Pointer == f.Pointer && o.Message == f.Message },
			) {
				findings = append(findings, f)
			}
		}
	}
	plain := make([]run.Rehearsal, len(out))
	for i := range out {
		plain[i] = out[i].Rehearsal
	}
	return out, append(findings, pathless(p, files, plain)...), run.Coverage(p, plain), nil
}

// pathless finds what expressions read and no sample has that came there, and no schema names.
func pathless(p *plan.Plan, files map[string][]byte, all []run.Rehearsal) (out []flow.Finding) {
	missing := run.NoSuchPath(all)
	needs := slices.SortedFunc(maps.Keys(missing), func(a, b run.Need) int {
		return cmp.Or(strings.Compare(a.At, b.At), strings.Compare(a.Path, b.Path))
	})
	for _, need := range needs {
		m := missing[need]
		if named(files, m.Name) {
			continue
		}
		at := p.Document.Source.Value(need.At)
		instead := run.Instead(need, m)
		var mends []flow.Mend
		if value := valueAt(p.Document.Source.Root, need.At); value != nil && value.Kind == message.String {
			for _, path := range meant(instead) {
				if text := replaceName(value.Text, need.Path, path); text != value.Text {
					mends = append(mends, flow.Mend{Text: "write " + path, Patch: replace(need.At, text)})
				}
			}
		}
		out = append(out, flow.Finding{Mends: mends, Level: flow.Warning, Code: "no-such-path", Step: need.Step, Pointer: need.At,
			Line: at.Line, Column: at.Column, Repair: instead,
			Message: "no sample that comes here has it: " + m.Error()})
	}
	return out
}

// named tells whether a schema among the files of a flow has a word, as a name has to stand there.
func named(files map[string][]byte, name string) bool {
	word := regexp.MustCompile(`(^|[^\pL\pN_])` + regexp.QuoteMeta(name) + `($|[^\pL\pN_])`)
	for file, content := range files {
		if _, table := expr.TableName(file); !table && word.Match(content) {
			return true
		}
	}
	return false
}

// rehearse walks samples one after the other, so that they meet where a step
// gathers messages.
func (g *Designs) rehearse(
	p *plan.Plan, name string, samples []catalog.Sample, shown func(sample string) bool,
) []SampleRehearsal {
	nowhere := g.nowhere(p)
	began := time.Now()
	envelopes, options := make([]run.Envelope, len(samples)), make([]run.Options, len(samples))
	for i := range samples {
		envelopes[i] = samples[i].Envelope(name)
		options[i] = run.Options{
			Replies: catalog.Effects(samples[i].Replies),
			Clock:   func() time.Duration { return time.Since(began) },
			Tables:  g.Store.LookIn(),

			NoBodies: !shown(samples[i].Name),
		}
	}
	out := make([]SampleRehearsal, len(samples))
	for i, r := range run.RehearseAll(p, envelopes, options) {
		stopped(&r, nowhere)
		out[i] = SampleRehearsal{Sample: samples[i].Name, Rehearsal: r, Expected: "none"}
		if x := samples[i].Expect; x != nil {
			out[i].Expected = "as expected"
			if out[i].Breaks = x.Breaks(&r); len(out[i].Breaks) > 0 {
				out[i].Expected = "differs"
			}
		}
	}
	return out
}

// nowhere names the connections that there are not, by the steps that use them.
func (g *Designs) nowhere(p *plan.Plan) map[string]string {
	out := map[string]string{}
	for _, u := range p.Uses {
		if u.Kind == step.UseConnection && g.Catalog.Connection(u.Name) == nil {
			out[u.Step] = u.Name
		}
	}
	return out
}

// stopped says of steps that use a connection which is not there that nothing comes of them.
func stopped(r *run.Rehearsal, nowhere map[string]string) {
	for i := range r.Trace {
		e := &r.Trace[i]
		if name := nowhere[e.Step]; name != "" && e.Error == nil && e.Outcome != "skipped" {
			why := fmt.Sprintf("there is no connection %s", name)
			e.Outcome, e.State, e.Error = why, run.DeadLetter, &why
			r.State, r.Reason = run.DeadLetter, &why
		}
	}
}

// KeepTransaction keeps the message of a transaction as a sample of its flow, with its
// headers, parameters and query, and with what outside systems answered and tables
// held, so that a rehearsal comes to what happened. Of a part, the whole is kept.
func (g *Designs) KeepTransaction(ctx context.Context, id store.ID, name string) (*catalog.Sample, error) {
	t, err := g.Store.All().Transaction(id)
	for err == nil && t.Parent != nil {
		t, err = g.Store.All().Transaction(*t.Parent)
	}
	if err != nil {
		return nil, err
	}
	if t.FromGroup || t.OfLetter != nil {
		return nil, fmt.Errorf("%w: it has no message of its own that came in from outside", journal.ErrDecision)
	}
	m, err := g.Store.All().Message(t.ID)
	if err != nil {
		return nil, err
	}
	s := &catalog.Sample{At: t.ReceivedAt, Headers: map[string]string{}, Params: map[string]string{},
		Query: map[string]string{}, Replies: map[string]catalog.Reply{}}
	s.SetBody(m.Body.Bytes())
	if err := s.Take(m.Headers, m.Params, m.Query); err != nil {
		return nil, err
	}
	if err := g.answersOf(t.ID, s.Replies); err != nil {
		return nil, err
	}
	ran, err := g.Catalog.Plan(t.Flow, t.Version)
	if err != nil {
		ran = nil // it cannot be read any more
	}
	s.MadeUp(ran, g.MaskOf(t.Flow, ran))
	err = g.Store.Write(ctx, func(tx *store.Tx) (err error) {
		if _, err = tx.Flow(t.Flow); err != nil {
			return err
		}
		if s.Name, err = tx.FreeSampleName(t.Flow, name); err != nil {
			return err
		}
		return catalog.SaveSample(tx, t.Flow, *s)
	})
	g.Announce(journal.EventFlows)
	return s, err
}

// TakeSample takes one message from the source of a flow's draft as a sample, without
// consuming it, where its system can do that.
func (g *Designs) TakeSample(ctx context.Context, name string) (*catalog.Sample, error) {
	f, err := g.Store.Flow(name)
	if err != nil {
		return nil, err
	}
	files, err := g.Store.Files(name)
	if err != nil {
		return nil, err
	}
	p, findings := g.Read(name, []byte(f.Draft), files)
	if p == nil {
		return nil, &FindingsError{"the draft cannot be read", findings}
	}
	in := &p.Document.Intake
	c := g.Catalog.Connection(in.Of)
	if c == nil {
		return nil, fmt.Errorf("%w: nothing can be taken from a source of kind %s", journal.ErrDecision, in.Kind)
	}
	link, err := g.links.Link(ctx, c)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", journal.ErrDecision, err)
	}
	peeker, can := link.(connect.Peeker)
	if !can {
		return nil, fmt.Errorf(
			"%w: a connection of kind %s gives nothing without its being consumed",
			journal.ErrDecision,
			c.Kind,
		)
	}
	a, err := peeker.Peek(ctx, in.Settings)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", journal.ErrDecision, err)
	}
	s := &catalog.Sample{
		At:      g.Now(),
		Headers: map[string]string{},
		Params:  map[string]string{},
		Query:   map[string]string{},
	}
	s.SetBody(a.Body)
	for _, h := range a.Headers {
		s.Headers[strings.ToLower(h.Name)] = h.Value
	}
	if known := g.Catalog.Flow(name); known != nil {
		s.MadeUp(known.Draft, g.MaskOf(name, nil))
	}
	err = g.Store.Write(ctx, func(tx *store.Tx) (err error) {
		if s.Name, err = tx.FreeSampleName(name, "taken "+s.At.UTC().Format("15:04:05")); err != nil {
			return err
		}
		return catalog.SaveSample(tx, name, *s)
	})
	g.Announce(journal.EventFlows)
	return s, err
}

// answersOf collects what a transaction and its parts heard, by path. The paths of
// parts are their own in the whole.
func (g *Designs) answersOf(id store.ID, into map[string]catalog.Reply) error {
	effects, err := g.Journal.Effects(id)
	if err != nil {
		return err
	}
	for path, e := range effects {
		if r, ok := catalog.ReplyOf(&e); ok {
			into[path] = r
		}
	}
	deliveries, err := g.Store.All().Deliveries(id)
	if err != nil {
		return err
	}
	for _, d := range deliveries {
		tries, err := g.Store.All().Tries(d.ID)
		if err != nil {
			return err
		}
		tries = slices.DeleteFunc(tries, func(t store.Try) bool { return !t.Counts() })
		if _, heard := into[d.Path]; !heard && len(tries) > 0 && tries[len(tries)-1].Status > 0 {
			last := tries[len(tries)-1]
			into[d.Path] = catalog.Reply{Status: last.Status, Body: string(last.Body.Bytes())}
		}
	}
	for after := (*store.ID)(nil); ; {
		parts, err := g.Store.All().Parts(id, nil, after, 200)
		if err != nil || len(parts) == 0 {
			return err
		}
		for i := range parts {
			if err := g.answersOf(parts[i].ID, into); err != nil {
				return err
			}
		}
		if after = &parts[len(parts)-1].ID; len(into) > keptReplies {
			return fmt.Errorf(
				"%w: it has more than %d answers, too many for a sample",
				journal.ErrDecision,
				keptReplies,
			)
		}
	}
}

// keptReplies is how many answers a sample may hold.
const keptReplies = 500

// SaveSample creates or replaces a sample of a flow.
func (g *Designs) SaveSample(ctx context.Context, name string, s catalog.Sample) error {
	if s.At.IsZero() {
		s.At = g.Now()
	}
	err := g.Store.Write(ctx, func(tx *store.Tx) error {
		if _, err := tx.Flow(name); err != nil {
			return err
		}
		return catalog.SaveSample(tx, name, s)
	})
	g.Announce(journal.EventFlows)
	return err
}

// DeleteSample removes a sample.
func (g *Designs) DeleteSample(ctx context.Context, name, sample string) error {
	defer g.Announce(journal.EventFlows)
	return g.Store.Write(ctx, func(tx *store.Tx) error { return tx.DeleteSample(name, sample) })
}

// Sample gives a sample of a flow, or journal.ErrNotFound.
func (g *Designs) Sample(flow, name string) (*catalog.Sample, error) {
	row, err := g.Store.Sample(flow, name)
	if err != nil {
		return nil, err
	}
	var out catalog.Sample
	if err := json.Unmarshal(row.Document, &out); err != nil {
		return nil, fmt.Errorf("the sample %s cannot be read: %w", name, err)
	}
	return &out, nil
}

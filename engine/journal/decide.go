package journal

import (
	"bytes"
	"errors"
	"fmt"
	"regexp"
	"strings"

	"readyferry/core/flow"
	"readyferry/core/format"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
	"readyferry/core/plan"
	"readyferry/core/pointer"
	"readyferry/core/run"
	"readyferry/core/want"
	"readyferry/store"
)

// Decision is what a person decides about dead letters.
type Decision struct {
	IDs     []store.ID
	Version string // own, live or draft
	Patch   []byte // JSON Patch (RFC 6902) for each message, or nil
	Message []byte // a new message in place of the old one, or nil
	Tree    []byte // the same as the JSON of its tree, for a format that a schema writes, or nil
	Replace *Replace
	Map     []byte // the settings of a map step, as JSON, that makes the new message of the old one, or nil
	Insist  bool   // what was delivered before is delivered once more
	Why     string
	By      string // who decides, as they are called; Person where they do not say
	// Replies are what outside systems would answer, by path, where a preview cannot
	// know it.
	Replies map[string]want.Effect
}

// Replace puts another text in the place of each that is found in a message.
type Replace struct {
	Find   string `json:"find"`
	With   string `json:"with"`
	Regexp bool   `json:"regexp"` // Find is a regular expression (RE2), and With may name its groups as $1 or ${name}
}

// Apply gives the message with the text replaced.
func (r *Replace) Apply(was []byte) ([]byte, error) {
	if r.Find == "" {
		return nil, errors.New("it is not said what to find")
	}
	if !r.Regexp {
		return bytes.ReplaceAll(was, []byte(r.Find), []byte(r.With)), nil
	}
	re, err := regexp.Compile(r.Find)
	if err != nil {
		return nil, fmt.Errorf("what to find is no regular expression: %w", err)
	}
	return re.ReplaceAll(was, []byte(r.With)), nil
}

// Resent is what a resend would do, or has begun to do.
type Resent struct {
	Letter    store.ID       `json:"letter"`
	Error     string         `json:"error,omitempty"`
	Rehearsal *run.Rehearsal `json:"rehearsal,omitempty"`
}

// Check reads the decision's patch, nil without one, and refuses what does not
// go together.
func (d Decision) Check() (pointer.Patch, error) {
	whole := d.Message != nil || d.Tree != nil
	switch {
	case len(d.IDs) == 0:
		return nil, fmt.Errorf("%w: no dead letter is named", ErrDecision)
	case d.ways() > 1:
		return nil, fmt.Errorf("%w: give one of a patch, a message, its tree, what to replace, and a map", ErrDecision)
	case whole && len(d.IDs) > 1:
		return nil, fmt.Errorf("%w: one message cannot take the place of %d; use a patch", ErrDecision, len(d.IDs))
	case d.Replace != nil:
		_, err := d.Replace.Apply(nil)
		if err != nil {
			err = fmt.Errorf("%w: %w", ErrDecision, err)
		}
		return nil, err
	case d.Patch == nil:
		return nil, nil
	}
	p, err := pointer.ParsePatch(d.Patch)
	if err != nil {
		return nil, fmt.Errorf("%w: the patch: %w", ErrDecision, err)
	}
	return p, nil
}

// ways counts the ways in which a decision changes messages.
func (d Decision) ways() (n int) {
	for _, is := range []bool{d.Patch != nil, d.Message != nil, d.Tree != nil, d.Replace != nil, d.Map != nil} {
		if is {
			n++
		}
	}
	return n
}

// Repair gives the message of a transaction as the decision wants it, under the plan that it is
// sent again under.
func (d Decision) Repair(
	r *plan.Reader,
	t *store.Transaction,
	m *store.Message,
	p *plan.Plan,
	patch pointer.Patch,
) ([]byte, error) {
	was := m.Body.Bytes()
	switch {
	case d.Replace != nil:
		return d.Replace.Apply(was)
	case d.Map != nil:
		return mapped(r, d.Map, t, m, p)
	case d.Message != nil:
		return format.Edited(was, d.Message), nil
	case d.Tree == nil && patch == nil:
		return was, nil
	}
	name, layout, err := Written(t, m, p)
	if err != nil {
		return nil, err
	}
	var tree *message.Node
	if d.Tree != nil {
		read, err := jsonfmt.Decode(d.Tree)
		if err != nil {
			return nil, err
		}
		return format.Encode(name, read.Root, layout)
	}
	had, err := format.Decode(name, was, layout, format.Limits{})
	if err == nil {
		tree, err = patch.Apply(had.Root)
	}
	if err != nil {
		return nil, fmt.Errorf("the message cannot be patched: %w", err)
	}
	return format.Encode(name, tree, had.Layout)
}

// Written tells how a tree of a message is written: as JSON, or by the schema of its intake.
func Written(t *store.Transaction, m *store.Message, p *plan.Plan) (string, message.Layout, error) {
	if t.Parent != nil || t.FromGroup || p == nil {
		return format.JSON, message.Layout{}, nil
	}
	e, err := decodeEnvelope(t, m)
	if err != nil {
		return "", message.Layout{}, err
	}
	kind := ""
	for _, h := range e.Headers {
		if strings.EqualFold(h.Name, "content-type") {
			kind = h.Value
		}
	}
	name := format.Of(p.Document.Intake.Format, kind)
	if name != format.Avro && name != format.Protobuf {
		return format.JSON, message.Layout{}, nil
	}
	return name, p.Document.Intake.Layout, nil
}

// mapped makes a new message by a map step over the old one, as its intake reads it.
func mapped(r *plan.Reader, settings []byte, t *store.Transaction, m *store.Message, p *plan.Plan) ([]byte, error) {
	step, err := jsonfmt.Decode(settings)
	if err != nil {
		return nil, fmt.Errorf("the map: %w", err)
	}
	text := message.NewString
	intake := message.NewMap().With("kind", text("webhook")).With("path", text("/mend"))
	if own := p.Document.Source.Root.Get("intake"); own != nil && t.Parent == nil && !t.FromGroup {
		for _, name := range []string{"format", "layout"} {
			if v := own.Get(name); v != nil {
				intake = intake.With(name, v)
			}
		}
	}
	step.Root = step.Root.With("id", text("mend")).With("kind", text("map"))
	document := message.NewMap().With("readyferry", text("flow/1")).With("name", text("mend")).
		With("intake", intake).With("steps", message.NewList(step.Root))
	mend, findings := r.Read(jsonfmt.Encode(document), nil)
	if mend == nil {
		return nil, fmt.Errorf("the map: %s", said(findings))
	}
	e, err := decodeEnvelope(t, m)
	if err != nil {
		return nil, err
	}
	out := run.Rehearse(mend, e, run.Options{})
	if out.Reason != nil {
		return nil, fmt.Errorf("the map: %s", *out.Reason)
	}
	if len(out.Trace) == 0 || out.Trace[0].After == nil {
		return nil, errors.New("the map makes no message of it")
	}
	if after := out.Trace[0].After; after.Text != nil {
		return []byte(*after.Text), nil
	} else {
		return after.Base64, nil
	}
}

// said gives the first of findings in words.
func said(findings []flow.Finding) string {
	for _, f := range findings {
		if f.Level == flow.Error {
			return f.Message
		}
	}
	return "it cannot be read"
}

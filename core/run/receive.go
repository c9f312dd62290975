// Package run walks compiled flows. The walk is pure: the same plan, message
// and recorded effects give the same decisions, byte for byte. It drives live
// runs, rehearsals and the inspection of what has happened.
//
// A walk goes from the first step as far as the recorded effects reach. Where a
// step needs more of the world, the walk ends with what it wants; whoever drives it
// brings that about, records the effect and walks again from the first step. A
// walk over a thousand effects therefore computes all steps before the last one
// anew: that is the price of never storing a message between two steps, and the
// reason why before and after of every step can be shown for every transaction.
//
// Three walks begin elsewhere than at the first step: a part at the step behind
// its split (Origin), a group behind its aggregate (Resume), the steps for a dead
// letter at theirs (Letter).
//
// A Rehearsal drives walks with answers of stand-ins, and keeps in memory what the
// engine keeps on disk: groups, turns, seen keys, tables.
package run

import (
	"errors"
	"fmt"
	"time"

	"readyferry/core/expr"
	"readyferry/core/format"
	"readyferry/core/message"
	"readyferry/core/plan"
	"readyferry/core/step"
)

// Envelope is a message as it came in.
type Envelope struct {
	ID         string
	ReceivedAt time.Time
	Headers    []message.Header
	Params     []message.Header
	Query      []message.Header
	Body       []byte
	Reference  string // the one it had before, for when the intake computes none
	// Apart tells that the content of Size bytes stands elsewhere and is not at hand: Body is
	// its name there. No step may read it (plan.Unread).
	Apart bool
	Size  int
}

// Received is a message that an intake has taken in.
type Received struct {
	Message   message.Message
	Once      string // value of the once expression, "" without one
	Reference string
	Order     string
	Warnings  []string
}

// RefusedError says why an intake does not take a message.
type RefusedError struct {
	Status int    // HTTP status for a caller
	Title  string // what, in a few words
	Detail string // where and why
	Why    error  // what the caller is not told; nil for nothing
	// RetryAfter is when the caller is to come again, of one that may; 0 for no word of it.
	RetryAfter time.Duration
}

// RetrySeconds gives RetryAfter as a header says it (RFC 9110, 10.2.3): in whole seconds, at
// least one; 0 where it says nothing.
func (e *RefusedError) RetrySeconds() int {
	return int((e.RetryAfter + time.Second - 1) / time.Second)
}

// Unwrap gives why, for whoever runs the flow.
func (e *RefusedError) Unwrap() error {
	if e.Why == nil {
		return errors.New(e.Detail)
	}
	return e.Why
}

func (e *RefusedError) Error() string { return e.Title + ": " + e.Detail }

// Receive decodes a message and computes what the intake says about it. The
// error is a *RefusedError.
func Receive(p *plan.Plan, in Envelope) (Received, error) {
	intake := &p.Document.Intake
	if !in.Apart {
		in.Size = len(in.Body)
	}
	if in.Size > intake.Limit {
		return Received{}, &RefusedError{
			Status: 413,
			Title:  "The body is too large",
			Detail: fmt.Sprintf(
				"it has %d bytes; the intake of %s takes at most %d",
				in.Size,
				p.Document.Name,
				intake.Limit,
			),
		}
	}
	headers := message.HeaderMap(in.Headers)
	kind := headers.Get("content-type")
	name, layout := step.FormatOf(intake.Format, kind, in.Body), intake.Layout
	if intake.Format == "auto" && kind == nil && len(in.Body) == 0 {
		name = format.Text // a call without a body, such as a GET
	}
	if layout.Charset == "" {
		layout.Charset = step.Charset(kind)
	}
	if in.Apart {
		name = format.Binary
	}
	d, err := format.Decode(name, in.Body, layout, intake.Limits)
	if err != nil {
		return Received{}, &RefusedError{Status: 400, Title: "The body cannot be read", Detail: err.Error()}
	}
	if len(d.Duplicates) > 0 && intake.Strict {
		return Received{}, &RefusedError{
			Status: 400,
			Title:  "The body cannot be read",
			Detail: fmt.Sprintf("the member %q stands twice in one map, and this intake is strict", d.Duplicates[0]),
		}
	}
	out := Received{Message: message.Message{
		ID: in.ID, ReceivedAt: in.ReceivedAt, Format: name, Layout: d.Layout, Raw: in.Body, Body: d.Root, Size: in.Size,
		Headers: headers, Params: message.ListMap(in.Params), Query: message.ListMap(in.Query),
	}}
	if kind != nil && step.FormatOf("auto", kind, nil) == name {
		out.Message.ContentType = kind.Text
	}
	if out.Message.Raw == nil {
		out.Message.Raw = []byte{}
	}
	for _, d := range d.Duplicates {
		out.Warnings = append(out.Warnings, fmt.Sprintf("the member %q stood twice in one map; the last one counts", d))
	}
	scope := func() *expr.Scope {
		m := &out.Message
		return &expr.Scope{
			Body:    m.Body,
			Headers: m.Headers,
			Params:  m.Params,
			Query:   m.Query,
			Message: m,
			Now:     in.ReceivedAt,
			Seed:    in.ID + "/intake",
		}
	}
	if out.Reference, err = word(p.Reference, scope()); err != nil {
		out.Warnings = append(out.Warnings, "no reference: "+err.Error())
	}
	if out.Reference == "" {
		out.Reference = in.Reference
	}
	out.Message.Reference = out.Reference
	if out.Order, err = word(p.Order, scope()); err != nil {
		out.Warnings = append(out.Warnings, "no order value: "+err.Error())
	}
	if out.Once, err = word(p.Once, scope()); err != nil {
		return Received{}, &RefusedError{Status: 400, Title: "The message cannot be told from others", Detail: "once, " + err.Error()}
	}
	if p.Once != nil && out.Once == "" {
		return Received{}, &RefusedError{
			Status: 400,
			Title:  "The message cannot be told from others",
			Detail: "once, " + p.Once.Source + " is empty",
		}
	}
	return out, nil
}

// word evaluates an expression of the intake to a short text.
func word(p *expr.Program, scope *expr.Scope) (string, error) {
	if p == nil {
		return "", nil
	}
	n, err := p.Eval(scope)
	if err != nil {
		return "", err
	}
	text, ok := n.Scalar()
	if !ok {
		return "", errors.New(p.Source + " is a " + n.Kind.String() + ", not a text or number")
	}
	if len(text) > 500 {
		return "", errors.New(p.Source + " is longer than 500 bytes")
	}
	return text, nil
}

package design

import (
	"context"
	"fmt"
	"strings"
	"time"
	"unicode/utf8"

	"readyferry/connect"
	"readyferry/core/message"
	"readyferry/core/retry"
	"readyferry/core/run"
	"readyferry/core/want"
	"readyferry/engine/catalog"
	"readyferry/engine/journal"
)

// mostTriedFor is how long a question is waited for that is asked for real while a flow is
// designed.
const mostTriedFor = 15 * time.Second

// TryForReal asks an outside system what a step of a document, nil for the draft, asks of a
// sample, and gives its answer as the sample may keep it. Only a step that says that its
// question is harmless is asked; nothing of it is stored.
func (g *Designs) TryForReal(
	ctx context.Context,
	name string,
	document []byte,
	s catalog.Sample,
	path string,
) (*catalog.Reply, error) {
	p, err := g.drafted(name, document)
	if err != nil {
		return nil, err
	}
	at := run.StepAt(p, run.GroupPath(path))
	if at == nil || at.Kind != "ask" {
		return nil, fmt.Errorf("%w: no ask stands at %s", journal.ErrDecision, path)
	}
	if says := valueAt(p.Document.Source.Root, at.Pointer+"/harmless"); says == nil || says.Kind != message.Bool ||
		says.Text != "true" {
		return nil, fmt.Errorf(
			"%w: %s is not marked as harmless, so it is never asked for real here",
			journal.ErrDecision,
			at.ID,
		)
	}
	var asked *want.Send
	run.Rehearse(
		p,
		s.Envelope(name),
		run.Options{Replies: catalog.Effects(s.Replies), Tables: g.Store.LookIn(), NoBodies: true,
			Asked: func(a want.Asked) {
				if send, ok := a.Want.(*want.Send); ok && a.Path == path {
					asked = send
				}
			}},
	)
	if asked == nil {
		return nil, fmt.Errorf("%w: the sample does not come to %s", journal.ErrDecision, path)
	}
	return g.ask(ctx, asked, run.DeliveryID(name, "tried "+path))
}

// ask tries a question once.
func (g *Designs) ask(ctx context.Context, asked *want.Send, id string) (*catalog.Reply, error) {
	c := g.Catalog.Connection(asked.Connection)
	if c == nil {
		return nil, fmt.Errorf("%w: there is no connection %s", journal.ErrDecision, asked.Connection)
	}
	ctx, cancel := context.WithTimeout(ctx, mostTriedFor)
	defer cancel()
	link, err := g.links.Link(ctx, c)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", journal.ErrDecision, err)
	}
	sender, can := link.(connect.Sender)
	if !can {
		return nil, fmt.Errorf("%w: a connection of kind %s is not asked", journal.ErrDecision, c.Kind)
	}
	rules := retry.Default()
	if asked.Retry != nil {
		rules = *asked.Retry
	}
	r, err := sender.Send(ctx, connect.Request{ID: id, Rules: rules, Request: *asked.Request})
	if err != nil {
		return nil, fmt.Errorf("%w: %s: %w", journal.ErrDecision, asked.Connection, err)
	}
	body, err := r.Body()
	if err != nil {
		return nil, fmt.Errorf("%w: %s: %w", journal.ErrDecision, asked.Connection, err)
	}
	out := &catalog.Reply{Status: r.Status(), Headers: map[string]string{}}
	if out.Status == 0 && r.Outcome == retry.Delivered {
		out.Status = 200 // a system that has no statuses
	}
	for _, h := range r.Headers {
		out.Headers[strings.ToLower(h.Name)] = h.Value
	}
	if out.Body = string(body); !utf8.Valid(body) {
		out.Body, out.Base64 = "", body
	}
	return out, nil
}

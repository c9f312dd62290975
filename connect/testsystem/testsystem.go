// Package testsystem is a kind of outside system for tests alone: carrier pigeons,
// that fly from loft to loft within the process. It shows that a system needs its
// own folder and one line where systems are listed, and nothing else.
package testsystem

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"sync"

	"readyferry/connect"
	"readyferry/core/message"
	"readyferry/core/retry"
	"readyferry/core/system"
)

// Kind is the name of the system in documents.
const Kind = "pigeon"

const (
	connectionSchema = `{"required": ["address"], "properties": {
		"address": {"type": "string", "title": "Loft", "pattern": "^loft://[a-z]+$", "default": "loft://", "description":
			"loft://name", "examples": ["loft://harbour"]},
		"rings": {"type": "boolean", "title": "every pigeon wears a ring"}}}`
	deliverSchema = `{"required": ["perch"], "properties": {
		"perch": {"type": "string", "title": "Perch", "format": "template", "description": "where it lands",
			"examples": ["north"]},
		"weight": {"type": "string", "title": "Weight", "format": "expression", "default": "1", "description":
			"in grams; a pigeon carries 75"},
		"bird": {"enum": ["grey", "white"], "title": "Bird", "default": "grey"},
		"rest": {"type": "string", "title": "Rest before", "format": "duration", "default": "10s"}}}`
	intakeSchema = `{"required": ["perch"], "properties": {
		"perch": {"type": "string", "title": "Perch", "description": "where they are awaited"}}}`
)

// New makes the system, with lofts of its own.
func New() connect.System {
	l := &lofts{}
	l.landed.L = &l.mu
	return connect.System{
		Kind: system.Kind{
			Name: Kind, Title: "Carrier pigeons", Summary: "Pigeons that fly from loft to loft.",
			Sentence: "{bird} pigeon to {perch} at {to}",
			Intake:   system.Schema(intakeSchema), Deliver: system.Schema(deliverSchema),
		},
		Connection: system.Schema(connectionSchema),
		Open:       func(_ context.Context, c *connect.Connection) (connect.Link, error) { return &link{l, c}, nil },
	}
}

// lofts keep what has landed, by loft and perch.
type lofts struct {
	mu     sync.Mutex
	landed sync.Cond
	all    []pigeon
}

type pigeon struct {
	at, id string
	body   []byte
}

type link struct {
	*lofts
	c *connect.Connection
}

// Close implements connect.Link.
func (l *link) Close() error { return nil }

// Check implements connect.Link.
func (l *link) Check(context.Context) (connect.Report, error) {
	return connect.Report{OK: true, Detail: "the loft is open"}, nil
}

// Send implements connect.Sender. A pigeon that carries too much never flies.
func (l *link) Send(_ context.Context, r connect.Request) (connect.Receipt, error) {
	var s struct {
		Perch, Bird string
		Weight      float64
	}
	if err := json.Unmarshal(r.Settings, &s); err != nil {
		return connect.Receipt{}, fmt.Errorf("%w: %w", connect.ErrCannotSend, err)
	}
	if s.Weight > 75 {
		return connect.Receipt{Outcome: retry.Never, Code: "too heavy"}, nil
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.all = append(l.all, pigeon{l.c.Address + "/" + s.Perch, r.ID, slices.Clone(r.Body)})
	l.landed.Broadcast()
	return connect.Receipt{
		Outcome: retry.Delivered,
		Code:    "landed",
		Answer:  strings.NewReader(`{"bird":"` + s.Bird + `"}`),
		Headers: []message.Header{{Name: "Content-Type", Value: "application/json"}},
	}, nil
}

// remembered is how large the mark of the loft memory is: some systems remember every message that
// they have taken lately.
const remembered = 100_000

// Receive implements connect.Receiver; the mark is how many were taken.
func (l *link) Receive(
	ctx context.Context,
	in connect.Settings,
	mark []byte,
	take func(context.Context, []connect.Arrival) ([]connect.Taken, error),
) error {
	at, width := l.c.Address+"/"+in.Get("perch").Text, 1
	if l.c.Address == "loft://memory" {
		width = remembered
	}
	n, _ := strconv.Atoi(strings.TrimSpace(string(mark)))
	defer context.AfterFunc(ctx, func() {
		l.mu.Lock()
		defer l.mu.Unlock()
		l.landed.Broadcast()
	})()
	for {
		p, err := l.next(ctx, at, n)
		if err != nil {
			return err
		}
		n++
		if _, err := take(ctx, []connect.Arrival{{ID: p.id, Body: p.body, Headers: []message.Header{{Name: "Ring",
			Value: p.id}}, Mark: fmt.Appendf(nil, "%-*d", width, n)}}); err != nil {
			return err
		}
	}
}

// next waits for the nth pigeon at a perch, from 0.
func (l *link) next(ctx context.Context, at string, n int) (pigeon, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for {
		seen := 0
		for _, p := range l.all {
			if p.at == at {
				if seen == n {
					return p, nil
				}
				seen++
			}
		}
		if ctx.Err() != nil {
			return pigeon{}, io.ErrClosedPipe
		}
		l.landed.Wait()
	}
}

// List implements connect.Lister.
func (l *link) List(context.Context, string) ([]string, error) {
	return []string{"north", "south"}, nil
}

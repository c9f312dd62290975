package step

import (
	"fmt"
	"strconv"
	"time"

	"readyferry/core/expr"
	"readyferry/core/flow"
	"readyferry/core/group"
	"readyferry/core/want"
)

var resequenceKind = Kind{
	Name:    "resequence",
	Summary: "Puts the messages of a key back into the order of their numbers.",
	Reason: "Use it when a sender numbers its messages and they may overtake each other on the way. A message " +
		"whose number is next goes on at once; one that is early waits for those before it, for so long as the " +
		"step says. Deliveries behind it leave in that order, too.",
	Example: `{id: in-order, kind: resequence, key: body.account, number: body.seq, wait: 5m, then: go on}`,
	Properties: `{
		"key": {"type": "string", "description": "expression; each value has numbers of its own"},
		"number": {"type": "string", "description": "expression for the whole number"},
		"first": {"default": 1, "type": "integer", "description": "the number that a key begins with, 1 by default"},
		"wait": {"examples": ["5m"], "type": "string", "description": "how long a missing number is waited for, such as 5m"},
		"then": {"default": "go on", "enum": ["go on", "dead letter"], "description":
			"when the wait is over: those that waited go on without it (default), or are dead letters"},
		"late": {"default": "turn away", "enum": ["turn away", "go on"], "description":
			"a number whose turn has passed: is turned away (default), or goes on at once"},
		"limit": {"default": 1000, "type": "integer", "minimum": 1, "maximum": 1000000, "description":
			"most messages of one key that wait, 1000 by default; more are dead letters"}
	}`,
	Required: []string{"key", "number", "wait"},
	compile:  compileResequence,
}

type resequence struct {
	key, number *expr.Program
	order       group.Order
}

func compileResequence(c *Compiler, s *flow.Step) Runner {
	r := &resequence{
		key: c.Expression(
			s.Pointer+"/key",
			scalar(s.Settings.Get("key")),
		), number: c.Expression(s.Pointer+"/number", scalar(s.Settings.Get("number"))),
		order: group.Order{
			First:    1,
			Dead:     scalar(s.Settings.Get("then")) == "dead letter",
			PassLate: scalar(s.Settings.Get("late")) == "go on",
			Limit:    group.DefaultWaiting,
		},
	}
	if n := s.Settings.Get("first"); n != nil {
		_, _ = fmt.Sscan(n.Text, &r.order.First)
	}
	if n := s.Settings.Get("limit"); n != nil {
		_, _ = fmt.Sscan(n.Text, &r.order.Limit)
	}
	var err error
	if r.order.Wait, err = flow.Duration(scalar(s.Settings.Get("wait"))); err != nil {
		c.Find(s.Pointer+"/wait", flow.Error, "wrong-value", err.Error(), "write it as 30s, 10m or 24h")
		r.order.Wait = time.Minute
	}
	return r
}

func (r *resequence) Run(c *Call) (Result, error) {
	scope := c.Scope()
	key, err := word("key", r.key, scope)
	if err != nil {
		return Result{}, err
	}
	if e := c.Effect; e != nil {
		if e.Refused != "" {
			return Result{Outcome: "turned away", End: &End{e.Refused}}, nil
		}
		st := c.State
		st.Order = e.Order
		return Result{State: st, Outcome: e.Said}, nil
	}
	text, err := word("number", r.number, scope)
	if err != nil {
		return Result{}, err
	}
	number, err := strconv.ParseInt(text, 10, 64)
	if err != nil {
		return Result{}, &Failure{
			Phase:  "number",
			Class:  Data,
			Reason: fmt.Sprintf("%s is %q, not a whole number", r.number.Source, text),
		}
	}
	return Result{
		State:   c.State,
		Outcome: "waits for its turn",
		Want:    &want.Turn{Key: key, Number: number, Order: &r.order},
	}, nil
}

// OrderOf gives the rules of a compiled step that puts messages in order, or nil.
func OrderOf(s *Compiled) *group.Order {
	if s == nil {
		return nil
	}
	if r, ok := s.Runner.(*resequence); ok {
		return &r.order
	}
	return nil
}

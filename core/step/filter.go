package step

import (
	"fmt"
	"strings"

	"readyferry/core/expr"
	"readyferry/core/flow"
)

var filterKind = Kind{
	Name:    "filter",
	Summary: "Turns a message away unless a condition holds.",
	Reason:  "Use it for messages that are right but of no concern here. They are kept with the reason, and nobody has to act on them.",
	Example: `{id: open-only, kind: filter, keep: 'body.status != "closed"', reason: 'hold ${body.request} is closed'}`,
	Properties: `{
		"keep": {"type": ["string", "boolean"], "description": "condition; the message goes on when it is true"},
		"reason": {"type": "string", "description": "template; why the message is turned away"},
		"else": ` + elseUsually("turn away") + `
	}`,
	Required: []string{"keep"},
	compile:  compileFilter,
}

type filter struct {
	keep   *expr.Program
	reason *expr.Template
	other  otherwise
}

func compileFilter(c *Compiler, s *flow.Step) Runner {
	r := &filter{
		keep:  c.Condition(s.Pointer+"/keep", scalar(s.Settings.Get("keep"))),
		other: readElse(s.Settings.Get("else"), false),
	}
	if n := s.Settings.Get("reason"); n != nil {
		r.reason = c.Template(s.Pointer+"/reason", scalar(n), expr.PlainText)
	}
	return r
}

func (r *filter) Run(c *Call) (Result, error) {
	keep, err := r.keep.EvalBool(c.Scope())
	if err != nil {
		return Result{}, fail("keep", err)
	}
	if keep {
		return Result{State: c.State, Outcome: "goes on"}, nil
	}
	reason := "not: " + r.keep.Source
	if r.reason != nil {
		if reason, err = r.reason.Eval(c.Scope()); err != nil {
			return Result{}, fail("reason", err)
		}
	}
	if r.other.deadLetter {
		return Result{State: c.State, Outcome: "stopped"}, &Failure{Phase: "keep", Class: Data, Reason: reason}
	}
	res := Result{State: c.State, Outcome: "turned away", End: &End{Reason: reason}}
	if r.other.answer > 0 {
		res.Outcome = fmt.Sprintf("%d, turned away", r.other.answer)
		res.Answer = problem(r.other.answer, "The message is turned away", reason, nil)
	}
	return res, nil
}

func lower(s string) string { return strings.ToLower(s) }

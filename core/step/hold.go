package step

import (
	"fmt"
	"time"

	"readyferry/core/expr"
	"readyferry/core/flow"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
	"readyferry/core/table"
	"readyferry/core/want"
)

var holdKind = Kind{
	Name:    "hold",
	Summary: "Keeps a message for a time, until a time, or until a row of a table fits a condition.",
	Reason: "Use it for what must not happen yet: a reminder after three days, a delivery at opening time, an " +
		"order that waits until its customer is known. What is held waits on disk and holds up nothing else.",
	Example: `{id: cool-off, kind: hold, until: {in: branches, key: body.branch, fits: 'row.open == "yes"'}, within: 48h, late: go on}`,
	Properties: `{
		"for": {"examples": ["10m"], "type": "string", "description": "a span of time, such as 10m or 72h"},
		"until": {"description": "expression for a time (RFC 3339), or {in, key, at, fits}: until the row of a table fits",
			"if": {"type": "string"}, "then": {"minLength": 1},
			"else": {"type": "object", "additionalProperties": false, "required": ["in"], "properties": {
				"in": {"$ref": "#/$defs/table-name"}, "key": {"$ref": "#/$defs/table-key"}, "at": {"$ref": "#/$defs/table-at"},
				"fits": {"type": "string", "description": "condition over row; any row by default"}}}},
		"within": {"default": "24h", "type": "string", "description": "how long a row is waited for, 24h by default"},
		"late": {"default": "dead letter", "enum": ["dead letter", "go on", "turn away"], "description":
			"when that time is over: dead letter (default), go on, or turn away"}
	}`,
	compile: compileHold,
}

// DefaultHold is how long a row is waited for where a step says nothing.
const DefaultHold = 24 * time.Hour

type hold struct {
	span, within time.Duration
	until        *expr.Program
	hop          *hop
	fits         *expr.Program
	late         string
}

func compileHold(c *Compiler, s *flow.Step) Runner {
	r := &hold{within: DefaultHold, late: scalar(s.Settings.Get("late"))}
	if r.late == "" {
		r.late = "dead letter"
	}
	span, until := s.Settings.Get("for"), s.Settings.Get("until")
	switch {
	case (span == nil) == (until == nil):
		c.Find(
			s.Pointer,
			flow.Error,
			"missing-key",
			"a hold needs either for or until",
			"write for: 10m, or until: with a time or a row",
		)
	case span != nil:
		r.span = c.span(s.Pointer+"/for", scalar(span))
	case until.Kind == message.Map:
		h := c.hop(until, s.Pointer+"/until", "until/")
		r.hop = &h
		if n := until.Get("fits"); n != nil {
			outer := c.Env
			if env, err := outer.With("row"); err == nil {
				c.Env = env
			}
			r.fits = c.Condition(s.Pointer+"/until/fits", scalar(n))
			c.Env = outer
		}
	default:
		r.until = c.Expression(s.Pointer+"/until", scalar(until))
	}
	for _, name := range []string{"within", "late"} {
		if s.Settings.Get(name) != nil && r.hop == nil {
			c.Find(
				s.Pointer+"/"+name,
				flow.Warning,
				"no-effect",
				name+" has no effect where the end of the wait is known",
				"remove it",
			)
		}
	}
	if n := s.Settings.Get("within"); n != nil {
		r.within = c.span(s.Pointer+"/within", scalar(n))
	}
	c.later(s)
	return r
}

// later notes that the caller has been answered before what stands behind a step.
func (c *Compiler) later(s *flow.Step) { c.outside = s.ID }

func (r *hold) Run(c *Call) (Result, error) {
	if c.Effect != nil {
		return r.done(c)
	}
	h := &want.Hold{Late: r.late}
	switch {
	case r.span > 0:
		h.For = r.span
	case r.until != nil:
		n, err := r.until.Eval(c.Scope())
		if err != nil {
			return Result{}, fail("until", err)
		}
		text, _ := n.Scalar()
		if h.Until, err = time.Parse(time.RFC3339Nano, text); err != nil {
			return Result{}, &Failure{
				Phase: "until",
				Class: Data,
				Reason: fmt.Sprintf(
					"%s is %q, no point in time; it must look like 2026-05-04T09:00:00Z",
					r.until.Source,
					text,
				),
			}
		}
	default:
		h.For, h.Table, h.Lateness = r.within, r.hop.in, r.lateness()
		h.Fits = func(t table.Tables) (bool, want.Looked, error) { return r.fit(c, t) }
	}
	return Result{State: c.State, Outcome: "held", Want: h}, nil
}

// fit looks for the row.
func (r *hold) fit(c *Call, tables table.Tables) (bool, want.Looked, error) {
	scope := c.Scope()
	scope.Rows = table.Live(tables)
	found, err := r.hop.find(scope, tables)
	if err != nil || found.Row == nil || r.fits == nil {
		return err == nil && found.Row != nil, found, err
	}
	row, err := jsonfmt.Decode(found.Row)
	if err != nil {
		return false, found, err
	}
	locals := map[string]*message.Node{"row": row.Root}
	for k, v := range scope.Locals {
		locals[k] = v
	}
	scope.Locals = locals
	fits, err := r.fits.EvalBool(scope)
	if err != nil {
		return false, found, &Failure{Phase: "until/fits", Class: Data, Reason: err.Error()}
	}
	return fits, found, nil
}

func (r *hold) done(c *Call) (Result, error) {
	st := c.State
	st.Answered = true
	e := c.Effect
	switch {
	case e.Failed != "":
		return Result{Outcome: "not come"}, &Failure{Phase: "until", Class: Data, Reason: e.Failed}
	case !e.Over || r.hop == nil:
		return Result{State: st, Outcome: e.Said}, nil
	case r.late == "turn away":
		return Result{State: st, Outcome: "not come", End: &End{r.lateness()}}, nil
	}
	return Result{State: st, Outcome: "goes on without it"}, nil
}

// lateness says in words that a row has not come in time.
func (r *hold) lateness() string {
	return fmt.Sprintf("no row of the table %q fitted within %s", r.hop.in, r.within)
}

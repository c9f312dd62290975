package step

import (
	"fmt"
	"slices"

	"readyferry/core/expr"
	"readyferry/core/flow"
	"readyferry/core/message"
	"readyferry/core/pointer"
)

// CatchSchema says what becomes of a message whose step fails.
const CatchSchema = `{
	"description": "when the step fails: dead letter (default), skip it, {default: {name: expression}} for values ` +
	`under vars in its place, or {steps: [...]}: those run, and the message ends, turned away with the reason, unless ` +
	`then: go on stands beside them; in both caught is what failed",
	"if": {"type": "string"}, "then": {"enum": ["dead letter", "skip"]},
	"else": {"type": "object", "additionalProperties": false, "minProperties": 1, "maxProperties": 2,
		"dependentRequired": {"then": ["steps"]}, "not": {"required": ["default", "steps"]}, "properties": {
		"default": {"type": "object", "minProperties": 1, "additionalProperties": {"type": ["string", "number", "boolean"]}},
		"steps": {"$ref": "#/$defs/steps"}, "then": ` + thenSchema + `}}
}`

// thenSchema says what becomes of a message behind the steps of an else.
const thenSchema = `{"enum": ["end", "go on"], "default": "end", "description": "behind these steps the message ends, ` +
	`turned away with the reason (end), or goes on with the steps behind the one that failed (go on)"}`

// Catch is what a step does instead of ending its message as a dead letter.
type Catch struct {
	Defaults []CatchDefault
	Block    *Block // nil without steps
	Ends     bool   // behind the steps the message ends, turned away
}

// CatchDefault is a value that stands in for what a step would have set.
type CatchDefault struct {
	Name  string
	Value *expr.Program
}

// ElseWay is the name under which the steps of an else stand in paths.
const ElseWay = "else"

// gathers are kinds whose failures concern other messages, too.
var gathers = []string{"aggregate", "resequence"}

// catch compiles the else of a step, where it has one that catches failures.
func (c *Compiler) catch(s *flow.Step) *Catch {
	n := s.Settings.Get("else")
	if n == nil || n.Kind != message.Map && n.Text != "skip" {
		return nil
	}
	ptr := s.Pointer + "/else"
	steps, defaults := n.Get("steps"), n.Get("default")
	if n.Kind == message.Map && steps == nil && defaults == nil {
		return nil // an answer for the caller, which the kind sees to
	}
	if slices.Contains(gathers, s.Kind) {
		c.Find(
			ptr,
			flow.Error,
			"wrong-value",
			"an "+s.Kind+" holds messages back together, so one of them cannot go another way",
			"remove else",
		)
		return nil
	}
	out := &Catch{}
	outer := c.Env
	defer func() { c.Env = outer }()
	if env, err := outer.With("caught"); err == nil {
		c.Env = env
	} // else it stands in another else, and caught is known
	for _, m := range members(defaults) {
		out.Defaults = append(
			out.Defaults,
			CatchDefault{m.Name, c.Expression(ptr+"/default"+pointer.Pointer{m.Name}.String(), scalar(m.Value))},
		)
	}
	if steps != nil {
		out.Block = c.Block(flow.Steps(steps, ptr+"/steps"))
		then := scalar(n.Get("then"))
		out.Ends = then == "end" || then == "" && c.Rules >= flow.Rules2
		if then == "" {
			c.changed(
				flow.Warning,
				ptr,
				"else-ends",
				"behind these steps the message ends now, turned away; in the live version it goes on as if "+
					s.ID+" had not failed",
				"write then: go on beside steps to keep that, or then: end",
			)
		}
	}
	return out
}

// Dead compiles the steps that run for a dead letter, nil where there are none.
func (c *Compiler) Dead(steps []*flow.Step) *Block {
	if steps == nil {
		return nil
	}
	outer := c.Env
	defer func() { c.Env, c.dead = outer, false }()
	if env, err := outer.With("letter"); err == nil {
		c.Env = env
	}
	c.dead = true
	return c.Block(steps)
}

// Caught gives a failure as expressions see it.
func Caught(f *Failure) *message.Node {
	return message.NewMap(
		message.Member{Name: "step", Value: message.NewString(f.Step)},
		message.Member{Name: "path", Value: message.NewString(f.Path)},
		message.Member{Name: "kind", Value: message.NewString(f.Kind)},
		message.Member{Name: "setting", Value: message.NewString(f.Phase)},
		message.Member{Name: "class", Value: message.NewString(string(f.Class))},
		message.Member{Name: "reason", Value: message.NewString(f.Reason)},
	)
}

// Instead gives the state behind a step that has failed: as it was before, with
// the values that stand in.
func (k *Catch) Instead(c *Call, f *Failure) (State, error) {
	st := c.State
	call := *c
	call.State.Caught = Caught(f)
	for _, d := range k.Defaults {
		n, err := d.Value.Eval(call.Scope())
		if err != nil {
			return st, fail("else/default/"+d.Name, fmt.Errorf("after %s: %w", f.Reason, err))
		}
		if st.Vars == nil {
			st.Vars = message.NewMap()
		}
		st.Vars = st.Vars.With(d.Name, n)
		call.State.Vars = st.Vars
	}
	return st, nil
}

// Branches lists the ways below a step: those of a route or scatter, and the
// steps of its else.
func (s *Compiled) Branches() []Way {
	if s.Else == nil || s.Else.Block == nil {
		return s.Ways
	}
	return append(s.Ways[:len(s.Ways):len(s.Ways)], Way{ElseWay, s.Else.Block})
}

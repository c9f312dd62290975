package step

import (
	"fmt"

	"readyferry/core/expr"
	"readyferry/core/flow"
	"readyferry/core/message"
	"readyferry/core/pointer"
)

var setKind = Kind{
	Name:    "set",
	Summary: "Keeps values under vars and puts headers on the message for later steps.",
	Reason:  "Use it when several later steps need the same value, or when a header must leave with every delivery that follows.",
	Example: `{id: need, kind: set, vars: {portal: 'params.portal'}, headers: {x-branch: '${body.branch}'}}`,
	Properties: `{
		"vars": {"type": "object", "description": "name: expression; the value stands under vars.name",
			"additionalProperties": {"type": ["string", "number", "boolean"]}},
		"headers": {"type": "object", "description": "name: template; null takes the header away",
			"additionalProperties": {"type": ["string", "number", "null"]}}
	}`,
	compile: compileSet,
}

type set struct {
	vars []struct {
		name  string
		value *expr.Program
	}
	headers []headerTemplate
}

func compileSet(c *Compiler, s *flow.Step) Runner {
	r := &set{headers: c.headers(s)}
	for _, m := range members(s.Settings.Get("vars")) {
		ptr := s.Pointer + "/vars" + pointer.Pointer{m.Name}.String()
		if p := c.Expression(ptr, scalar(m.Value)); p != nil {
			r.vars = append(r.vars, struct {
				name  string
				value *expr.Program
			}{m.Name, p})
		}
	}
	return r
}

func (r *set) Run(c *Call) (Result, error) {
	st := c.State
	for _, v := range r.vars {
		n, err := v.value.Eval(c.Scope())
		if err == nil {
			err = c.Memory.TakeNode(n)
		}
		if err != nil {
			return Result{}, fail("vars/"+v.name, err)
		}
		if st.Vars == nil {
			st.Vars = message.NewMap()
		}
		st.Vars = st.Vars.With(v.name, n)
		c.State = st // a later value may use an earlier one
	}
	put, err := fillHeaders(r.headers, c.Scope())
	if err != nil {
		return Result{}, err
	}
	for _, h := range r.headers {
		st.Sent = without(st.Sent, h.name)
		if h.value == nil {
			st.Message.Headers = st.Message.Headers.Without(lower(h.name))
		}
	}
	for _, h := range put {
		st.Sent = append(st.Sent[:len(st.Sent):len(st.Sent)], h)
		st.Message.Headers = st.Message.Headers.With(lower(h.Name), message.NewString(h.Value))
	}
	return Result{State: st, Outcome: fmt.Sprintf("%d set", len(r.vars)+len(r.headers))}, nil
}

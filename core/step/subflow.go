package step

import (
	"fmt"
	"strings"
	"time"

	"readyferry/core/expr"
	"readyferry/core/flow"
	"readyferry/core/message"
	"readyferry/core/want"
)

var subflowKind = Kind{
	Name:    "subflow",
	Summary: "Hands the message to another flow, and waits for its answer or not.",
	Reason: "Use it for what several flows do alike, and to let a table or the content decide which flow goes on. " +
		"The other flow has a transaction of its own, which begins in the same database transaction as the step. " +
		"When this one waits, the other's answer step, or else its message at the end, stands under replies.",
	Example: `{id: screen, kind: subflow, flow: patron-screening, wait: true, within: 10s}`,
	Properties: `{
		"flow": {"type": "string", "minLength": 1, "description":
			"name of the flow, or a template such as ${vars.route.flow}"},
		"wait": {"default": false, "type": "boolean", "description": "wait for its answer; false by default"},
		"within": {"default": "24h", "type": "string", "description": "how long the answer is waited for, 24h by default"},
		"headers": {"type": "object", "description": "name: template", "additionalProperties": {"type": ["string", "number",
			"null"]}}
	}`,
	Required: []string{"flow"},
	compile:  compileSubflow,
}

// MaxDepth is how many flows may call each other in a row.
const MaxDepth = 8

type subflow struct {
	flow    *expr.Template
	wait    bool
	within  time.Duration
	headers []headerTemplate
}

func compileSubflow(c *Compiler, s *flow.Step) Runner {
	name := scalar(s.Settings.Get("flow"))
	r := &subflow{
		flow:    c.Template(s.Pointer+"/flow", name, expr.PlainText),
		headers: c.headers(s),
		wait:    scalar(s.Settings.Get("wait")) == "true",
		within:  24 * time.Hour,
	}
	if !strings.Contains(name, "${") {
		c.Uses = append(c.Uses, Use{Kind: UseFlow, Name: name, Step: s.ID, Pointer: s.Pointer + "/flow"})
	}
	if n := s.Settings.Get("within"); n != nil {
		if r.within = c.span(s.Pointer+"/within", scalar(n)); !r.wait {
			c.Find(
				s.Pointer+"/within",
				flow.Warning,
				"no-effect",
				"within has no effect unless the step waits",
				"write wait: true, or remove it",
			)
		}
	}
	if r.wait {
		c.outside = s.ID
	}
	return r
}

func (r *subflow) Run(c *Call) (Result, error) {
	if e := c.Effect; e != nil {
		if e.Failed != "" {
			return Result{Outcome: "no answer"}, &Failure{Phase: "flow", Class: Target, Reason: e.Failed}
		}
		if !r.wait {
			return Result{State: c.State, Outcome: "handed on"}, nil
		}
		st := c.State
		if st.Replies == nil {
			st.Replies = message.NewMap()
		}
		id := c.Path[strings.LastIndexByte(c.Path, '/')+1:]
		st.Replies = st.Replies.With(id, reply(e))
		st.Answered, st.Replied = true, st.Message.Body
		return Result{State: st, Outcome: fmt.Sprintf("answered %d", e.Status)}, nil
	}
	name, err := r.flow.Eval(c.Scope())
	if err != nil {
		return Result{}, fail("flow", err)
	}
	if name == "" {
		return Result{}, &Failure{
			Phase:  "flow",
			Class:  Data,
			Reason: "the name of the flow comes to nothing: " + r.flow.Source,
		}
	}
	own, err := fillHeaders(r.headers, c.Scope())
	if err != nil {
		return Result{}, err
	}
	req := &want.Request{
		Format:  c.State.Message.Format,
		Body:    Bytes(&c.State.Message),
		Headers: []message.Header{{Name: "Content-Type", Value: ContentType(&c.State.Message)}},
	}
	for _, h := range append(c.State.Sent[:len(c.State.Sent):len(c.State.Sent)], own...) {
		req.Headers = append(without(req.Headers, h.Name), h)
	}
	return Result{
		State:   c.State,
		Outcome: "not yet",
		Want:    &want.Call{Flow: name, Request: req, Wait: r.wait, Within: r.within},
	}, nil
}

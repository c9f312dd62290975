package step

import (
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"readyferry/core/expr"
	"readyferry/core/flow"
	"readyferry/core/message"
	"readyferry/core/system"
	"readyferry/core/want"
)

var subflowKind = Kind{
	Name:    "subflow",
	Summary: "Hands the message to another flow, and waits for its answer or not.",
	Reason: "Use it for what several flows do alike, and to let a table or the content decide which flow goes on. " +
		"The other flow has a transaction of its own, which begins in the same database transaction as the step. " +
		"When this one waits, the other's answer step, or else its message at the end, stands under replies. " +
		"With at: it runs on a runner beside systems that only a closed network reaches, with its transaction, its tables " +
		"and its contents there: only what this step hands over and what comes back as the answer crosses the line. The step " +
		"is then done when the other flow has ended there, and what fails there fails the step here.",
	Example: `{id: screen, kind: subflow, flow: patron-screening, wait: true, within: 10s}`,
	Properties: `{
		"flow": {"type": "string", "minLength": 1, "description":
			"name of the flow, or a template such as ${vars.route.flow}"},
		"wait": {"default": false, "type": "boolean", "description": "wait for its answer; false by default"},
		"within": {"default": "24h", "type": "string", "description":
			"how long the answer is waited for, 24h by default; at a runner 5m, and 1h at most"},
		"at": {"type": "string", "pattern": "^[a-z0-9][a-z0-9-]*$", "maxLength": 63, "description":
			"name of a runner: the other flow runs wholly there, so that what it reads and keeps does not leave"},
		"headers": {"type": "object", "description": "name: template", "additionalProperties": {"type": ["string", "number",
			"null"]}}
	}`,
	Required: []string{"flow"},
	compile:  compileSubflow,
}

// MaxDepth is how many flows may call each other in a row.
const MaxDepth = 8

// MostWithinAt is how long a flow at a runner may be waited for: it is one try that lasts.
const MostWithinAt = time.Hour

type subflow struct {
	flow    *expr.Template
	at      string // the runner where it runs; "": here
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
		at:      scalar(s.Settings.Get("at")),
	}
	if !strings.Contains(name, "${") {
		c.Uses = append(c.Uses, Use{Kind: UseFlow, Name: name, Step: s.ID, Pointer: s.Pointer + "/flow", Runner: r.at})
	}
	if r.at != "" {
		r.across(c, s, name)
	}
	if n := s.Settings.Get("within"); n != nil {
		if r.within = c.span(s.Pointer+"/within", scalar(n)); !r.wait && r.at == "" {
			c.Find(
				s.Pointer+"/within",
				flow.Warning,
				"no-effect",
				"within has no effect unless the step waits",
				"write wait: true, or remove it",
			)
		}
	}
	if r.at != "" && r.within > MostWithinAt {
		c.Find(s.Pointer+"/within", flow.Error, "wrong-value", "a flow at a runner is waited for 1h at most",
			"write 1h or less; let a flow that takes longer tell of its end by a connection at the runner")
	}
	if r.wait || r.at != "" {
		c.outside = s.ID
	}
	return r
}

// across reads a step whose flow runs at a runner.
func (r *subflow) across(c *Compiler, s *flow.Step, name string) {
	r.within = 5 * time.Minute
	if strings.Contains(name, "${") {
		c.Find(s.Pointer+"/flow", flow.Error, "wrong-value",
			"a flow at a runner is named as it is: the runner is given that one and no other",
			"write its name, or a route with a step for each")
	}
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
	if r.at != "" {
		return r.crosses(c, name, req)
	}
	return Result{
		State:   c.State,
		Outcome: "not yet",
		Want:    &want.Call{Flow: name, Request: req, Wait: r.wait, Within: r.within},
	}, nil
}

// crosses hands the message to the runner as a delivery is: it is tried again under the same id,
// and waits while the runner is away.
func (r *subflow) crosses(c *Call, name string, req *want.Request) (Result, error) {
	var err error
	if req.Settings, err = json.Marshal(want.Across{Flow: name, Within: r.within}); err != nil {
		return Result{}, err
	}
	req.Ask = true
	return Result{State: c.State, Outcome: "not yet", Want: &want.Send{System: system.Runner,
		Connection: system.AtRunner(r.at), Ask: true,
		Request: req}}, nil
}

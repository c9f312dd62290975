package step

import (
	"time"

	"readyferry/core/expr"
	"readyferry/core/flow"
	"readyferry/core/want"
)

var onceKind = Kind{
	Name:    "once",
	Summary: "Turns a message away when another with the same key came here within a time.",
	Reason: "Use it when only the content tells that a message is a repeat: after a look-up, in a part, or where " +
		"several intakes bring the same. For a repeat that the caller can tell by a header or field, the " +
		"intake's own once is better: it gives the first one's answer.",
	Example: `{id: seen, kind: once, key: body.scan, for: 24h}`,
	Properties: `{
		"key": {"type": "string", "minLength": 1, "description": "expression; the same value is the same message"},
		"for": {"default": "24h", "type": "string", "description": "how long a key is remembered, 24h by default"},
		"reason": {"type": "string", "description": "template; why a repeat is turned away"}
	}`,
	Required: []string{"key"},
	compile:  compileOnce,
}

type once struct {
	key    *expr.Program
	span   time.Duration
	reason *expr.Template
}

func compileOnce(c *Compiler, s *flow.Step) Runner {
	r := &once{key: c.Expression(s.Pointer+"/key", scalar(s.Settings.Get("key"))), span: flow.DefaultOnceFor}
	if n := s.Settings.Get("for"); n != nil {
		r.span = c.span(s.Pointer+"/for", scalar(n))
	}
	if n := s.Settings.Get("reason"); n != nil {
		r.reason = c.Template(s.Pointer+"/reason", scalar(n), expr.PlainText)
	}
	return r
}

// span reads a setting that is a span of time.
func (c *Compiler) span(ptr, text string) time.Duration {
	d, err := flow.Duration(text)
	if err != nil {
		c.Find(ptr, flow.Error, "wrong-value", err.Error(), "write it as 30s, 10m or 24h")
		return time.Minute
	}
	return d
}

func (r *once) Run(c *Call) (Result, error) {
	if c.Effect == nil {
		key, err := word("key", r.key, c.Scope())
		if err != nil {
			return Result{}, err
		}
		return Result{State: c.State, Outcome: "not yet", Want: &want.Once{Key: key, For: r.span}}, nil
	}
	if c.Effect.Refused == "" {
		return Result{State: c.State, Outcome: "the first"}, nil
	}
	reason := c.Effect.Refused
	if r.reason != nil {
		var err error
		if reason, err = r.reason.Eval(c.Scope()); err != nil {
			return Result{}, fail("reason", err)
		}
	}
	return Result{State: c.State, Outcome: "a repeat", End: &End{reason}}, nil
}

package step

import (
	"fmt"
	"net/textproto"
	"strings"

	"readyferry/core/expr"
	"readyferry/core/flow"
	"readyferry/core/message"
)

var deliverKind = Kind{
	Name:    "deliver",
	Summary: "Hands the message over for guaranteed delivery, to a connection over HTTP or to a queue.",
	Reason:  "Use it for everything that must arrive. The message is stored first, tried on a retry plan that ends, and kept as a dead letter when it cannot be delivered. Steps after it see the answer under replies.",
	Example: `{id: to-shelf, kind: deliver, to: shelf-printer, method: POST, path: '/${body.branch}/slips', retry: {first: 5s, tries: 6}}`,
	Properties: `{
		"to": {"description": "name of a connection, or {queue: name}", "if": {"type": "string"}, "then": {"minLength": 1},
			"else": {"type": "object", "additionalProperties": false, "required": ["queue"], "properties": {"queue": {"type": "string", "pattern": "^[A-Za-z0-9][A-Za-z0-9._-]*$"}}}},
		"method": {"enum": ["POST", "PUT", "PATCH", "DELETE", "GET"], "description": "HTTP method, POST by default"},
		"path": {"type": "string", "description": "template; below the connection's address"},
		"headers": {"type": "object", "description": "name: template", "additionalProperties": {"type": ["string", "number", "null"]}},
		"retry": {"$ref": "#/$defs/retry"}
	}`,
	Required: []string{"to"},
	compile:  compileDeliver,
}

type deliver struct {
	kind, target, method string
	path                 *expr.Template
	headers              []headerTemplate
	retry                *Retry
}

func compileDeliver(c *Compiler, s *flow.Step) Runner {
	r := &deliver{kind: WantHTTP, target: scalar(s.Settings.Get("to")), method: scalar(s.Settings.Get("method")), headers: c.headers(s)}
	if q := s.Settings.Get("to").Get("queue"); q != nil {
		r.kind, r.target = WantQueue, q.Text
		c.Uses = append(c.Uses, Use{UseQueue, r.target, s.ID, s.Pointer + "/to/queue"})
		for _, name := range []string{"method", "path", "retry"} {
			if s.Settings.Get(name) != nil {
				c.Find(s.Pointer+"/"+name, flow.Warning, "no-effect", name+" has no effect on a delivery to a queue", "remove it")
			}
		}
	} else {
		c.Uses = append(c.Uses, Use{UseConnection, r.target, s.ID, s.Pointer + "/to"})
		c.outside = s.ID
	}
	if r.method == "" {
		r.method = "POST"
	}
	if n := s.Settings.Get("path"); n != nil {
		if t := scalar(n); t != "" && !strings.HasPrefix(t, "/") && !strings.HasPrefix(t, "?") {
			c.Find(s.Pointer+"/path", flow.Error, "wrong-value", "the path must begin with /", "write it as /"+t)
		}
		r.path = c.Template(s.Pointer+"/path", scalar(n), expr.URLPath)
	}
	if n := s.Settings.Get("retry"); n != nil {
		retry, bad := ReadRetry(n)
		for _, b := range bad {
			c.Find(s.Pointer+"/retry/"+b.Setting, flow.Error, "retry", b.Reason, "")
		}
		r.retry = retry
		if len(bad) == 0 {
			if err := retry.Plan().Check(); err != nil {
				c.Find(s.Pointer+"/retry", flow.Error, "retry", err.Error(), "")
			}
		}
	}
	return r
}

func (r *deliver) Run(c *Call) (Result, error) {
	if c.Effect != nil {
		return r.done(c), nil
	}
	req := &Request{Format: c.State.Message.Format, Body: Bytes(&c.State.Message)}
	if r.kind == WantHTTP {
		req.Method = r.method
	}
	if r.path != nil {
		path, err := r.path.Eval(c.Scope())
		if err != nil {
			return Result{}, fail("path", err)
		}
		req.Path = path
	}
	own, err := fillHeaders(r.headers, c.Scope())
	if err != nil {
		return Result{}, err
	}
	req.Headers = append(req.Headers, message.Header{Name: "Content-Type", Value: ContentType(&c.State.Message)})
	for _, h := range append(c.State.Sent[:len(c.State.Sent):len(c.State.Sent)], own...) {
		req.Headers = append(without(req.Headers, h.Name), message.Header{Name: textproto.CanonicalMIMEHeaderKey(h.Name), Value: h.Value})
	}
	return Result{State: c.State, Outcome: "not yet", Want: &Want{Kind: r.kind, Target: r.target, Request: req, Retry: r.retry}}, nil
}

// done goes on with the answer that the delivery got.
func (r *deliver) done(c *Call) Result {
	st := c.State
	if r.kind == WantQueue {
		return Result{State: st, Outcome: "queued"}
	}
	if st.Replies == nil {
		st.Replies = message.NewMap()
	}
	id := c.Path[strings.LastIndexByte(c.Path, '/')+1:]
	st.Replies = st.Replies.With(id, c.Effect.reply())
	st.Answered = true
	return Result{State: st, Outcome: fmt.Sprint(c.Effect.Status)}
}

func without(headers []message.Header, name string) []message.Header {
	out := make([]message.Header, 0, len(headers)+1)
	for _, h := range headers {
		if !strings.EqualFold(h.Name, name) {
			out = append(out, h)
		}
	}
	return out
}

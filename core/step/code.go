package step

import (
	"encoding/json"
	"errors"
	"fmt"

	"readyferry/core/flow"
	"readyferry/core/format"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
	"readyferry/core/script"
	"readyferry/core/want"
)

var codeKind = Kind{
	Name:    "code",
	Summary: "Runs a piece of JavaScript on the message, in a sandbox without files, network, clock or dice.",
	Reason: "Use it for what no other step says: an odd checksum, a shape that a map cannot reach. What it " +
		"returns is the new body, or a value under vars. Numbers are JavaScript's there: whole ones beyond " +
		"2⁵³ lose digits, and 0.10 becomes 0.1.",
	Example: `{id: check-digit, kind: code, into: digit, script: "let sum = 0;\nfor (const [i, c] of ` +
		`[...body.item].entries()) sum += Number(c) * (i % 2 ? 1 : 3);\nreturn (10 - sum % 10) % 10;"}`,
	Properties: `{
		"script": {"type": "string", "minLength": 1, "maxLength": 262144, "description":
			"JavaScript: the body of a function that returns a value. It sees body, headers, params, ` +
		`query, message, vars, replies, part, index, group, and now as a text"},
		"into": {"type": "string", "pattern": "^[A-Za-z_][A-Za-z0-9_]*$", "description":
			"the value stands under vars by this name; without it, it is the new body, as JSON"},
		"limit": {"default": "200ms", "type": "string", "description": "how long it may run, 200ms by default, 2s at most"}
	}`,
	Required: []string{"script"},
	compile:  compileCode,
}

type code struct {
	program *script.Program
	into    string
}

func compileCode(c *Compiler, s *flow.Step) Runner {
	r := &code{into: scalar(s.Settings.Get("into"))}
	limit := script.DefaultTime
	if n := s.Settings.Get("limit"); n != nil {
		if limit = c.span(s.Pointer+"/limit", scalar(n)); limit > script.MaxTime {
			c.Find(
				s.Pointer+"/limit",
				flow.Error,
				"wrong-value",
				"a script runs for at most "+script.MaxTime.String(),
				"write limit: "+script.MaxTime.String()+", or less",
			)
		}
	}
	if c.Sandbox == nil {
		c.Find(s.Pointer+"/kind", flow.Error, "wrong-value", "there is no sandbox here to run scripts in", "")
		return r
	}
	var err error
	if r.program, err = c.Sandbox.Compile(scalar(s.Settings.Get("script")), limit); err != nil {
		ptr := s.Pointer + "/script"
		place := c.Document.Source.Value(ptr)
		var at *script.SyntaxError
		if errors.As(err, &at) {
			place = c.Document.Source.Within(ptr, at.Line, at.Column)
		}
		c.found(s, ptr, place, flow.Error, "script", "the script cannot be read: "+err.Error(), "")
	}
	return r
}

func (r *code) Run(c *Call) (Result, error) {
	var value *message.Node
	res := Result{State: c.State}
	if e := c.Effect; e != nil {
		d, err := jsonfmt.Decode(e.Value)
		if err != nil {
			return Result{}, &Failure{
				Phase:  "script",
				Class:  Flow,
				Reason: "what the script came to cannot be read: " + err.Error(),
			}
		}
		value = d.Root
	} else {
		s := c.Scope()
		m := message.NewMap(
			message.Member{Name: "id", Value: message.NewString(s.Message.ID)}, message.Member{Name: "receivedAt",
				Value: message.NewString(s.Message.ReceivedAt.UTC().Format("2006-01-02T15:04:05.000Z"))},
			message.Member{Name: "size", Value: jsonInt(s.Message.Size)}, message.Member{Name: "format",
				Value: message.NewString(s.Message.Format)}, message.Member{Name: "reference",
				Value: message.NewString(s.Message.Reference)},
		)
		in := map[string]*message.Node{
			"body": s.Body, "headers": s.Headers, "params": s.Params, "query": s.Query, "vars": orEmpty(s.Vars),
			"replies": orEmpty(s.Replies),
			"message": m, "now": message.NewString(s.Now.UTC().Format("2006-01-02T15:04:05.000Z")),
		}
		for name, n := range s.Locals {
			in[name] = n
		}
		var err error
		if value, err = r.program.Run(in); err != nil {
			class := Data
			if errors.Is(err, script.ErrLimit) {
				class = Flow
			}
			return Result{}, &Failure{Phase: "script", Class: class, Reason: err.Error()}
		}
		res.Keep = &want.Effect{Value: json.RawMessage(jsonfmt.Encode(value))}
	}
	if r.into != "" {
		res.State.Vars = orEmpty(res.State.Vars).With(r.into, value)
		res.Outcome = fmt.Sprintf("%s under %s", value.Kind, r.into)
		return res, nil
	}
	m := &res.State.Message
	m.Format, m.Body, m.Raw, m.Layout, m.ContentType = format.JSON, value, nil,
		message.Layout{Escapes: m.Layout.Escapes}, ""
	res.Outcome = "a " + value.Kind.String()
	return res, nil
}

func orEmpty(n *message.Node) *message.Node {
	if n == nil {
		return message.NewMap()
	}
	return n
}

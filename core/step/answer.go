package step

import (
	"fmt"
	"strings"

	"readyferry/core/expr"
	"readyferry/core/flow"
	"readyferry/core/format"
	"readyferry/core/message"
)

var answerKind = Kind{
	Name:    "answer",
	Summary: "Says what the caller of the intake gets.",
	Reason: "Use it when the caller wants more than the word that the message is stored. The first answer counts; " +
		"where nobody waits it is noted and does nothing.",
	Example: `{id: reply, kind: answer, status: 200, text: '{"slip": "${body.slip}"}'}`,
	Properties: `{
		"status": {"default": 200, "type": "integer", "minimum": 200, "maximum": 599, "description":
			"HTTP status, 200 by default"},
		"headers": {"type": "object", "description": "name: template", "additionalProperties": {"type": ["string", "number",
			"null"]}},
		"text": {"type": "string", "description":
			"template of the answer's body; without it the present message is answered. A text that begins with { or [ is ` +
		`JSON, and its holes are escaped for that; so is one that begins with < and whose content-type says xml"}
	}`,
	compile: compileAnswer,
}

type answer struct {
	status  int
	headers []headerTemplate
	text    *expr.Template
	format  string
}

func compileAnswer(c *Compiler, s *flow.Step) Runner {
	r := &answer{status: 200, headers: c.headers(s)}
	if in := &c.Document.Intake; c.outside != "" && !in.Finished && in.Kind != "subflow" {
		c.Find(
			s.Pointer,
			flow.Warning,
			"late-answer",
			fmt.Sprintf("the caller has been answered before the step %s, so nobody waits for this", c.outside),
			"move the answer above that step",
		)
	}
	if n := s.Settings.Get("status"); n != nil {
		_, _ = fmt.Sscan(n.Text, &r.status)
	}
	if n := s.Settings.Get("text"); n != nil {
		place := expr.PlainText
		r.format = "text"
		if t := strings.TrimSpace(scalar(n)); strings.HasPrefix(t, "{") || strings.HasPrefix(t, "[") {
			place, r.format = expr.JSONText, "json"
		} else if strings.HasPrefix(t, "<") && saysXML(s) {
			place, r.format = expr.XMLText, "xml"
		}
		r.text = c.Template(s.Pointer+"/text", scalar(n), place)
	}
	return r
}

// saysXML tells whether the headers of an answer say that it is XML.
func saysXML(s *flow.Step) bool {
	for _, h := range members(s.Settings.Get("headers")) {
		if strings.EqualFold(h.Name, "content-type") && strings.Contains(strings.ToLower(h.Value.Text), "xml") {
			return true
		}
	}
	return false
}

func (r *answer) Run(c *Call) (Result, error) {
	a := &Answer{Status: r.status}
	contentType := ContentType(&c.State.Message)
	if r.text != nil {
		text, err := r.text.Eval(c.Scope())
		if err != nil {
			return Result{}, fail("text", err)
		}
		a.Body, contentType = []byte(text), format.ContentType(r.format)
	} else {
		a.Body = Bytes(&c.State.Message)
	}
	own, err := fillHeaders(r.headers, c.Scope())
	if err != nil {
		return Result{}, err
	}
	a.Headers = []message.Header{{Name: "Content-Type", Value: contentType}}
	for _, h := range own {
		a.Headers = append(without(a.Headers, h.Name), h)
	}
	return Result{State: c.State, Outcome: fmt.Sprint(r.status), Answer: a}, nil
}

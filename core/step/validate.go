package step

import (
	"fmt"
	"strings"

	"readyferry/core/flow"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
	"readyferry/core/schema"
)

var validateKind = Kind{
	Name:    "validate",
	Summary: "Checks the body against a JSON Schema (draft 2020-12) and lists every place that does not fit.",
	Reason:  "Use it first, so that bad messages are told apart at the door and every later step can rely on what it reads.",
	Example: `{id: valid, kind: validate, schema: {type: object, required: [request]}, else: {answer: 422}}`,
	Properties: `{
		"schema": {"type": ["object", "boolean"], "description":
			"the schema itself, or {$ref: file} for one of the flow's files"},
		"else": ` + elseUsually("dead letter") + `
	}`,
	Required: []string{"schema"},
	compile:  compileValidate,
}

// elseSchema says what a message gets that does not pass; elseUsually is the same
// with what it gets where the step says nothing.
const elseSchema = `{
	"description":
		"what a message gets that does not pass: dead letter, turn away, {answer: status} for the caller, or ` +
	`{steps: [...]}: those run, caught says why, and the message ends, turned away, unless then: go on stands beside them",
	"if": {"type": "string"}, "then": {"enum": ["dead letter", "turn away"]},
	"else": {"type": "object", "additionalProperties": false, "minProperties": 1, "maxProperties": 2,
		"dependentRequired": {"then": ["steps"]}, "not": {"required": ["answer", "steps"]},
		"properties": {"answer": {"type": "integer", "minimum": 200, "maximum": 599}, "steps": {"$ref": "#/$defs/steps"},
			"then": ` + thenSchema + `}}}`

func elseUsually(usual string) string {
	return `{"default": "` + usual + `", ` + strings.TrimPrefix(elseSchema, "{")
}

// otherwise is what a step does with a message that does not pass it.
type otherwise struct {
	deadLetter bool
	answer     int // status for the caller, or 0
}

func readElse(n *message.Node, deadLetter bool) otherwise {
	switch {
	case n == nil:
		return otherwise{deadLetter: deadLetter}
	case n.Kind == message.Map && n.Get("steps") != nil:
		return otherwise{deadLetter: true} // it fails, and its else catches that
	case n.Kind == message.Map:
		status := 0
		_, _ = fmt.Sscan(scalar(n.Get("answer")), &status)
		return otherwise{answer: status}
	}
	return otherwise{deadLetter: n.Text == "dead letter"}
}

type validate struct {
	schema *schema.Schema
	other  otherwise
}

func compileValidate(c *Compiler, s *flow.Step) Runner {
	r := &validate{other: readElse(s.Settings.Get("else"), true)}
	compiled, err := schema.Compile(s.Settings.Get("schema"), c.Files)
	if err != nil {
		c.Find(
			s.Pointer+"/schema",
			flow.Error,
			"schema",
			"the schema does not compile: "+err.Error(),
			"correct the schema, or add the file that it names to the flow",
		)
	}
	r.schema = compiled
	return r
}

func (r *validate) Run(c *Call) (Result, error) {
	failures, err := r.schema.Validate(c.State.Message.Body)
	if err != nil {
		return Result{}, &Failure{Phase: "schema", Class: Data, Reason: err.Error()}
	}
	if len(failures) == 0 {
		return Result{State: c.State, Outcome: "valid"}, nil
	}
	lines := make([]string, 0, len(failures))
	for _, f := range failures {
		lines = append(lines, strings.TrimSpace(f.Pointer+" "+f.Reason))
	}
	reason := strings.Join(lines[:min(20, len(lines))], "; ")
	if len(lines) > 20 {
		reason += fmt.Sprintf("; and %d more", len(lines)-20)
	}
	if r.other.deadLetter {
		return Result{State: c.State, Outcome: brief(failures)}, &Failure{Phase: "schema", Class: Data, Reason: reason}
	}
	res := Result{State: c.State, Outcome: brief(failures), End: &End{Reason: reason}}
	if r.other.answer > 0 {
		res.Outcome = fmt.Sprintf("%d, %s", r.other.answer, res.Outcome)
		res.Answer = problem(r.other.answer, "The message is not valid", reason, failures)
	}
	return res, nil
}

func brief(failures []schema.Failure) string {
	at := failures[0].Pointer
	if at == "" {
		at = failures[0].Reason
	}
	if len(failures) > 1 {
		return fmt.Sprintf("%s and %d more", at, len(failures)-1)
	}
	return at
}

// problem builds an answer as RFC 9457 has it.
func problem(status int, title, detail string, failures []schema.Failure) *Answer {
	n := message.NewMap(
		message.Member{Name: "type", Value: message.NewString("about:blank")},
		message.Member{Name: "title", Value: message.NewString(title)},
		message.Member{Name: "status", Value: jsonInt(status)},
		message.Member{Name: "detail", Value: message.NewString(detail)},
	)
	if failures != nil {
		list := message.NewList()
		for _, f := range failures {
			list.Items = append(list.Items, message.NewMap(
				message.Member{Name: "pointer", Value: message.NewString(f.Pointer)},
				message.Member{Name: "reason", Value: message.NewString(f.Reason)},
			))
		}
		n = n.With("errors", list)
	}
	return &Answer{
		Status: status, Body: jsonfmt.Encode(n),
		Headers: []message.Header{{Name: "Content-Type", Value: "application/problem+json"}},
	}
}

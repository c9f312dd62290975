package step

import (
	"readyferry/core/expr"
	"readyferry/core/flow"
)

var noteKind = Kind{
	Name:    "note",
	Summary: "Writes a line into the transaction's log.",
	Reason:  "Use it to leave word for the person who will look at this transaction: what was seen, what was decided.",
	Example: `{id: seen, kind: note, text: '${size(body.titles)} titles', level: info}`,
	Properties: `{
		"text": {"type": "string", "description": "template"},
		"level": {"default": "info", "enum": ["info", "warning"]}
	}`,
	Required: []string{"text"},
	compile:  compileNote,
}

type note struct {
	text  *expr.Template
	level string
}

func compileNote(c *Compiler, s *flow.Step) Runner {
	r := &note{
		level: scalar(s.Settings.Get("level")),
		text:  c.Template(s.Pointer+"/text", scalar(s.Settings.Get("text")), expr.PlainText),
	}
	if r.level == "" {
		r.level = "info"
	}
	return r
}

func (r *note) Run(c *Call) (Result, error) {
	text, err := r.text.Eval(c.Scope())
	if err != nil {
		return Result{}, fail("text", err)
	}
	return Result{State: c.State, Outcome: text, Note: &Note{r.level, text}}, nil
}

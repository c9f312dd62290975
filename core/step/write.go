package step

import (
	"readyferry/core/expr"
	"readyferry/core/flow"
	"readyferry/core/format"
	"readyferry/core/message"
)

var writeKind = Kind{
	Name:    "write",
	Summary: "Builds a new body from a text with ${…} holes, escaped for its format.",
	Reason: "Use it when the target wants a document of a fixed shape and it is easier to write it down than to " +
		"build it field by field. What stands between ${for line in body.lines} and ${end} is written for each item, with " +
		"index and last beside it; ${if condition} … ${else} … ${end} writes one of two. What the text comes to must be a " +
		"document of the format.",
	Example: `{id: order, kind: write, as: xml, text: '<order id="${body.id}"><note>${body.note}</note></order>'}`,
	Properties: `{
		"as": {"default": "text", "enum": ["json", "xml", "csv", "hl7", "form", "jsonl", "fixed", "text"], "description":
			"format of the new body, text by default"},
		"text": {"type": "string", "description":
			"template; ${for x in list} … ${end} repeats, ${if condition} … ${else} … ${end} chooses; $${ is a plain ${"},
		"header": {"type": "boolean", "description": "CSV: the first row names the members of the others"},
		"columns": {"$ref": "#/$defs/columns"}, "delimiter": {"$ref": "#/$defs/delimiter"}
	}`,
	Required: []string{"text"},
	compile:  compileWrite,
}

type write struct {
	as     string
	layout message.Layout
	text   *expr.Template
}

func compileWrite(c *Compiler, s *flow.Step) Runner {
	r := &write{as: scalar(s.Settings.Get("as")), layout: flow.Layout(s.Settings)}
	if r.as == "" {
		r.as = format.Text
	}
	place := map[string]expr.Place{format.JSON: expr.JSONText, format.XML: expr.XMLText, format.CSV: expr.CSVText,
		format.HL7: expr.HL7Text, format.Form: expr.FormText, format.Lines: expr.JSONText}[r.as]
	r.text = c.Template(s.Pointer+"/text", scalar(s.Settings.Get("text")), place)
	return r
}

func (r *write) Run(c *Call) (Result, error) {
	text, err := r.text.Eval(c.Scope())
	if err != nil {
		return Result{}, fail("text", err)
	}
	res := Result{State: c.State, Outcome: "as " + r.as}
	m := &res.State.Message
	m.Format, m.Layout = r.as, r.layout
	if err := reread(m, []byte(text)); err != nil {
		return Result{
				State: c.State,
			}, &Failure{
				Phase:  "text",
				Class:  Flow,
				Reason: "what was written is no document of its format: " + err.Error(),
			}
	}
	return res, nil
}

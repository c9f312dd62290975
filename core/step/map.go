package step

import (
	"fmt"
	"strings"

	"readyferry/core/expr"
	"readyferry/core/flow"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
	"readyferry/core/pointer"
)

var mapKind = Kind{
	Name:    "map",
	Summary: "Builds a new body field by field.",
	Reason:  "Use it to give the target the shape that it wants. Each field says where it goes and where it comes from; what is not named stays behind, unless the map starts from the present body.",
	Example: `{id: slip, kind: map, as: json, fields: [{to: /card, from: 'body.patron.card.replace(" ", "")'}, {to: /note, from: 'body.?note', missing: skip}]}`,
	Properties: `{
		"as": {"enum": ["json"], "description": "format of the new body"},
		"start": {"enum": ["nothing", "body"], "description": "what the fields are written into: nothing (default) or the present body"},
		"fields": {"type": "array", "description": "one entry per field", "items": {
			"type": "object", "additionalProperties": false, "required": ["to", "from"],
			"properties": {
				"to": {"type": "string", "description": "JSON Pointer (RFC 6901) of the field; /- appends to a list"},
				"from": {"type": ["string", "number", "boolean"], "description": "expression for its value"},
				"missing": {"enum": ["error", "skip"], "description": "when the value is not there: error (default) or skip the field"},
				"note": {"type": "string"}
			}}}
	}`,
	Required: []string{"fields"},
	compile:  compileMap,
}

type mapField struct {
	to       pointer.Pointer
	source   string
	from     *expr.Program
	skip     bool
	position int
}

type mapping struct {
	fields   []mapField
	fromBody bool
}

func compileMap(c *Compiler, s *flow.Step) Runner {
	r := &mapping{fromBody: scalar(s.Settings.Get("start")) == "body"}
	written := map[string]int{}
	for i, f := range s.Settings.Get("fields").Items {
		ptr := fmt.Sprintf("%s/fields/%d", s.Pointer, i)
		to, err := pointer.Parse(scalar(f.Get("to")))
		if err != nil {
			c.Find(ptr+"/to", flow.Error, "pointer", err.Error(), "write the place as /a/b")
			continue
		}
		if first, twice := written[to.String()]; twice && !strings.Contains(to.String()+"/", "/-/") {
			c.Find(ptr+"/to", flow.Warning, "written-twice", fmt.Sprintf("field %d has already written %s", first+1, to), "remove one of them")
		}
		written[to.String()] = i
		from := c.Expression(ptr+"/from", scalar(f.Get("from")))
		if from == nil {
			continue
		}
		r.fields = append(r.fields, mapField{to, to.String(), from, scalar(f.Get("missing")) == "skip", i})
	}
	return r
}

func (r *mapping) Run(c *Call) (Result, error) {
	scope := c.Scope()
	var root *message.Node
	if r.fromBody {
		root = scope.Body
	}
	var res Result
	var first error
	set := 0
	for _, f := range r.fields {
		detail := Field{To: f.source, Reads: bodyReads(f.from)}
		v, err := f.from.Eval(scope)
		switch {
		case err != nil && f.skip && expr.IsMissing(err):
			detail.Outcome = "skipped"
		case err != nil:
			detail.Outcome, detail.Error = "failed", err.Error()
			if first == nil {
				first = fail(fmt.Sprintf("fields/%d %s", f.position, f.source), err)
			}
		default:
			next, err := f.to.Set(root, v)
			if err != nil {
				detail.Outcome, detail.Error = "failed", err.Error()
				if first == nil {
					first = &Failure{Phase: fmt.Sprintf("fields/%d %s", f.position, f.source), Class: Flow, Reason: err.Error()}
				}
				break
			}
			root = next
			set++
			detail.Outcome = "set"
			if c.Trace {
				detail.Value = string(jsonfmt.Encode(v))
			}
		}
		if c.Trace {
			res.Fields = append(res.Fields, detail)
		} else if first != nil {
			break
		}
	}
	if root == nil {
		root = message.NewMap()
	}
	res.State = c.State
	_ = become(&res.State.Message, "json", message.Layout{}, root)
	res.Outcome = fmt.Sprintf("%d of %d set", set, len(r.fields))
	return res, first
}

func bodyReads(p *expr.Program) []string {
	out := []string{}
	for _, r := range p.Reads {
		if r.Root == "body" {
			out = append(out, r.Pointer())
		}
	}
	return out
}

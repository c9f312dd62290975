package step

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"readyferry/core/expr"
	"readyferry/core/flow"
	"readyferry/core/format"
	"readyferry/core/format/hl7"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
)

var mapKind = Kind{
	Name:    "map",
	Summary: "Builds a new body field by field.",
	Reason: "Use it to give the target the shape that it wants. Each field says where it goes and where it comes " +
		"from, and is escaped as the format wants; what is not named stays behind, unless the map starts from " +
		"the present body or an example. A field with each is a loop: it writes its own fields for every item of a list.",
	Example: `{id: slip, kind: map, as: json, fields: [{to: /card, from: 'body.patron.card.replace(" ", "")'}, ` +
		`{to: /note, from: 'body.?note', missing: skip}, {to: /lines, each: body.lines, as: line, fields: [{to: ` +
		`/sku, from: line.sku}]}]}`,
	Properties: `{
		"as": {"default": "json", "enum": ["json", "xml", "csv", "hl7", "form"], "description":
			"format of the new body, json by default"},
		"start": {"default": "nothing", "enum": ["nothing", "body", "example"], "description":
			"what the fields are written into: nothing (default), the present body, or the example"},
		"example": {"description": "a document to start from: a text in the format, or for JSON the document itself"},
		"header": {"default": true, "type": "boolean", "description": "CSV: write the names of the columns, true by default"},
		"delimiter": {"$ref": "#/$defs/delimiter"}, "quote": {"$ref": "#/$defs/quote"},
		"fields": {"$ref": "#/$defs/map-fields"}
	}`,
	Defs: `{
		"map-fields": {"type": "array", "description": "one entry per field or loop", "items": {"type": "object",
			"if": {"required": ["each"], "properties": {"each": true}},
			"then": {"additionalProperties": false, "required": ["each", "fields"], "properties": {
				"to": {"type": "string", "description":
					"where the items go: a list (JSON), an element (XML), a field (form); none in CSV and HL7"},
				"each": {"type": "string", "description": "expression for the list"},
				"as": {"type": "string", "pattern": "^[A-Za-z_][A-Za-z0-9_]*$", "description":
					"name of the item in the fields below, item by default; its number from 0 is index"},
				"missing": {"enum": ["error", "skip"], "description":
					"when the list is not there: error (default), or as if it were empty"},
				"fields": {"$ref": "#/$defs/map-fields"}, "note": {"type": "string"}}},
			"else": {"additionalProperties": false, "required": ["to", "from"], "properties": {
				"to": {"type": "string", "description":
					"JSON: a JSON Pointer (RFC 6901), /- appends; XML: /order/line[2]/@sku; CSV: a column's name or number; HL7: PID-5.1; form: a field's name"},
				"from": {"type": ["string", "number", "boolean"], "description": "expression for its value"},
				"missing": {"enum": ["error", "skip", "empty", "default"], "description":
					"when the value is not there: error (default), skip the field, write an empty text, or the default"},
				"default": {"type": ["string", "number", "boolean"], "description": "expression for the value when it is missing"},
				"raw": {"type": "boolean", "description": "the text is a piece of the format itself and is not escaped"},
				"note": {"type": "string"}}}}}
	}`,
	Required: []string{"fields"},
	compile:  compileMap,
}

// mapField is a field or a loop.
type mapField struct {
	to       place
	source   string // as it was written, below the loops around it
	from     *expr.Program
	missing  string
	other    *expr.Program
	raw      bool
	readsHL7 bool   // what is empty there is missing
	position string // 2, or 1/0 inside a loop

	each   *expr.Program // of a loop
	name   string
	fields []mapField
}

type mapping struct {
	as      string
	layout  message.Layout
	start   string
	example *message.Node
	fields  []mapField
}

func compileMap(c *Compiler, s *flow.Step) Runner {
	r := &mapping{
		as:     scalar(s.Settings.Get("as")),
		start:  scalar(s.Settings.Get("start")),
		layout: flow.Layout(s.Settings),
	}
	if r.as == "" {
		r.as = format.JSON
	}
	if h := s.Settings.Get("header"); h != nil {
		r.layout.NoHeader = h.Text == "false"
	}
	r.layout.Header = r.as == format.CSV && !r.layout.NoHeader
	example := s.Settings.Get("example")
	switch {
	case r.start == "example" && example == nil:
		c.Find(s.Pointer, flow.Error, "missing-key", "the example to start from is missing", "add example:")
	case r.start != "example" && example != nil:
		c.Find(s.Pointer+"/example", flow.Warning, "no-effect", "the example has no effect", "write start: example")
	case r.start == "body" && r.as == format.CSV:
		c.Find(
			s.Pointer+"/start",
			flow.Error,
			"wrong-value",
			"a CSV body is built from nothing; a loop over body takes its rows along",
			"write each: body",
		)
	case example != nil:
		var err error
		if r.example, err = decodeExample(r.as, example, r.layout); err != nil {
			c.Find(s.Pointer+"/example", flow.Error, "example", err.Error(), "correct the example, or the format")
		}
	}
	m := mapCompiler{c: c, as: r.as, written: map[string]string{}}
	r.fields = m.fields(s.Settings.Get("fields"), s.Pointer+"/fields", "", "", c.Env, false)
	return r
}

// readsHL7 finds expressions that read HL7, where an empty field and one that is not there are
// the same (chapter 2.5.3). oneHL7 is one that reads a single place, and does no more.
var (
	readsHL7 = regexp.MustCompile(`\bhl7\(`)
	oneHL7   = regexp.MustCompile(`^\s*hl7\(([\w.\[\]]+\s*,\s*(?:"[^"]*"|'[^']*'))\)\s*$`)
)

type mapCompiler struct {
	c       *Compiler
	as      string
	written map[string]string
}

func (m *mapCompiler) fields(list *message.Node, ptr, above, position string, env *expr.Env, inLoop bool) []mapField {
	var out []mapField
	outer := m.c.Env
	m.c.Env = env
	defer func() { m.c.Env = outer }()
	for i, n := range list.Items {
		at := fmt.Sprintf("%s/%d", ptr, i)
		f := mapField{
			source:   above + scalar(n.Get("to")),
			position: position + fmt.Sprint(i),
			missing:  scalar(n.Get("missing")),
			raw:      scalar(n.Get("raw")) == "true",
		}
		var err error
		if n.Get("each") != nil {
			m.loop(&f, n, at, env, inLoop)
			out = append(out, f)
			continue
		}
		if f.to, err = parsePlace(m.as, scalar(n.Get("to")), inLoop); err != nil {
			m.c.Find(
				at+"/to",
				flow.Error,
				"place",
				err.Error(),
				map[string]string{format.JSON: "write the place as /a/b"}[m.as],
			)
			continue
		}
		if first, twice := m.written[f.source]; twice && !strings.Contains(f.source+"/", "/-/") && !inLoop {
			m.c.Find(
				at+"/to",
				flow.Warning,
				"written-twice",
				fmt.Sprintf("field %s has already written %s", first, f.source),
				"remove one of them",
			)
		}
		m.written[f.source] = fmt.Sprint(i + 1)
		from := scalar(n.Get("from"))
		f.readsHL7 = readsHL7.MatchString(from)
		if f.raw && m.as == format.HL7 { // what a message has there is a piece of the format as it stands
			from = oneHL7.ReplaceAllString(from, "hl7Raw($1)")
		}
		f.from = m.c.Expression(at+"/from", from)
		other := n.Get("default")
		switch {
		case other != nil:
			f.other = m.c.Expression(at+"/default", scalar(other))
			if f.missing == "" {
				f.missing = "default"
			} else if f.missing != "default" {
				m.c.Find(at+"/default", flow.Warning, "no-effect", "the default has no effect while missing is "+f.missing,
					"write missing: default")
			}
		case f.missing == "default":
			m.c.Find(at, flow.Error, "missing-key", "the default is missing", "add default:")
		}
		if f.raw && (m.as == format.CSV || m.as == format.Form) {
			m.c.Find(at+"/raw", flow.Warning, "no-effect", "raw has no effect in "+strings.ToUpper(m.as), "remove it")
		}
		if f.from != nil {
			out = append(out, f)
		}
	}
	return out
}

func (m *mapCompiler) loop(f *mapField, n *message.Node, at string, env *expr.Env, inLoop bool) {
	var err error
	if f.to, err = parseLoop(m.as, scalar(n.Get("to")), inLoop); err != nil {
		m.c.Find(at+"/to", flow.Error, "place", err.Error(), "")
	}
	f.each = m.c.Expression(at+"/each", scalar(n.Get("each")))
	if f.name = scalar(n.Get("as")); f.name == "" {
		f.name = "item"
	}
	inner, err := env.With(f.name, "index")
	if err != nil {
		m.c.Find(at+"/as", flow.Error, "wrong-value", err.Error(), "choose another name")
		inner = env
	}
	f.fields = m.fields(n.Get("fields"), at+"/fields", f.source+"[]", f.position+"/", inner, true)
	if m.as == format.HL7 {
		f.to = hl7Rows(segmentsOf(f.fields))
	}
}

// segmentsOf lists the segments that fields of HL7 write, and those of the loops in them.
func segmentsOf(fields []mapField) (names []string) {
	for _, f := range fields {
		some := segmentsOf(f.fields)
		if p, is := f.to.(hl7.Path); is {
			some = []string{p.Segment}
		}
		for _, name := range some {
			if !slices.Contains(names, name) {
				names = append(names, name)
			}
		}
	}
	return names
}

// mapRun is one run of a map.
type mapRun struct {
	r        *mapping
	trace    bool
	fields   []Field
	set, all int
	first    error
}

func (r *mapping) Run(c *Call) (Result, error) {
	scope := c.Scope()
	b, err := r.begin(c)
	if err != nil {
		return Result{}, err
	}
	run := &mapRun{r: r, trace: c.Trace}
	run.write(b, r.fields, scope)
	res := Result{State: c.State, Fields: run.fields, Outcome: fmt.Sprintf("%d of %d set", run.set, run.all)}
	if err := become(&res.State.Message, r.as, r.layout, b.tree()); err != nil && run.first == nil {
		run.first = &Failure{Phase: "as " + r.as, Class: Data, Reason: err.Error()}
		res.State = c.State
	} else if err != nil {
		res.State = c.State
	}
	return res, run.first
}

func (r *mapping) begin(c *Call) (builder, error) {
	m := &c.State.Message
	switch {
	case r.start == "example":
		return newBuilder(r.as, r.example, &m.Layout, true), nil
	case r.start != "body":
		return newBuilder(r.as, nil, &m.Layout, false), nil
	case r.as != format.JSON && m.Format != r.as:
		return nil, &Failure{
			Phase: "start",
			Class: Flow,
			Reason: fmt.Sprintf(
				"the map starts from the body as %s, but the body is %s; convert it before, or start from nothing",
				r.as,
				m.Format,
			),
		}
	}
	return newBuilder(r.as, m.Body, &m.Layout, false), nil
}

// write writes fields; what fails is noted, and the rest still shown.
func (run *mapRun) write(b builder, fields []mapField, scope *expr.Scope) {
	for i := range fields {
		f := &fields[i]
		if f.each != nil {
			run.loop(b, f, scope)
			continue
		}
		run.all++
		detail := Field{To: f.source, Reads: bodyReads(f.from), Outcome: "set"}
		v, err := f.value(scope)
		switch {
		case err != nil:
			run.fail(&detail, f, fail("fields/"+f.position+" "+f.source, err))
		case v == nil:
			detail.Outcome = "skipped"
		default:
			err := scope.Memory.TakeNode(v) // it is written where it is put, however often it stands there
			if err == nil {
				err = b.set(f.to, v, f.raw)
			}
			if err != nil {
				run.fail(
					&detail,
					f,
					&Failure{Phase: "fields/" + f.position + " " + f.source, Class: Flow, Reason: err.Error()},
				)
				break
			}
			run.set++
			if run.trace {
				detail.Value = string(jsonfmt.Encode(v))
			}
		}
		run.note(detail)
		if run.first != nil && !run.trace {
			return
		}
	}
}

// shownFields is how many fields are told one by one: a loop may have many.
const shownFields = 500

func (run *mapRun) note(d Field) {
	if run.trace && len(run.fields) < shownFields {
		run.fields = append(run.fields, d)
	}
}

func (run *mapRun) fail(d *Field, _ *mapField, err error) {
	d.Outcome, d.Error = "failed", err.(*Failure).Reason
	if run.first == nil {
		run.first = err
	}
}

// value gives the value of a field; nil when it is skipped.
func (f *mapField) value(scope *expr.Scope) (*message.Node, error) {
	v, err := f.from.Eval(scope)
	empty := err == nil && f.readsHL7 && f.missing != "" && f.missing != "error" && v.Kind == message.String &&
		v.Text == ""
	if !empty && (err == nil || !expr.IsMissing(err)) {
		return v, err
	}
	switch f.missing {
	case "skip":
		return nil, nil
	case "empty":
		return message.NewString(""), nil
	case "default":
		return f.other.Eval(scope)
	}
	return nil, err
}

func (run *mapRun) loop(b builder, f *mapField, scope *expr.Scope) {
	detail := Field{To: f.source + "[]", Reads: bodyReads(f.each)}
	list, err := f.each.Eval(scope)
	items := []*message.Node{}
	switch {
	case err != nil && expr.IsMissing(err) && f.missing == "skip":
	case err != nil:
		run.fail(&detail, f, fail("fields/"+f.position+" each", err))
		run.note(detail)
		return
	case list.Kind == message.List:
		items = list.Items
	case list.Kind != message.Null:
		items = []*message.Node{list} // one element of XML is no list; it is one item
	}
	inner := *scope
	built := make([]builder, 0, len(items))
	for i, v := range items {
		inner.Locals = map[string]*message.Node{}
		for name, outer := range scope.Locals {
			inner.Locals[name] = outer
		}
		inner.Locals[f.name], inner.Locals["index"] = v, jsonInt(i)
		item := b.item(f.to)
		run.write(item, f.fields, &inner)
		if run.first != nil && !run.trace {
			return
		}
		built = append(built, item)
	}
	if err := b.put(f.to, built); err != nil {
		run.fail(&detail, f, &Failure{Phase: "fields/" + f.position, Class: Flow, Reason: err.Error()})
		run.note(detail)
	}
}

func bodyReads(p *expr.Program) []string {
	out := []string{}
	for _, r := range p.Reads {
		if ptr := r.Pointer(); r.Root == "body" && !slices.Contains(out, ptr) {
			out = append(out, ptr)
		}
	}
	return out
}

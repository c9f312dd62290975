package step

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"readyferry/core/expr"
	"readyferry/core/flow"
	"readyferry/core/format"
	"readyferry/core/format/fixed"
	"readyferry/core/format/hl7"
	"readyferry/core/message"
)

var mapKind = Kind{
	Name:    "map",
	Summary: "Builds a new body field by field.",
	Reason: "Use it to give the target the shape that it wants. Each field says where it goes and where it comes " +
		"from, and is escaped as the format wants; what is not named stays behind, unless the map starts from " +
		"the present body or an example. A field with each is a loop: it writes its own fields for every item of a list, " +
		"which where leaves out and sort puts in order. A condition, when, stands at a field, a loop, or a group of fields.",
	Example: `{id: slip, kind: map, as: json, fields: [{to: /card, from: 'body.patron.card.replace(" ", "")'}, ` +
		`{to: /note, from: 'body.?note', missing: skip}, {to: /lines, each: body.lines, as: line, fields: [{to: ` +
		`/sku, from: line.sku}]}]}`,
	Properties: `{
		"as": {"default": "json", "enum": ["json", "xml", "csv", "hl7", "form", "multipart", "jsonl", "fixed", "avro", "protobuf"], "description":
			"format of the new body, json by default"},
		"start": {"default": "nothing", "enum": ["nothing", "body", "example"], "description":
			"what the fields are written into: nothing (default), the present body, or the example"},
		"example": {"description": "a document to start from: a text in the format, or for JSON the document itself"},
		"header": {"default": true, "type": "boolean", "description": "CSV: write the names of the columns, true by default"},
		"schema": {"$ref": "#/$defs/by-schema"}, "message-type": {"$ref":
			"#/$defs/by-type"}, "framing": {"$ref": "#/$defs/framing"}, "schema-number": {"$ref": "#/$defs/schema-number"},
		"columns": {"$ref": "#/$defs/columns"},
		"delimiter": {"$ref": "#/$defs/delimiter"}, "quote": {"$ref": "#/$defs/quote"},
		"target": {"$ref": "#/$defs/map-target"}, "fields": {"$ref": "#/$defs/map-fields"}
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
				"where": {"type": "string", "description": "condition over an item: others are left out"},
				"sort": {"type": "string", "description": "expression over an item: they stand in the order of its value"},
				"descending": {"type": "boolean", "description": "the largest first"},
				"when": {"type": "string", "description": "condition: else the loop is left out"},
				"missing": {"enum": ["error", "skip"], "description":
					"when the list is not there: error (default), or as if it were empty"},
				"fields": {"$ref": "#/$defs/map-fields"}, "note": {"type": "string"}}},
			"else": {"if": {"required": ["fields"], "properties": {"fields": true}},
			"then": {"additionalProperties": false, "required": ["when", "fields"], "properties": {
				"when": {"type": "string", "description": "condition for all the fields below"},
				"fields": {"$ref": "#/$defs/map-fields"}, "note": {"type": "string"}}},
			"else": {"additionalProperties": false, "required": ["to", "from"], "properties": {
				"to": {"type": "string", "description":
					"JSON: a JSON Pointer (RFC 6901), /- appends; XML: /order/line[2]/@sku; CSV: a column's name or number; HL7: PID-5.1; form: a field's name"},
				"from": {"type": ["string", "number", "boolean"], "description": "expression for its value"},
				"when": {"type": "string", "description": "condition: else the field is left out"},
				"missing": {"enum": ["error", "skip", "empty", "default"], "description":
					"when the value is not there: error (default), skip the field, write an empty text, or the default"},
				"default": {"type": ["string", "number", "boolean"], "description": "expression for the value when it is missing"},
				"raw": {"type": "boolean", "description": "the text is a piece of the format itself and is not escaped"},
				"note": {"type": "string"}}}}}},
		"map-target": {"type": "object", "additionalProperties": false, "minProperties": 1, "description":
			"what the new body is to look like: its lines are shown, and those that must be there are looked for", "properties": {
			"schema": {"description": "a JSON Schema, or {$ref: file}"},
			"message": {"type": "string", "pattern": "^[A-Z][A-Z0-9]{2}([_^][A-Z0-9_^]+)?$", "description":
				"HL7: the kind of message, such as ORU^R01"},
			"version": {"type": "string", "description": "HL7: of the standard, 2.5.1 by default"},
			"columns": {"type": "array", "items": {"type": "string"}, "description": "names of columns"},
			"example": {"description": "a document that looks like it"}}}
	}`,
	Required: []string{"fields"},
	compile:  compileMap,
}

// mapField is a field, a loop, or a group of fields with a condition.
type mapField struct {
	when     *expr.Program // nil: always
	to       place
	source   string // as it was written, below the loops around it
	from     *expr.Program
	missing  string
	other    *expr.Program
	raw      bool
	readsHL7 bool   // what is empty there is missing
	position string // 2, or 1/0 inside a loop

	each        *expr.Program // of a loop
	name        string
	where, sort *expr.Program // of its items; nil: all, as they come
	descending  bool
	fields      []mapField
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
	r.layout.Schema = c.written(s, r.as)
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
	case r.start == "body" && (r.as == format.CSV || r.as == format.Fixed):
		c.Find(
			s.Pointer+"/start",
			flow.Error,
			"wrong-value",
			"rows are built from nothing; a loop over body takes its rows along",
			"write each: body",
		)
	case example != nil:
		var err error
		if r.example, err = decodeExample(r.as, example, r.layout); err != nil {
			c.Find(s.Pointer+"/example", flow.Error, "example", err.Error(), "correct the example, or the format")
		}
	}
	if r.as == format.Fixed {
		if err := fixed.Check(r.layout.Columns); err != nil {
			c.Find(s.Pointer+"/columns", flow.Error, "wrong-value", err.Error(), "write columns: [{name: card, width: 10}]")
		}
	}
	m := mapCompiler{c: c, as: r.as, written: map[string]string{}}
	r.fields = m.fields(s.Settings.Get("fields"), s.Pointer+"/fields", "", "", c.Env, false)
	if s.Settings.Get("target") == nil {
		return r
	}
	lines, err := TargetLines(s.Settings, c.Files)
	if err != nil {
		c.Find(s.Pointer+"/target", flow.Error, "target", err.Error(), "correct what the new body is to look like")
	}
	if missing := r.unwritten(lines); len(missing) > 0 && r.start == "" {
		c.Find(s.Pointer+"/fields", flow.Warning, "required-unset", fmt.Sprintf("nothing writes %s, which must be there",
			strings.Join(missing[:min(5, len(missing))], ", ")), "map them, or correct the target")
	}
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
		if when := n.Get("when"); when != nil {
			f.when = m.c.Condition(at+"/when", scalar(when))
		}
		switch {
		case n.Get("each") != nil:
			m.loop(&f, n, at, env, inLoop)
			out = append(out, f)
			continue
		case n.Get("fields") != nil:
			f.fields = m.fields(n.Get("fields"), at+"/fields", above, f.position+"/", env, inLoop)
			out = append(out, f)
			continue
		}
		var err error
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
		if f.raw && (m.as == format.CSV || m.as == format.Form || m.as == format.Fixed) {
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
	m.items(f, n, at, inner)
	f.fields = m.fields(n.Get("fields"), at+"/fields", f.source+"[]", f.position+"/", inner, true)
	if m.as == format.HL7 {
		f.to = hl7Rows(segmentsOf(f.fields))
	}
}

// items reads which items a loop takes, and in what order.
func (m *mapCompiler) items(f *mapField, n *message.Node, at string, env *expr.Env) {
	outer := m.c.Env
	m.c.Env = env
	defer func() { m.c.Env = outer }()
	if where := n.Get("where"); where != nil {
		f.where = m.c.Condition(at+"/where", scalar(where))
	}
	if by := n.Get("sort"); by != nil {
		f.sort = m.c.Expression(at+"/sort", scalar(by))
	}
	f.descending = scalar(n.Get("descending")) == "true"
	if f.descending && n.Get("sort") == nil {
		m.c.Find(at+"/descending", flow.Warning, "no-effect", "descending has no effect without sort", "write sort:")
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

package contract

import (
	"fmt"
	"slices"
	"strings"

	"readyferry/core/format"
	"readyferry/core/format/xml"
	"readyferry/core/message"
)

const xsdSpace = "http://www.w3.org/2001/XMLSchema"

// xsd turns elements of an XML Schema (W3C, part 1 and 2) into JSON Schemas of
// the tree that XML is read into: texts everywhere, attributes as @name.
type xsd struct {
	elements, types, groups, attributes map[string]*xml.Node
	defs                                map[string]*message.Node
	order                               []string
	notes                               []string
	space                               string // target namespace
}

// xml elements of one namespace.
func children(n *xml.Node, names ...string) []*xml.Node {
	var out []*xml.Node
	for _, c := range n.Children {
		if c.Type == xml.Element && c.Space == n.Space && (len(names) == 0 || slices.Contains(names, c.Local)) {
			out = append(out, c)
		}
	}
	return out
}

func attr(n *xml.Node, name string) string {
	for _, a := range n.Attrs {
		if a.Space == "" && a.Local == name {
			return a.Data
		}
	}
	return ""
}

func local(name string) string { return name[strings.IndexByte(name, ':')+1:] }

func (x *xsd) note(text string) {
	if !slices.Contains(x.notes, text) {
		x.notes = append(x.notes, text)
	}
}

func readXSD(kind string, schemas []*xml.Node, only []string) (*Contract, error) {
	x := &xsd{
		elements:   map[string]*xml.Node{},
		types:      map[string]*xml.Node{},
		groups:     map[string]*xml.Node{},
		attributes: map[string]*xml.Node{},
	}
	c := &Contract{Kind: kind}
	for _, s := range schemas {
		if x.space == "" {
			x.space = attr(s, "targetNamespace")
		}
		for _, e := range children(s) {
			name := attr(e, "name")
			switch e.Local {
			case "element":
				x.elements[name] = e
				if only == nil || slices.Contains(only, name) {
					c.Choices = append(c.Choices, Choice{name, "element " + name})
				}
			case "complexType", "simpleType":
				x.types[name] = e
			case "group", "attributeGroup":
				x.groups[e.Local+" "+name] = e
			case "attribute":
				x.attributes[name] = e
			case "import", "include", "redefine", "override":
				x.note(
					e.Local + " " + attr(
						e,
						"schemaLocation",
					) + " is not followed: nothing is fetched, so put that part into the document",
				)
			case "annotation":
			default:
				x.note("xs:" + e.Local + " was left out")
			}
		}
	}
	if c.Choices == nil {
		return nil, fmt.Errorf("the %s declares no element", kind)
	}
	c.make = func(name string) (Made, error) {
		y := *x
		y.defs, y.order, y.notes = map[string]*message.Node{}, nil, slices.Clone(x.notes)
		root, err := y.element(y.elements[name], 0)
		if err != nil {
			return Made{}, err
		}
		out := message.NewMap(
			message.Member{Name: "$schema", Value: message.NewString(Dialect)},
			message.Member{Name: "type", Value: message.NewString("object")},
			message.Member{Name: "required", Value: texts([]string{name})},
			message.Member{Name: "properties", Value: message.NewMap(message.Member{Name: name, Value: root})},
		)
		if y.order != nil {
			var defs []message.Member
			for _, d := range y.order {
				defs = append(defs, message.Member{Name: d, Value: y.defs[d]})
			}
			out = out.With("$defs", message.NewMap(defs...))
		}
		if y.space != "" {
			y.note(
				"the schema is for elements without a prefix; a sender that writes the namespace " + y.space +
					" with one needs it in the names",
			)
		}
		return finish(out, format.XML, name, y.notes)
	}
	return c, nil
}

// element gives the schema of what an element holds.
func (x *xsd) element(e *xml.Node, depth int) (*message.Node, error) {
	if depth > 60 {
		return nil, fmt.Errorf("the types of the schema nest too deep")
	}
	if ref := attr(e, "ref"); ref != "" {
		target := x.elements[local(ref)]
		if target == nil {
			x.note("the element " + ref + " is not declared here; anything is taken for it")
			return message.NewMap(), nil
		}
		return x.define("element-"+local(ref), func() (*message.Node, error) { return x.element(target, depth+1) })
	}
	if attr(e, "substitutionGroup") != "" || attr(e, "abstract") == "true" {
		x.note("substitution groups are not followed: " + attr(e, "name"))
	}
	if v := attr(e, "fixed"); v != "" {
		return message.NewMap(message.Member{Name: "const", Value: message.NewString(v)}), nil
	}
	for _, t := range children(e, "complexType", "simpleType") {
		return x.typ(t, depth+1)
	}
	if name := attr(e, "type"); name != "" {
		return x.named(e, name, depth)
	}
	return message.NewMap(), nil
}

// define keeps a schema under $defs, so that types that hold themselves end.
func (x *xsd) define(name string, f func() (*message.Node, error)) (*message.Node, error) {
	ref := message.NewMap(message.Member{Name: "$ref", Value: message.NewString("#/$defs/" + name)})
	if x.defs[name] != nil {
		return ref, nil
	}
	x.defs[name] = message.NewMap()
	x.order = append(x.order, name)
	v, err := f()
	x.defs[name] = v
	return ref, err
}

func (x *xsd) named(at *xml.Node, name string, depth int) (*message.Node, error) {
	prefix, _, both := strings.Cut(name, ":")
	if !both {
		prefix = ""
	}
	if uri, _ := at.Lookup(prefix); uri == xsdSpace {
		return x.builtin(local(name)), nil
	}
	t := x.types[local(name)]
	if t == nil {
		x.note("the type " + name + " is not declared here; anything is taken for it")
		return message.NewMap(), nil
	}
	return x.define(local(name), func() (*message.Node, error) { return x.typ(t, depth+1) })
}

// builtins are the types of part 2 as patterns of their texts.
var builtins = map[string]string{
	"boolean": "^(true|false|1|0)$", "decimal": `^[+-]?([0-9]+(\.[0-9]*)?|\.[0-9]+)$`, "integer": "^[+-]?[0-9]+$",
	"nonNegativeInteger": `^\+?[0-9]+$`, "positiveInteger": `^\+?0*[1-9][0-9]*$`, "negativeInteger": "^-0*[1-9][0-9]*$",
	"nonPositiveInteger": "^(-[0-9]+|0+)$",
	"float":              `^([+-]?([0-9]+(\.[0-9]*)?|\.[0-9]+)([eE][+-]?[0-9]+)?|-?INF|NaN)$`,
	"date":               `^[0-9]{4}-[0-9]{2}-[0-9]{2}(Z|[+-][0-9]{2}:[0-9]{2})?$`,
	"time": `^[0-9]{2}:[0-9]{2}:[0-9]{2}(\.[0-` +
		`9]+)?(Z|[+-][0-9]{2}:[0-9]{2})?$`,
	"dateTime": `^[0-9]{4}-[0-9]{2}-[0-9]{2}T[0-9]{2}:[0-9]{2}:[0-9]{2}(\.[0-9]+)?(Z|[+-][0-9]{2}:[0-9]{2})?$`,
	"duration": "^-?P[0-9YMDTHS.]+$", "gYear": "^[0-9]{4}$", "hexBinary": "^([0-9A-Fa-f]{2})*$",
}

// made are values for the patterns whose own would mean nothing.
var made = map[string]string{
	"integer":            "1",
	"nonNegativeInteger": "1",
	"positiveInteger":    "1",
	"negativeInteger":    "-1",
	"nonPositiveInteger": "0",
	"boolean":            "true",
	"decimal":            "1.50",
	"float":              "1.5",
	"date":               "2026-03-17",
	"time":               "09:41:07Z",
	"dateTime":           "2026-03-17T09:41:07Z",
	"duration":           "P1D",
	"gYear":              "2026",
}

func (x *xsd) builtin(name string) *message.Node {
	switch name {
	case "int", "long", "short", "byte":
		name = "integer"
	case "unsignedInt", "unsignedLong", "unsignedShort", "unsignedByte":
		name = "nonNegativeInteger"
	case "double":
		name = "float"
	case "anyType":
		return message.NewMap()
	}
	out := message.NewMap(message.Member{Name: "type", Value: message.NewString("string")})
	if p := builtins[name]; p != "" {
		out = out.With("pattern", message.NewString(p))
	}
	if v := made[name]; v != "" {
		out = out.With("examples", message.NewList(message.NewString(v)))
	}
	return out
}

func (x *xsd) typ(t *xml.Node, depth int) (*message.Node, error) {
	if t.Local == "simpleType" {
		return x.simple(t, depth)
	}
	o := &object{x: x}
	if attr(t, "mixed") == "true" {
		x.note("mixed text stands under #text, in front of the elements")
		o.property("#text", message.NewMap(message.Member{Name: "type", Value: message.NewString("string")}), false)
	}
	if err := o.content(t, depth, true); err != nil {
		return nil, err
	}
	return o.schema(), nil
}

// simple gives the schema of a text.
func (x *xsd) simple(t *xml.Node, depth int) (*message.Node, error) {
	for _, r := range children(t) {
		switch r.Local {
		case "restriction":
			return x.restricted(r, depth)
		case "list", "union":
			x.note("xs:" + r.Local + " is taken as any text")
			return message.NewMap(message.Member{Name: "type", Value: message.NewString("string")}), nil
		}
	}
	return message.NewMap(message.Member{Name: "type", Value: message.NewString("string")}), nil
}

func (x *xsd) restricted(r *xml.Node, depth int) (*message.Node, error) {
	var base *message.Node
	var err error
	if name := attr(r, "base"); name != "" {
		if base, err = x.named(r, name, depth); err != nil {
			return nil, err
		}
	}
	var out []message.Member
	var values []string
	for _, f := range children(r) {
		v := attr(f, "value")
		switch f.Local {
		case "enumeration":
			values = append(values, v)
		case "pattern":
			out = append(out, message.Member{Name: "pattern", Value: message.NewString("^(?:" + v + ")$")})
		case "length":
			out = append(
				out,
				message.Member{Name: "minLength", Value: message.NewNumber(v)},
				message.Member{Name: "maxLength", Value: message.NewNumber(v)},
			)
		case "minLength", "maxLength":
			out = append(out, message.Member{Name: f.Local, Value: message.NewNumber(v)})
		case "simpleType", "annotation", "whiteSpace":
		default:
			x.note("the facet " + f.Local + " bounds a number, which in XML is a text, and was left out")
		}
	}
	if values != nil {
		return message.NewMap(message.Member{Name: "enum", Value: texts(values)}), nil
	}
	own := message.NewMap(out...)
	switch {
	case base == nil:
		return own, nil
	case len(out) == 0:
		return base, nil
	}
	if base.Get("$ref") == nil && own.Get("pattern") != nil && base.Get("pattern") == nil {
		for _, m := range base.Without("examples").Members {
			if own.Get(m.Name) == nil {
				own = own.With(m.Name, m.Value)
			}
		}
		return own, nil
	}
	return message.NewMap(message.Member{Name: "allOf", Value: message.NewList(base, own)}), nil
}

// object gathers the elements and attributes of a complex type.
type object struct {
	x        *xsd
	members  []message.Member
	required []string
}

func (o *object) property(name string, s *message.Node, required bool) {
	for _, m := range o.members {
		if m.Name == name {
			return
		}
	}
	o.members = append(o.members, message.Member{Name: name, Value: s})
	if required {
		o.required = append(o.required, name)
	}
}

// schema gives what was gathered. An element without attributes and elements
// is a text in the tree, so an empty type takes an empty text.
func (o *object) schema() *message.Node {
	if len(o.members) == 0 {
		return message.NewMap(message.Member{Name: "const", Value: message.NewString("")})
	}
	out := message.NewMap(message.Member{Name: "type", Value: message.NewString("object")})
	if o.required == nil {
		out = message.NewMap(message.Member{Name: "type", Value: texts([]string{"object", "string"})})
	} else {
		out = out.With("required", texts(o.required))
	}
	return out.With("properties", message.NewMap(o.members...))
}

func (o *object) content(n *xml.Node, depth int, needed bool) error {
	if depth > 60 {
		return fmt.Errorf("the types of the schema nest too deep")
	}
	for _, c := range children(n) {
		var err error
		switch c.Local {
		case "sequence", "all":
			err = o.content(c, depth+1, needed && attr(c, "minOccurs") != "0")
		case "choice":
			err = o.content(c, depth+1, false)
		case "element":
			err = o.element(c, depth, needed)
		case "attribute":
			err = o.attribute(c, depth)
		case "group", "attributeGroup":
			if g := o.x.groups[c.Local+" "+local(attr(c, "ref"))]; g != nil {
				err = o.content(g, depth+1, needed && attr(c, "minOccurs") != "0")
			}
		case "complexContent", "simpleContent":
			for _, e := range children(c, "extension", "restriction") {
				err = o.derived(c, e, depth)
			}
		case "any", "anyAttribute":
			o.x.note("xs:" + c.Local + ": other elements and attributes are taken without a check")
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// derived adds what a type takes over from its base.
func (o *object) derived(content, e *xml.Node, depth int) error {
	if content.Local == "simpleContent" {
		base, err := o.x.named(e, attr(e, "base"), depth)
		if err != nil {
			return err
		}
		o.property("#text", base, false)
	} else if base := o.x.types[local(attr(e, "base"))]; base != nil && e.Local == "extension" {
		if err := o.content(base, depth+1, true); err != nil {
			return err
		}
	}
	return o.content(e, depth+1, true)
}

func (o *object) element(e *xml.Node, depth int, needed bool) error {
	name := attr(e, "name")
	if name == "" {
		name = local(attr(e, "ref"))
	}
	s, err := o.x.element(e, depth+1)
	if err != nil {
		return err
	}
	if attr(e, "nillable") == "true" {
		s = message.NewMap(message.Member{Name: "anyOf", Value: message.NewList(s, message.NewMap())})
	}
	if most := attr(e, "maxOccurs"); most != "" && most != "1" && most != "0" {
		// One alone is no list in the tree.
		s = message.NewMap(message.Member{Name: "anyOf", Value: message.NewList(s, message.NewMap(
			message.Member{Name: "type", Value: message.NewString("array")}, message.Member{Name: "items", Value: s}))})
	}
	o.property(name, s, needed && attr(e, "minOccurs") != "0")
	return nil
}

func (o *object) attribute(a *xml.Node, depth int) error {
	name := attr(a, "name")
	target := a
	if name == "" {
		name = local(attr(a, "ref"))
		if target = o.x.attributes[name]; target == nil {
			target = a
		}
	}
	var s *message.Node
	var err error
	switch {
	case attr(a, "use") == "prohibited":
		return nil
	case attr(target, "type") != "":
		s, err = o.x.named(target, attr(target, "type"), depth)
	case len(children(target, "simpleType")) > 0:
		s, err = o.x.simple(children(target, "simpleType")[0], depth)
	default:
		s = message.NewMap(message.Member{Name: "type", Value: message.NewString("string")})
	}
	if err != nil {
		return err
	}
	o.property("@"+name, s, attr(a, "use") == "required")
	return nil
}

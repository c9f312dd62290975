package contract

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"readyferry/core/format"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/format/xml"
	"readyferry/core/message"
	"readyferry/core/schema"
)

const xsdSpace = "http://www.w3.org/2001/XMLSchema"

// xsd turns elements of an XML Schema (W3C, part 1 and 2) into JSON Schemas of
// the tree that XML is read into: texts everywhere, attributes as @name.
//
// Names have the prefixes that the flow's intake gives them: those of the first namespace
// none, those of others n1, n2 and so on. So a document is known whatever prefixes its sender
// writes.
type xsd struct {
	elements, types, groups, attributes map[qname]*xml.Node
	defs                                map[string]*message.Node
	order                               []string
	notes                               []string
	prefixes                            map[string]string // by namespace
}

// qname is a name in a namespace.
type qname struct{ space, local string }

const xsiSpace = "http://www.w3.org/2001/XMLSchema-instance"

// schemaOf gives the schema that a part of it stands in.
func schemaOf(n *xml.Node) *xml.Node {
	for n.Parent != nil && !(n.Space == xsdSpace && n.Local == "schema") {
		n = n.Parent
	}
	return n
}

// resolve gives what a QName means where it stands (W3C XML Schema part 2, 3.2.18).
func resolve(at *xml.Node, name string) qname {
	prefix, local, both := strings.Cut(name, ":")
	if !both {
		prefix, local = "", prefix
	}
	uri, _ := at.Lookup(prefix)
	return qname{uri, local}
}

// find looks a name up; one whose namespace nobody declared is found by its local name, as
// it stands in schemas that were put together.
func find(in map[qname]*xml.Node, q qname) (qname, *xml.Node) {
	if n := in[q]; n != nil {
		return q, n
	}
	var found []qname
	for other := range in {
		if other.local == q.local {
			found = append(found, other)
		}
	}
	if len(found) != 1 {
		return q, nil
	}
	return found[0], in[found[0]]
}

// written gives the name of an element or attribute as the tree has it.
func (x *xsd) written(q qname) string {
	if q.space == "" {
		return q.local
	}
	if q.space == "http://www.w3.org/XML/1998/namespace" {
		return "xml:" + q.local
	}
	prefix, known := x.prefixes[q.space]
	if !known {
		prefix = fmt.Sprint("n", len(x.prefixes))
		x.prefixes[q.space] = prefix
	}
	if prefix == "" {
		return q.local
	}
	return prefix + ":" + q.local
}

// own gives the name of an element or attribute that is declared where it is used.
func own(n *xml.Node, formDefault string) qname {
	s := schemaOf(n)
	form := attr(n, "form")
	if form == "" {
		form = attr(s, formDefault)
	}
	if form == "qualified" {
		return qname{attr(s, "targetNamespace"), attr(n, "name")}
	}
	return qname{"", attr(n, "name")}
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

func (x *xsd) note(text string) {
	if !slices.Contains(x.notes, text) {
		x.notes = append(x.notes, text)
	}
}

func newXSD(schemas []*xml.Node) *xsd {
	x := &xsd{elements: map[qname]*xml.Node{}, types: map[qname]*xml.Node{}, groups: map[qname]*xml.Node{},
		attributes: map[qname]*xml.Node{}, prefixes: map[string]string{}}
	within := map[string]bool{}
	for _, s := range schemas {
		within[attr(s, "targetNamespace")] = true
	}
	for _, s := range schemas {
		space := attr(s, "targetNamespace")
		if len(x.prefixes) == 0 && space != "" {
			x.prefixes[space] = ""
		}
		for _, e := range children(s) {
			name := qname{space, attr(e, "name")}
			switch e.Local {
			case "element":
				x.elements[name] = e
			case "complexType", "simpleType":
				x.types[name] = e
			case "group", "attributeGroup":
				x.groups[qname{space, e.Local + " " + name.local}] = e
			case "attribute":
				x.attributes[name] = e
			case "import":
				if !within[attr(e, "namespace")] {
					x.note("import " + attr(e, "schemaLocation") + " is not followed: nothing is fetched, so put that part into the document")
				}
			case "include", "redefine", "override":
				x.note(e.Local + " " + attr(e, "schemaLocation") + " is not followed: nothing is fetched, so put that part into the document")
			case "annotation":
			default:
				x.note("xs:" + e.Local + " was left out")
			}
		}
	}
	return x
}

func readXSD(schemas []*xml.Node) (*Contract, error) {
	x := newXSD(schemas)
	c := &Contract{Kind: XSD}
	for _, s := range schemas {
		for _, e := range children(s, "element") {
			name := attr(e, "name")
			c.Choices = append(c.Choices, Choice{name, "element " + name})
		}
	}
	if c.Choices == nil {
		return nil, fmt.Errorf("the %s declares no element", XSD)
	}
	c.make = func(name string) (Made, error) {
		return x.made(func(y *xsd) (*message.Node, error) {
			q, e := find(y.elements, qname{attr(schemas[0], "targetNamespace"), name})
			root, err := y.element(e, 0)
			return map1(y.written(q), root), err
		})
	}
	return c, nil
}

// made makes a schema and a sample of it. The sample's names have prefixes where they have
// namespaces, so it is written with a prefix for each.
func (x *xsd) made(build func(y *xsd) (*message.Node, error)) (Made, error) {
	y := x.anew()
	schemaOf, err := build(y)
	if err != nil {
		return Made{}, err
	}
	out := Made{Schema: y.document(schemaOf), Format: format.XML, Notes: y.notes, Prefixes: y.shown()}
	compiled, err := schema.Compile(out.Schema, nil)
	if err != nil {
		return Made{}, fmt.Errorf("the schema does not compile: %w", err)
	}
	if out.Sample, err = x.sample(build); err != nil {
		out.Notes = append(out.Notes, "no sample could be made up: "+err.Error())
		return out, nil
	}
	read, err := xml.DecodeNamed(out.Sample, xml.Limits{}, out.Prefixes)
	if err != nil {
		return Made{}, err
	}
	if f, err := compiled.Validate(read); err == nil && len(f) > 0 {
		out.Notes = append(out.Notes, fmt.Sprintf("the made-up sample does not fit the schema at %q, which %s; correct it by hand",
			f[0].Pointer, f[0].Reason))
	}
	return out, nil
}

// sample writes a made-up document.
func (x *xsd) sample(build func(y *xsd) (*message.Node, error)) ([]byte, error) {
	z := x.anew()
	for uri, prefix := range z.prefixes {
		if prefix == "" {
			z.prefixes[uri] = "t"
		}
	}
	of, err := build(z)
	if err != nil {
		return nil, err
	}
	tree := Sample(z.document(of))
	if tree.Kind != message.Map || len(tree.Members) != 1 {
		return nil, fmt.Errorf("it has no element")
	}
	root := tree.Members[0].Value
	text := string(jsonfmt.Encode(tree))
	var declared []message.Member
	for _, uri := range slices.Sorted(maps.Keys(z.prefixes)) {
		if prefix := z.prefixes[uri]; strings.Contains(text, `"`+prefix+":") || strings.Contains(text, `"@`+prefix+":") {
			declared = append(declared, message.Member{Name: "@xmlns:" + prefix, Value: message.NewString(uri)})
		}
	}
	if len(declared) > 0 {
		if root.Kind != message.Map {
			root = message.NewMap(message.Member{Name: "#text", Value: root})
		}
		root = message.NewMap(append(declared, root.Members...)...)
	}
	return format.Encode(format.XML, message.NewMap(message.Member{Name: tree.Members[0].Name, Value: root}),
		message.Layout{})
}

// anew gives the same declarations with nothing made of them yet.
func (x *xsd) anew() *xsd {
	y := *x
	y.defs, y.order, y.notes, y.prefixes = map[string]*message.Node{}, nil, slices.Clone(x.notes), maps.Clone(x.prefixes)
	return &y
}

// shown gives the prefixes by which the intake is told to name things.
func (x *xsd) shown() map[string]string {
	out := map[string]string{}
	for uri, prefix := range x.prefixes {
		out[prefix] = uri
	}
	return out
}

// map1 is the schema of a map with one required member.
func map1(name string, of *message.Node) *message.Node {
	return message.NewMap(message.Member{Name: "type", Value: message.NewString("object")},
		message.Member{Name: "required", Value: texts([]string{name})},
		message.Member{Name: "properties", Value: message.NewMap(message.Member{Name: name, Value: of})})
}

// document gives a schema with what it refers to.
func (x *xsd) document(of *message.Node) *message.Node {
	out := prepend(of, "$schema", message.NewString(Dialect))
	if x.order == nil {
		return out
	}
	var defs []message.Member
	for _, d := range x.order {
		defs = append(defs, message.Member{Name: d, Value: x.defs[d]})
	}
	return out.With("$defs", message.NewMap(defs...))
}

// element gives the schema of what an element holds.
func (x *xsd) element(e *xml.Node, depth int) (*message.Node, error) {
	if depth > 60 {
		return nil, fmt.Errorf("the types of the schema nest too deep")
	}
	if e == nil {
		return message.NewMap(), nil
	}
	if ref := attr(e, "ref"); ref != "" {
		q, target := find(x.elements, resolve(e, ref))
		if target == nil {
			x.note("the element " + ref + " is not declared here; anything is taken for it")
			return message.NewMap(), nil
		}
		return x.define("element-"+x.def(q), func() (*message.Node, error) { return x.element(target, depth+1) })
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

// def names what is kept under $defs.
func (x *xsd) def(q qname) string { return strings.ReplaceAll(x.written(q), ":", "-") }

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
	q := resolve(at, name)
	if q.space == xsdSpace {
		return x.builtin(q.local), nil
	}
	q, t := find(x.types, q)
	if t == nil {
		x.note("the type " + name + " is not declared here; anything is taken for it")
		return message.NewMap(), nil
	}
	return x.define(x.def(q), func() (*message.Node, error) { return x.typ(t, depth+1) })
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
	if err := o.content(t, depth, true, false); err != nil {
		return nil, err
	}
	return o.schema(), nil
}

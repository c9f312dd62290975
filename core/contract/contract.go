package contract

import (
	"bytes"
	"fmt"
	"slices"
	"strings"

	"readyferry/core/flow"
	"readyferry/core/format"
	"readyferry/core/format/xml"
	"readyferry/core/message"
	"readyferry/core/pointer"
	"readyferry/core/schema"
)

// The kinds of contract.
const (
	JSONSchema = "JSON Schema"
	OpenAPI    = "OpenAPI 3"
	AsyncAPI   = "AsyncAPI 3"
	XSD        = "XSD"
	WSDL       = "WSDL 1.1"
)

// Contract is a document that was read.
type Contract struct {
	Kind    string
	Choices []Choice // what in it can become a schema

	make func(name string) (Made, error)
}

// Choice is a message that a contract describes.
type Choice struct {
	Name  string `json:"name"`  // to choose it by
	Title string `json:"title"` // for people
}

// Made is what a choice becomes.
type Made struct {
	Schema *message.Node
	Sample []byte   // a made-up message in the format
	Format string   // json, xml or form
	Notes  []string // what was left out, by name, and what to know
}

// Read reads a contract, in JSON, YAML or XML. The error says what it is not.
func Read(src []byte) (*Contract, error) {
	if start := bytes.TrimLeft(src, " \t\r\n\uFEFF"); len(start) > 0 && start[0] == '<' {
		return readXML(src)
	}
	s, bad := flow.Parse(src)
	if bad != nil {
		return nil, fmt.Errorf("the contract cannot be read: %w", bad)
	}
	root := s.Root
	if root.Kind != message.Map {
		return nil, fmt.Errorf("a contract is a map or an XML document, not a %s", root.Kind)
	}
	switch {
	case root.Get("openapi") != nil:
		if v := root.Get("openapi").Text; !strings.HasPrefix(v, "3.") {
			return nil, fmt.Errorf("OpenAPI %s is not read here; there is 3.0 and 3.1", v)
		}
		return readOpenAPI(root)
	case root.Get("swagger") != nil:
		return nil, fmt.Errorf("OpenAPI %s is not read here; convert it to 3.0 or 3.1", root.Get("swagger").Text)
	case root.Get("asyncapi") != nil:
		if v := root.Get("asyncapi").Text; !strings.HasPrefix(v, "3.") {
			return nil, fmt.Errorf("AsyncAPI %s is not read here; convert it to 3.0", v)
		}
		return readAsyncAPI(root)
	}
	for _, name := range []string{"$schema", "type", "properties", "$ref", "allOf", "anyOf", "oneOf", "items", "enum",
		"$defs", "definitions"} {
		if root.Get(name) != nil {
			return readSchema(root)
		}
	}
	return nil, fmt.Errorf(
		"this is no contract that is known here: a JSON Schema, OpenAPI 3, AsyncAPI 3, XSD or WSDL 1.1",
	)
}

// Make makes the schema and sample of a choice.
func (c *Contract) Make(name string) (Made, error) {
	if !slices.ContainsFunc(c.Choices, func(x Choice) bool { return x.Name == name }) {
		return Made{}, fmt.Errorf("the contract has no %q", name)
	}
	return c.make(name)
}

func readSchema(root *message.Node) (*Contract, error) {
	title := "the schema"
	if t := root.Get("title"); t != nil && t.Kind == message.String {
		title = t.Text
	}
	return &Contract{
		JSONSchema,
		[]Choice{{"schema", title}},
		func(string) (Made, error) { return finish(root, format.JSON, "", nil) },
	}, nil
}

// finish compiles a schema, makes up a sample and tells when that does not fit.
func finish(s *message.Node, name, root string, notes []string) (Made, error) {
	compiled, err := schema.Compile(s, nil)
	if err != nil {
		return Made{}, fmt.Errorf("the schema does not compile: %w", err)
	}
	tree := Sample(s)
	if f, err := compiled.Validate(tree); err == nil && len(f) > 0 {
		notes = append(
			notes,
			fmt.Sprintf(
				"the made-up sample does not fit the schema at %q, which %s; correct it by hand",
				f[0].Pointer,
				f[0].Reason,
			),
		)
	}
	raw, err := format.Encode(name, tree, message.Layout{Root: root})
	if err != nil {
		notes = append(notes, "no sample could be made up: "+err.Error())
	}
	return Made{Schema: s, Sample: raw, Format: name, Notes: notes}, nil
}

// get follows a pointer, and a reference at its end.
func get(root *message.Node, ptr string) (*message.Node, error) {
	p, err := pointer.Parse(strings.TrimPrefix(ptr, "#"))
	if err != nil {
		return nil, err
	}
	n, err := p.Get(root)
	if err != nil {
		return nil, fmt.Errorf("the reference %s leads nowhere", ptr)
	}
	return n, nil
}

func follow(root, n *message.Node) (*message.Node, error) {
	for range 20 {
		ref := n.Get("$ref")
		if ref == nil {
			return n, nil
		}
		if !strings.HasPrefix(ref.Text, "#") {
			return nil, fmt.Errorf(
				"the reference %s leads to another document; nothing is fetched, so put that part in here",
				ref.Text,
			)
		}
		var err error
		if n, err = get(root, ref.Text); err != nil {
			return nil, err
		}
	}
	return nil, fmt.Errorf("a reference leads to itself")
}

// standalone makes a schema of a part of a document that needs nothing else of
// it: what it refers to is put under $defs.
type standalone struct {
	root  *message.Node
	old   bool // the dialect of OpenAPI 3.0
	defs  map[string]*message.Node
	names map[string]string
	order []string
	notes []string
}

func (s *standalone) note(text string) {
	if !slices.Contains(s.notes, text) {
		s.notes = append(s.notes, text)
	}
}

func (s *standalone) schema(n *message.Node) (*message.Node, error) {
	s.defs, s.names = map[string]*message.Node{}, map[string]string{}
	out, err := s.rewrite(n, 0)
	if err != nil {
		return nil, err
	}
	if out.Kind != message.Map {
		out = message.NewMap()
	}
	if len(s.order) > 0 {
		var defs []message.Member
		for _, name := range s.order {
			defs = append(defs, message.Member{Name: name, Value: s.defs[name]})
		}
		out = out.With("$defs", message.NewMap(defs...))
	}
	return prepend(out.Without("$schema"), "$schema", message.NewString(Dialect)), nil
}

func (s *standalone) rewrite(n *message.Node, depth int) (*message.Node, error) {
	if depth > 200 {
		return nil, fmt.Errorf("the schema is nested too deep")
	}
	switch n.Kind {
	case message.List:
		out := message.NewList()
		for _, item := range n.Items {
			v, err := s.rewrite(item, depth+1)
			if err != nil {
				return nil, err
			}
			out.Items = append(out.Items, v)
		}
		return out, nil
	case message.Map:
	default:
		return n, nil
	}
	if ref := n.Get("$ref"); ref != nil && ref.Kind == message.String {
		name, err := s.reference(ref.Text, depth)
		if err != nil {
			return nil, err
		}
		return message.NewMap(message.Member{Name: "$ref", Value: message.NewString("#/$defs/" + name)}), nil
	}
	var members []message.Member
	for _, m := range n.Members {
		switch m.Name {
		case "enum", "const", "default", "examples", "example":
			if m.Name == "example" {
				m.Name, m.Value = "examples", message.NewList(m.Value)
			}
			members = append(members, m)
			continue
		case "discriminator", "externalDocs", "xml":
			s.note(m.Name + " says nothing to a JSON Schema and was left out")
			continue
		}
		v, err := s.rewrite(m.Value, depth+1)
		if err != nil {
			return nil, err
		}
		members = append(members, message.Member{Name: m.Name, Value: v})
	}
	out := message.NewMap(members...)
	if s.old {
		out = modern(out)
	}
	return out, nil
}

func (s *standalone) reference(ref string, depth int) (string, error) {
	if name, known := s.names[ref]; known {
		return name, nil
	}
	if !strings.HasPrefix(ref, "#/") {
		return "", fmt.Errorf(
			"the reference %s leads to another document; nothing is fetched, so put that part in here",
			ref,
		)
	}
	target, err := get(s.root, ref)
	if err != nil {
		return "", err
	}
	base := strings.Map(func(r rune) rune {
		if r == '/' || r == '~' || r == '%' || r == ' ' {
			return '-'
		}
		return r
	}, ref[strings.LastIndexByte(ref, '/')+1:])
	name := base
	for i := 2; s.defs[name] != nil; i++ {
		name = fmt.Sprintf("%s-%d", base, i)
	}
	s.names[ref], s.defs[name] = name, message.NewMap()
	s.order = append(s.order, name)
	v, err := s.rewrite(target, depth+1)
	s.defs[name] = v
	return name, err
}

// modern brings a schema of OpenAPI 3.0 to JSON Schema 2020-12: nullable, and
// exclusive bounds that are booleans there.
func modern(n *message.Node) *message.Node {
	if v := n.Get("nullable"); v != nil && v.Kind == message.Bool {
		n = n.Without("nullable")
		if t := n.Get("type"); t != nil && v.Text == "true" && t.Kind == message.String {
			n = n.With("type", message.NewList(t, message.NewString("null")))
			if e := n.Get("enum"); e != nil {
				n = n.With("enum", message.NewList(append(slices.Clone(e.Items), message.NewNull())...))
			}
		}
	}
	for _, bound := range [][2]string{{"exclusiveMinimum", "minimum"}, {"exclusiveMaximum", "maximum"}} {
		v := n.Get(bound[0])
		if v == nil || v.Kind != message.Bool {
			continue
		}
		n = n.Without(bound[0])
		if limit := n.Get(bound[1]); v.Text == "true" && limit != nil {
			n = n.Without(bound[1]).With(bound[0], limit)
		}
	}
	return n
}

var methods = []string{"post", "put", "patch", "delete", "get"}

func readOpenAPI(root *message.Node) (*Contract, error) {
	c := &Contract{Kind: OpenAPI}
	bodies := map[string]*message.Node{}
	for _, group := range []string{"paths", "webhooks"} {
		paths := root.Get(group)
		if paths == nil {
			continue
		}
		for _, path := range paths.Members {
			for _, method := range methods {
				op := path.Value.Get(method)
				if op == nil || op.Get("requestBody") == nil {
					continue
				}
				name := strings.ToUpper(method) + " " + path.Name
				title := name
				if t := op.Get("summary"); t != nil {
					title += ", " + t.Text
				}
				bodies[name] = op.Get("requestBody")
				c.Choices = append(c.Choices, Choice{name, title})
			}
		}
	}
	if c.Choices == nil {
		return nil, fmt.Errorf("the OpenAPI document has no operation with a request body")
	}
	c.make = func(name string) (Made, error) {
		body, err := follow(root, bodies[name])
		if err != nil {
			return Made{}, err
		}
		content := body.Get("content")
		if content == nil || len(content.Members) == 0 {
			return Made{}, fmt.Errorf("the request body of %s has no content", name)
		}
		chosen, kind := content.Members[0], ""
		for _, m := range content.Members {
			if f := format.Of("auto", m.Name); f == format.JSON || f == format.Form && kind == "" ||
				f == format.XML && kind == "" {
				chosen, kind = m, f
			}
			if kind == format.JSON {
				break
			}
		}
		if kind == "" {
			return Made{}, fmt.Errorf(
				"the media type %s of %s has no schema that is read here; there are JSON, XML and forms",
				chosen.Name,
				name,
			)
		}
		s := &standalone{root: root, old: strings.HasPrefix(root.Get("openapi").Text, "3.0")}
		if len(content.Members) > 1 {
			s.note("of several media types " + chosen.Name + " was taken")
		}
		declared := chosen.Value.Get("schema")
		if declared == nil {
			return Made{}, fmt.Errorf("%s of %s has no schema", chosen.Name, name)
		}
		if kind == format.XML {
			s.note(
				"the schema was written for JSON; attributes and names of the XML are not in it, so the sample shows elements only",
			)
		}
		out, err := s.schema(declared)
		if err != nil {
			return Made{}, err
		}
		return finish(out, kind, "root", s.notes)
	}
	return c, nil
}

func readAsyncAPI(root *message.Node) (*Contract, error) {
	c := &Contract{Kind: AsyncAPI}
	found := map[string]*message.Node{}
	add := func(name, title string, m *message.Node) {
		if found[name] == nil {
			found[name] = m
			c.Choices = append(c.Choices, Choice{name, title})
		}
	}
	if channels := root.Get("channels"); channels != nil {
		for _, channel := range channels.Members {
			for _, m := range membersOf(channel.Value.Get("messages")) {
				add(channel.Name+"/"+m.Name, m.Name+" on "+channel.Name, m.Value)
			}
		}
	}
	for _, m := range membersOf(root.Get("components").Get("messages")) {
		add(m.Name, m.Name, m.Value)
	}
	if c.Choices == nil {
		return nil, fmt.Errorf("the AsyncAPI document has no messages")
	}
	c.make = func(name string) (Made, error) {
		m, err := follow(root, found[name])
		if err != nil {
			return Made{}, err
		}
		payload := m.Get("payload")
		if payload == nil {
			return Made{}, fmt.Errorf("the message %s has no payload", name)
		}
		if payload, err = follow(root, payload); err != nil {
			return Made{}, err
		}
		if f := payload.Get("schemaFormat"); f != nil {
			if !strings.Contains(f.Text, "schema+json") && !strings.Contains(f.Text, "aai.asyncapi") &&
				!strings.Contains(f.Text, "schema+yaml") {
				return Made{}, fmt.Errorf(
					"the schema of %s is written as %s, which is not read here; there is JSON Schema",
					name,
					f.Text,
				)
			}
			if payload = payload.Get("schema"); payload == nil {
				return Made{}, fmt.Errorf("the payload of %s has no schema", name)
			}
		}
		s := &standalone{root: root}
		if m.Get("headers") != nil {
			s.note("the headers of the message are not part of its body's schema")
		}
		if m.Get("traits") != nil {
			s.note("traits of the message were left out")
		}
		out, err := s.schema(payload)
		if err != nil {
			return Made{}, err
		}
		kind := format.JSON
		if t := m.Get("contentType"); t != nil {
			if kind = format.Of("auto", t.Text); kind != format.XML && kind != format.Form {
				kind = format.JSON
			}
		}
		return finish(out, kind, "root", s.notes)
	}
	return c, nil
}

func membersOf(n *message.Node) []message.Member {
	if n == nil {
		return nil
	}
	return n.Members
}

func readXML(src []byte) (*Contract, error) {
	doc, err := xml.Parse(src, xml.Limits{MaxDepth: 200, MaxNodes: 500_000})
	if err != nil {
		return nil, fmt.Errorf("the contract cannot be read: %w", err)
	}
	for _, e := range doc.Children {
		switch {
		case e.Type != xml.Element:
		case e.Space == xsdSpace && e.Local == "schema":
			return readXSD(XSD, []*xml.Node{e}, nil)
		case e.Space == wsdlSpace && e.Local == "definitions":
			return readWSDL(e)
		case e.Local == "description" && strings.HasSuffix(e.Space, "/ns/wsdl"):
			return nil, fmt.Errorf("WSDL 2.0 is not read here; there is 1.1")
		default:
			return nil, fmt.Errorf(
				"the XML document %s is no contract that is known here: an XSD or a WSDL 1.1",
				e.Name(),
			)
		}
	}
	return nil, fmt.Errorf("the document is empty")
}

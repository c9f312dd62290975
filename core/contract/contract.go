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

	make    func(name string) (Made, error)
	partner func() Partner // nil where it says nothing of who takes messages
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
	// Prefixes are those that names have in the schema, by prefix; nil where there are none.
	Prefixes map[string]string
	// Of a service over SOAP.
	SOAP *Operation
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
	return &Contract{Kind: JSONSchema, Choices: []Choice{{"schema", title}},
		make: func(string) (Made, error) { return finish(root, format.JSON, "", nil) }}, nil
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

func readXML(src []byte) (*Contract, error) {
	doc, err := xml.Parse(src, xml.Limits{MaxDepth: 200, MaxNodes: 500_000})
	if err != nil {
		return nil, fmt.Errorf("the contract cannot be read: %w", err)
	}
	for _, e := range doc.Children {
		switch {
		case e.Type != xml.Element:
		case e.Space == xsdSpace && e.Local == "schema":
			return readXSD([]*xml.Node{e})
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

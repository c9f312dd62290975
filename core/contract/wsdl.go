package contract

import (
	"fmt"
	"slices"
	"strings"

	"readyferry/core/format/xml"
	"readyferry/core/message"
)

// The namespaces of WSDL 1.1 and of its bindings (W3C note of 15 March 2001; the binding
// of SOAP 1.2 is that of 5 April 2006).
const (
	wsdlSpace   = "http://schemas.xmlsoap.org/wsdl/"
	soap11Bound = "http://schemas.xmlsoap.org/wsdl/soap/"
	soap12Bound = "http://schemas.xmlsoap.org/wsdl/soap12/"
)

// The versions of SOAP, with the namespace of the envelope and the type of the message.
const (
	SOAP11 = "1.1"
	SOAP12 = "1.2"
)

// Envelopes are the namespaces of envelopes (SOAP 1.1, section 4; SOAP 1.2 part 1, 5.1).
var Envelopes = map[string]string{SOAP11: "http://schemas.xmlsoap.org/soap/envelope/",
	SOAP12: "http://www.w3.org/2003/05/soap-envelope"}

// Operation is an operation of a service over SOAP.
type Operation struct {
	Name        string
	Version     string // of SOAP
	Action      string // SOAPAction, or the parameter action of the media type
	Address     string // of the service, as its document has it
	ContentType string // of what is sent and answered
	Answer      []byte // a made-up answer; nil for one that has none
}

// wsdl is a description that is read.
type wsdl struct {
	root       *xml.Node
	x          *xsd
	messages   map[string]*xml.Node
	operations []*bound
	notes      []string
}

// bound is an operation with how it is said.
type bound struct {
	name, version, style, action, address string
	op                                    *xml.Node // of the port type
	in, out                               said
}

// said is how a message stands in the body.
type said struct {
	message string
	parts   []string // those that are in the body; nil: all
	space   string   // of the wrapper, where the style is rpc
}

func readWSDL(root *xml.Node) (*Contract, error) {
	var schemas []*xml.Node
	for _, t := range children(root, "types") {
		for _, s := range t.Children {
			if s.Type == xml.Element && s.Space == xsdSpace && s.Local == "schema" {
				schemas = append(schemas, s)
			}
		}
	}
	w := &wsdl{root: root, x: newXSD(schemas), messages: map[string]*xml.Node{}}
	if len(children(root, "import")) > 0 {
		w.notes = append(w.notes, "imports of the WSDL are not followed: nothing is fetched, so put them into the document")
	}
	for _, m := range children(root, "message") {
		w.messages[attr(m, "name")] = m
	}
	w.bind()
	if len(w.operations) == 0 {
		return nil, fmt.Errorf("the WSDL has no operation that is read here; %s",
			strings.Join(append(w.notes, "there are document and rpc, both literal, over SOAP 1.1 and 1.2"), "; "))
	}
	c := &Contract{Kind: WSDL}
	by := map[string]*bound{}
	for _, o := range w.operations {
		name := o.name
		if by[name] != nil {
			name += ", SOAP " + o.version
		}
		if by[name] != nil {
			continue
		}
		by[name] = o
		c.Choices = append(c.Choices, Choice{name, fmt.Sprintf("operation %s, SOAP %s", o.name, o.version)})
	}
	c.make = func(name string) (Made, error) { return w.make(by[name]) }
	c.partner = func() Partner { return w.partner(c, by) }
	return c, nil
}

// bind looks through the bindings; where there are none, each operation of a port type is
// taken as one of SOAP 1.1 whose body is its document.
func (w *wsdl) bind() {
	types := map[string]*xml.Node{}
	for _, p := range children(w.root, "portType") {
		types[attr(p, "name")] = p
	}
	for _, b := range children(w.root, "binding") {
		of := types[resolve(b, attr(b, "type")).local]
		soap, version := bindingOf(b)
		if of == nil || soap == nil {
			continue // over something else than SOAP
		}
		for _, o := range children(b, "operation") {
			for _, op := range children(of, "operation") {
				if attr(op, "name") == attr(o, "name") {
					w.operation(soap, version, o, op, w.address(attr(b, "name"), soap.Space))
				}
			}
		}
	}
	if len(children(w.root, "binding")) > 0 {
		return
	}
	for _, p := range children(w.root, "portType") {
		for _, op := range children(p, "operation") {
			w.operations = append(w.operations, &bound{name: attr(op, "name"), version: SOAP11, style: "document", op: op,
				in: said{message: messageOf(op, "input")}, out: said{message: messageOf(op, "output")}})
		}
	}
}

// bindingOf gives what a binding says of SOAP, and the version.
func bindingOf(b *xml.Node) (*xml.Node, string) {
	for _, c := range b.Children {
		if c.Type == xml.Element && c.Local == "binding" {
			switch c.Space {
			case soap11Bound:
				return c, SOAP11
			case soap12Bound:
				return c, SOAP12
			}
		}
	}
	return nil, ""
}

func messageOf(op *xml.Node, way string) string {
	for _, m := range children(op, way) {
		return resolve(m, attr(m, "message")).local
	}
	return ""
}

// inSpace gives the first element of a name in a namespace.
func inSpace(n *xml.Node, space, local string) *xml.Node {
	for _, c := range n.Children {
		if c.Type == xml.Element && c.Space == space && c.Local == local {
			return c
		}
	}
	return nil
}

// address finds where a service with a binding is.
func (w *wsdl) address(binding, space string) string {
	for _, s := range children(w.root, "service") {
		for _, p := range children(s, "port") {
			if resolve(p, attr(p, "binding")).local != binding {
				continue
			}
			if a := inSpace(p, space, "address"); a != nil {
				return attr(a, "location")
			}
		}
	}
	return ""
}

// operation takes a bound operation in, where it is said literally.
func (w *wsdl) operation(soap *xml.Node, version string, o, op *xml.Node, address string) {
	out := &bound{name: attr(o, "name"), version: version, style: attr(soap, "style"), address: address, op: op}
	if own := inSpace(o, soap.Space, "operation"); own != nil {
		out.action = attr(own, "soapAction")
		if s := attr(own, "style"); s != "" {
			out.style = s
		}
	}
	if out.style == "" {
		out.style = "document"
	}
	for _, way := range []struct {
		name string
		into *said
	}{{"input", &out.in}, {"output", &out.out}} {
		way.into.message = messageOf(op, way.name)
		for _, part := range children(o, way.name) {
			body := inSpace(part, soap.Space, "body")
			if body == nil {
				continue
			}
			if attr(body, "use") == "encoded" {
				w.notes = append(w.notes, "the operation "+out.name+" is encoded (SOAP 1.1, section 5), which is not read here")
				return
			}
			way.into.space = attr(body, "namespace")
			if parts := attr(body, "parts"); parts != "" {
				way.into.parts = strings.Fields(parts)
			}
		}
	}
	w.operations = append(w.operations, out)
}

// make makes the schema, the sample and the answer of an operation.
func (w *wsdl) make(o *bound) (Made, error) {
	m, err := w.x.made(func(y *xsd) (*message.Node, error) { return w.envelope(y, o, o.in, o.name) })
	if err != nil {
		return Made{}, err
	}
	m.SOAP = &Operation{Name: o.name, Version: o.version, Action: o.action, Address: o.address,
		ContentType: "text/xml; charset=utf-8"}
	if o.version == SOAP12 {
		m.SOAP.ContentType = "application/soap+xml; charset=utf-8"
		if o.action != "" {
			m.SOAP.ContentType += `; action="` + strings.ReplaceAll(o.action, `"`, "") + `"`
		}
	}
	if o.out.message != "" {
		answer, err := w.x.sample(func(y *xsd) (*message.Node, error) { return w.envelope(y, o, o.out, o.name+"Response") })
		if err != nil {
			m.Notes = append(m.Notes, "no answer could be made up: "+err.Error())
		}
		m.SOAP.Answer = answer
	}
	m.Notes = append(append([]string{}, w.notes...), m.Notes...)
	return m, nil
}

// envelope gives the schema of an envelope around a message.
func (w *wsdl) envelope(y *xsd, o *bound, s said, wrapper string) (*message.Node, error) {
	y.prefixes[Envelopes[o.version]] = "soap"
	soap := func(local string) string { return y.written(qname{Envelopes[o.version], local}) }
	body, err := w.body(y, o, s, wrapper)
	if err != nil {
		return nil, err
	}
	envelope := map1(soap("Body"), body)
	return map1(soap("Envelope"), envelope), nil
}

// body gives the schema of what is in the body: the elements of the parts, or with rpc one
// element around them (WSDL 1.1, 3.5).
func (w *wsdl) body(y *xsd, o *bound, s said, wrapper string) (*message.Node, error) {
	var names []string
	var members []message.Member
	for _, part := range w.parts(s) {
		name, of, err := w.part(y, o, part)
		if err != nil {
			return nil, err
		}
		names, members = append(names, name), append(members, message.Member{Name: name, Value: of})
	}
	all := message.NewMap(message.Member{Name: "type", Value: texts([]string{"object", "string"})})
	if len(names) > 0 {
		all = message.NewMap(message.Member{Name: "type", Value: message.NewString("object")},
			message.Member{Name: "required", Value: texts(names)}, message.Member{Name: "properties",
				Value: message.NewMap(members...)})
	}
	if o.style != "rpc" {
		return all, nil
	}
	return map1(y.written(qname{s.space, wrapper}), all), nil
}

func (w *wsdl) parts(s said) (out []*xml.Node) {
	m := w.messages[s.message]
	if m == nil {
		return nil
	}
	for _, p := range children(m, "part") {
		if s.parts == nil || slices.Contains(s.parts, attr(p, "name")) {
			out = append(out, p)
		}
	}
	return out
}

// part gives the name and schema of a part.
func (w *wsdl) part(y *xsd, o *bound, p *xml.Node) (string, *message.Node, error) {
	if name := attr(p, "element"); name != "" && o.style != "rpc" {
		q, e := find(y.elements, resolve(p, name))
		if e == nil {
			y.note("the element " + name + " is not declared here; anything is taken for it")
			return y.written(q), message.NewMap(), nil
		}
		of, err := y.element(e, 0)
		return y.written(q), of, err
	}
	if t := attr(p, "type"); t != "" {
		of, err := y.named(p, t, 0)
		return attr(p, "name"), of, err
	}
	if e := attr(p, "element"); e != "" { // rpc with an element, which none of the profiles has
		_, of := find(y.elements, resolve(p, e))
		if of != nil {
			s, err := y.element(of, 0)
			return attr(p, "name"), s, err
		}
	}
	return attr(p, "name"), message.NewMap(), nil
}

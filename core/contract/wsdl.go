package contract

import (
	"fmt"
	"strings"

	"readyferry/core/format/xml"
)

const wsdlSpace = "http://schemas.xmlsoap.org/wsdl/"

// readWSDL reads the elements of the messages that operations take in.
func readWSDL(root *xml.Node) (*Contract, error) {
	var schemas []*xml.Node
	for _, t := range children(root, "types") {
		for _, s := range t.Children {
			if s.Type == xml.Element && s.Space == xsdSpace && s.Local == "schema" {
				schemas = append(schemas, s)
			}
		}
	}
	if schemas == nil {
		return nil, fmt.Errorf("the WSDL holds no types; those that lie elsewhere are not fetched")
	}
	inputs := map[string]bool{}
	for _, p := range children(root, "portType") {
		for _, op := range children(p, "operation") {
			for _, in := range children(op, "input") {
				inputs[local(attr(in, "message"))] = true
			}
		}
	}
	var only []string
	var notes []string
	for _, m := range children(root, "message") {
		if !inputs[attr(m, "name")] {
			continue
		}
		for _, part := range children(m, "part") {
			if e := attr(part, "element"); e != "" {
				only = append(only, local(e))
			} else {
				notes = append(notes, "the message "+attr(m, "name")+" has a part by type (RPC style), which is not read here")
			}
		}
	}
	if only == nil {
		return nil, fmt.Errorf(
			"no operation of the WSDL takes an element in; %s",
			strings.Join(append(notes, "RPC style is not read here"), "; "),
		)
	}
	c, err := readXSD(WSDL, schemas, only)
	if err != nil {
		return nil, err
	}
	make := c.make
	c.make = func(name string) (Made, error) {
		m, err := make(name)
		m.Notes = append(
			append(m.Notes, notes...),
			"the element comes inside a SOAP envelope; read it at body[\"soap:Envelope\"][\"soap:Body\"]."+name+
				", with the sender's own prefixes",
		)
		return m, err
	}
	return c, nil
}

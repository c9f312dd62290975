package contract

import (
	"fmt"
	"strconv"

	"readyferry/core/format/xml"
	"readyferry/core/message"
)

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

// content takes in what a type holds. needed tells whether it must be there, many whether it
// may be there more than once.
func (o *object) content(n *xml.Node, depth int, needed, many bool) error {
	if depth > 60 {
		return fmt.Errorf("the types of the schema nest too deep")
	}
	for _, c := range children(n) {
		var err error
		switch c.Local {
		case "sequence", "all":
			err = o.content(c, depth+1, needed && attr(c, "minOccurs") != "0", many || severalOf(c))
		case "choice":
			err = o.content(c, depth+1, false, many || severalOf(c))
		case "element":
			err = o.element(c, depth, needed, many)
		case "attribute":
			err = o.attribute(c, depth)
		case "group", "attributeGroup":
			q := resolve(c, attr(c, "ref"))
			if _, g := find(o.x.groups, qname{q.space, c.Local + " " + q.local}); g != nil {
				err = o.content(g, depth+1, needed && attr(c, "minOccurs") != "0", many || severalOf(c))
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
	} else if _, base := find(o.x.types, resolve(e, attr(e, "base"))); base != nil && e.Local == "extension" {
		if err := o.content(base, depth+1, true, false); err != nil {
			return err
		}
	}
	return o.content(e, depth+1, true, false)
}

// severalOf tells whether something may stand more than once.
func severalOf(n *xml.Node) bool {
	most := attr(n, "maxOccurs")
	return most != "" && most != "1" && most != "0"
}

func (o *object) element(e *xml.Node, depth int, needed, many bool) error {
	q, target := own(e, "elementFormDefault"), e
	if ref := attr(e, "ref"); ref != "" {
		q = resolve(e, ref)
		if at, is := find(o.x.elements, q); is != nil {
			q, target = at, is
		}
	}
	if attr(e, "maxOccurs") == "0" {
		return nil
	}
	s, err := o.x.element(e, depth+1)
	if err != nil {
		return err
	}
	if attr(target, "nillable") == "true" {
		s = any1(s, map1("@"+o.x.written(qname{space: xsiSpace, local: "nil"}), message.NewMap(message.Member{Name: "enum",
			Value: texts([]string{"true", "1"})})))
	}
	if many || severalOf(e) {
		s = o.several(e, s, many)
	}
	o.property(o.x.written(q), s, needed && attr(e, "minOccurs") != "0")
	return nil
}

// any1 is a schema that what fits one of these fits.
func any1(list ...*message.Node) *message.Node {
	return message.NewMap(message.Member{Name: "anyOf", Value: message.NewList(list...)})
}

// several is the schema of an element that may stand more than once: one alone is no list
// in the tree.
func (o *object) several(e *xml.Node, s *message.Node, many bool) *message.Node {
	list := message.NewMap(message.Member{Name: "type", Value: message.NewString("array")},
		message.Member{Name: "items", Value: s})
	least, _ := strconv.Atoi(attr(e, "minOccurs"))
	if least > 2 {
		list = list.With("minItems", message.NewNumber(strconv.Itoa(least)))
	}
	if most, err := strconv.Atoi(attr(e, "maxOccurs")); err == nil && !many {
		list = list.With("maxItems", message.NewNumber(strconv.Itoa(most)))
	}
	if least >= 2 {
		return list
	}
	return any1(s, list)
}

func (o *object) attribute(a *xml.Node, depth int) error {
	q, target := own(a, "attributeFormDefault"), a
	if ref := attr(a, "ref"); ref != "" {
		q = resolve(a, ref)
		if at, is := find(o.x.attributes, q); is != nil {
			q, target = at, is
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
	o.property("@"+o.x.written(q), s, attr(a, "use") == "required")
	return nil
}

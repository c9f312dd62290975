package protobuf

import (
	"google.golang.org/protobuf/reflect/protoreflect"

	"readyferry/core/message"
)

// Shape implements message.Schema: it gives the type as a JSON Schema, for showing the lines that
// a document has.
func (s *Schema) Shape() *message.Node {
	defs := message.NewMap()
	out := shapeOf(s.of, &defs)
	return out.With("$defs", defs)
}

func kind(name string) *message.Node {
	return message.NewMap(message.Member{Name: "type", Value: message.NewString(name)})
}

// shapeOf gives a message type; types stand under $defs, so that one may hold itself.
func shapeOf(d protoreflect.MessageDescriptor, defs **message.Node) *message.Node {
	switch {
	case wraps(d):
		return scalarShape(d.Fields().ByNumber(1), defs)
	case d.FullName() == "google.protobuf.Timestamp", d.FullName() == "google.protobuf.Duration":
		return kind("string")
	case inJSON[d.FullName()]:
		return message.NewMap()
	}
	name := string(d.FullName())
	if (*defs).Get(name) == nil {
		*defs = (*defs).With(name, message.NewMap()) // so that it ends
		properties, required := message.NewMap(), message.NewList()
		for _, f := range fieldsOf(d) {
			properties = properties.With(string(f.Name()), fieldShape(f, defs))
			if f.Cardinality() == protoreflect.Required {
				required.Items = append(required.Items, message.NewString(string(f.Name())))
			}
		}
		*defs = (*defs).With(name, kind("object").With("properties", properties).With("required", required))
	}
	return message.NewMap(message.Member{Name: "$ref", Value: message.NewString("#/$defs/" + name)})
}

func fieldShape(f protoreflect.FieldDescriptor, defs **message.Node) *message.Node {
	switch {
	case f.IsMap():
		return kind("object").With("additionalProperties", scalarShape(f.MapValue(), defs))
	case f.IsList():
		return kind("array").With("items", scalarShape(f, defs))
	}
	return scalarShape(f, defs)
}

func scalarShape(f protoreflect.FieldDescriptor, defs **message.Node) *message.Node {
	switch f.Kind() {
	case protoreflect.MessageKind, protoreflect.GroupKind:
		return shapeOf(f.Message(), defs)
	case protoreflect.BoolKind:
		return kind("boolean")
	case protoreflect.StringKind, protoreflect.BytesKind:
		return kind("string")
	case protoreflect.FloatKind, protoreflect.DoubleKind:
		return kind("number")
	case protoreflect.EnumKind:
		list := message.NewList()
		for i := range f.Enum().Values().Len() {
			list.Items = append(list.Items, message.NewString(string(f.Enum().Values().Get(i).Name())))
		}
		return message.NewMap(message.Member{Name: "enum", Value: list})
	}
	return kind("integer")
}

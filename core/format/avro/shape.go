package avro

import (
	"github.com/hamba/avro/v2"

	"readyferry/core/message"
)

// Shape implements message.Schema: it gives the schema as a JSON Schema, for showing the lines
// that a document has.
func (s *Schema) Shape() *message.Node {
	defs := message.NewMap()
	out := shapeOf(s.of, &defs)
	if s.framing == Container {
		out = object("type", text("array"), "items", out)
	}
	return out.With("$defs", defs)
}

func text(s string) *message.Node { return message.NewString(s) }

// object makes a map of names and values.
func object(pairs ...any) *message.Node {
	out := message.NewMap()
	for i := 0; i < len(pairs); i += 2 {
		out = out.With(pairs[i].(string), pairs[i+1].(*message.Node))
	}
	return out
}

var kinds = map[avro.Type]string{
	avro.Boolean: "boolean",
	avro.Int:     "integer",
	avro.Long:    "integer",
	avro.Float:   "number",
	avro.Double:  "number",
	avro.Null:    "null",
}

// shapeOf gives one type; records stand under $defs, so that one may hold itself.
func shapeOf(s avro.Schema, defs **message.Node) *message.Node {
	switch s := resolved(s).(type) {
	case *avro.RecordSchema:
		name := s.FullName()
		if (*defs).Get(name) == nil {
			*defs = (*defs).With(name, message.NewMap()) // so that it ends
			properties, required := message.NewMap(), message.NewList()
			for _, f := range s.Fields() {
				one := shapeOf(f.Type(), defs)
				if f.Doc() != "" {
					one = one.With("description", text(f.Doc()))
				}
				properties = properties.With(f.Name(), one)
				if _, err := standIn(f); err != nil {
					required.Items = append(required.Items, text(f.Name()))
				}
			}
			*defs = (*defs).With(name, object("type", text("object"), "properties", properties, "required", required))
		}
		return object("$ref", text("#/$defs/"+name))
	case *avro.ArraySchema:
		return object("type", text("array"), "items", shapeOf(s.Items(), defs))
	case *avro.MapSchema:
		return object("type", text("object"), "additionalProperties", shapeOf(s.Values(), defs))
	case *avro.UnionSchema:
		var one *message.Node
		for _, t := range s.Types() {
			if resolved(t).Type() == avro.Null {
				continue
			}
			if one != nil {
				return message.NewMap() // any of several
			}
			one = shapeOf(t, defs)
		}
		if one == nil {
			return object("type", text("null"))
		}
		return one
	case *avro.EnumSchema:
		list := message.NewList()
		for _, symbol := range s.Symbols() {
			list.Items = append(list.Items, text(symbol))
		}
		return object("enum", list)
	default:
		if logical(s) == avro.Decimal {
			return object("type", text("number"))
		}
		if kind := kinds[s.Type()]; kind != "" && times[logical(s)].layout == "" {
			return object("type", text(kind))
		}
		return object("type", text("string"))
	}
}

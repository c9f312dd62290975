package contract

import (
	"readyferry/core/format/xml"
	"readyferry/core/message"
)

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

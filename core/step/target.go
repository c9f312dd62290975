package step

import (
	"fmt"

	"readyferry/core/flow"
	"readyferry/core/format"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
	"readyferry/core/shape"
)

// TargetLines gives the lines of what a map writes, as far as its settings say: those of its
// target, else of the example that it starts from. files are the flow's own. The error says
// what of the target cannot be read.
func TargetLines(settings *message.Node, files map[string][]byte) ([]shape.Line, error) {
	as := scalar(settings.Get("as"))
	if as == "" {
		as = format.JSON
	}
	layout := flow.Layout(settings)
	layout.Header = as == format.CSV && scalar(settings.Get("header")) != "false"
	target := settings.Get("target")
	if as == format.Fixed && target == nil && len(layout.Columns) > 0 {
		var names []string
		for _, c := range layout.Columns {
			names = append(names, c.Name)
		}
		return shape.FromColumns(names), nil
	}
	if (as == format.Avro || as == format.Protobuf) && target == nil {
		by := flow.By(settings)
		if by.File == "" {
			return []shape.Line{}, nil
		}
		s, err := format.SchemaOf(as, files, by)
		if err != nil {
			return nil, err
		}
		return shape.FromSchema(s.Shape(), func(string) *message.Node { return nil }), nil
	}
	if target == nil {
		if scalar(settings.Get("start")) != "example" || settings.Get("example") == nil {
			return []shape.Line{}, nil
		}
		target = message.NewMap(message.Member{Name: "example", Value: settings.Get("example")})
	}
	if target.Kind != message.Map || len(target.Members) == 0 {
		return []shape.Line{}, nil
	}
	switch n := target.Members[0].Value; target.Members[0].Name {
	case "schema":
		return schemaLines(n, files)
	case "message", "version":
		return shape.FromHL7(scalar(target.Get("message")), scalar(target.Get("version")))
	case "columns":
		var names []string
		for _, one := range n.Items {
			names = append(names, one.Text)
		}
		return shape.FromColumns(names), nil
	default:
		root, err := decodeExample(as, n, layout)
		if err != nil {
			return nil, err
		}
		return shape.FromExample(as, root), nil
	}
}

func schemaLines(n *message.Node, files map[string][]byte) ([]shape.Line, error) {
	read := func(name string) *message.Node {
		r, err := jsonfmt.Decode(files[name])
		if err != nil {
			return nil
		}
		return r.Root
	}
	if ref := scalar(n.Get("$ref")); ref != "" && len(n.Members) == 1 {
		if read(ref) == nil {
			return nil, fmt.Errorf("the flow has no schema in a file %s", ref)
		}
	}
	return shape.FromSchema(n, read), nil
}

// unwritten finds lines that must be there and that no field writes.
func (r *mapping) unwritten(lines []shape.Line) (out []string) {
	written := map[string]bool{}
	var note func(fields []mapField, above string)
	note = func(fields []mapField, above string) {
		for _, f := range fields {
			written[f.source] = true
			note(f.fields, above)
		}
	}
	note(r.fields, "")
	for _, l := range lines {
		if l.Required && !written[l.To] && !l.List {
			out = append(out, l.To)
		}
	}
	return out
}

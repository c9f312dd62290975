package plan

import (
	"strings"

	"readyferry/core/expr"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
	"readyferry/core/step"
	"readyferry/core/system"
)

// Schema gives the JSON Schema of flow documents, with every kind of step and
// what they may say to the kinds of outside system.
func Schema(systems system.Kinds) *message.Node {
	root := must(flowSchema)
	defs := root.Get("$defs")
	kinds, cases := message.NewList(), message.NewList()
	for _, k := range step.Kinds() {
		name := "step-" + k.Name
		kinds.Items = append(kinds.Items, message.NewString(k.Name))
		cases.Items = append(
			cases.Items,
			must(
				`{"if": {"properties": {"kind": {"const": "`+k.Name+`"}}, "required": ["kind"]}, "then": {"$ref": "#/$defs/`+name+
					`"}}`,
			),
		)
		properties := must(common)
		for _, m := range must(k.Properties).Members {
			properties = properties.With(m.Name, m.Value)
		}
		if k.Name == "deliver" {
			properties = withSystems(properties, systems, func(k system.Kind) *message.Node { return k.Deliver })
		}
		if k.Name == "ask" {
			properties = withSystems(properties, systems, func(k system.Kind) *message.Node { return k.Ask })
		}
		if k.Defs != "" {
			for _, m := range must(k.Defs).Members {
				defs = defs.With(m.Name, m.Value)
			}
		}
		required := message.NewList(message.NewString("id"), message.NewString("kind"))
		for _, r := range k.Required {
			required.Items = append(required.Items, message.NewString(r))
		}
		defs = defs.With(name, message.NewMap(
			message.Member{Name: "type", Value: message.NewString("object")},
			message.Member{Name: "description", Value: message.NewString(k.Summary)},
			message.Member{Name: "additionalProperties", Value: message.NewBool(false)},
			message.Member{Name: "required", Value: required},
			message.Member{Name: "properties", Value: properties},
		))
	}
	one := must(`{"type": "object", "required": ["id", "kind"], "properties": {}}`)
	one = one.With(
		"properties",
		message.NewMap(message.Member{Name: "kind", Value: message.NewMap(message.Member{Name: "enum", Value: kinds})}),
	)
	defs = defs.With("step", one.With("allOf", cases))
	defs = defs.With("intake", withIntakes(defs.Get("intake"), systems))
	return root.With("$defs", defs)
}

// withSystems adds what deliveries or questions to other systems than HTTP say. What
// two of them say in different ways is checked when the connection is known.
func withSystems(
	properties *message.Node, systems system.Kinds, of func(k system.Kind) *message.Node,
) *message.Node {
	for _, k := range systems {
		for _, m := range system.Properties(of(k)) {
			switch had := properties.Get(m.Name); {
			case had != nil && k.Name == "sql" && properties.Get("of") != nil: // the question knows it itself
			case had == nil:
				properties = properties.With(m.Name, spoken(m.Value))
			case k.Name != "http" && string(jsonfmt.Encode(had)) != string(jsonfmt.Encode(m.Value)):
				properties = properties.With(m.Name, message.NewBool(true))
			}
		}
	}
	return properties
}

// spoken lets a setting that is an expression be written as a bare number or
// boolean, too.
func spoken(property *message.Node) *message.Node {
	if of := property.Get("type"); system.Format(property) != "expression" || of == nil || of.Text != "string" {
		return property
	}
	return property.With("type", must(`["string", "number", "boolean"]`))
}

// withIntakes adds the intakes of systems from which messages come.
func withIntakes(intake *message.Node, systems system.Kinds) *message.Node {
	kinds, cases := intake.Get("properties").Get("kind").Get("enum"), intake.Get("allOf")
	kinds, cases = message.NewList(kinds.Items...), message.NewList(cases.Items...)
	for _, k := range systems {
		if k.Intake == nil {
			continue
		}
		kinds.Items = append(kinds.Items, message.NewString(k.Name))
		properties := must(`{"kind": true}`)
		for _, m := range append(must(inFlow).Members, system.Properties(k.Intake)...) {
			properties = properties.With(m.Name, m.Value)
		}
		required := message.NewList(message.NewString("of"))
		if own := k.Intake.Get("required"); own != nil {
			required.Items = append(required.Items, own.Items...)
		}
		then := must(`{"additionalProperties": false}`).With("required", required).With("properties", properties)
		cases.Items = append(
			cases.Items,
			must(`{"if": {"properties": {"kind": {"const": "`+k.Name+`"}}, "required": ["kind"]}}`).With("then", then),
		)
	}
	one := message.NewMap(
		message.Member{Name: "kind", Value: message.NewMap(message.Member{Name: "enum", Value: kinds})},
	)
	return intake.With("properties", one).With("allOf", cases)
}

// must reads JSON that is part of the program.
func must(src string) *message.Node {
	r, err := jsonfmt.Decode([]byte(src))
	if err != nil {
		panic("a schema in the program is no JSON: " + err.Error())
	}
	return r.Root
}

// near offers the names that a mistyped key may have meant.
func near(name string, known []string) string {
	if n := expr.Nearest(name, known); len(n) > 0 {
		return "did you mean " + strings.Join(n, " or ") + "?"
	}
	if len(known) > 0 {
		return "known here: " + strings.Join(known, ", ")
	}
	return "remove it"
}

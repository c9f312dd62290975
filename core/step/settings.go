package step

import (
	"encoding/json"
	"errors"

	"readyferry/core/expr"
	"readyferry/core/flow"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
	"readyferry/core/pointer"
	"readyferry/core/system"
)

// ownSetting is a setting of a system other than HTTP.
type ownSetting struct {
	name     string
	value    *expr.Program
	template *expr.Template
	constant *message.Node
	members  []ownSetting // of one that is values by name; the others are nil then
}

// ownSettings compiles what a step says by the schema of its system, and takes
// defaults for what it does not say.
func (c *Compiler) ownSettings(s *flow.Step, schema *message.Node) (out []ownSetting) {
	for _, p := range system.Properties(schema) {
		if p.Name == "headers" {
			continue
		}
		ptr, given := s.Pointer+pointer.Pointer{p.Name}.String(), s.Settings.Get(p.Name)
		if given == nil {
			if given = p.Value.Get("default"); given == nil {
				continue
			}
		}
		out = append(out, c.ownSetting(p.Name, ptr, given, system.Format(p.Value)))
	}
	return out
}

// ownSetting compiles one setting as its schema means it, or each value of a map.
func (c *Compiler) ownSetting(name, ptr string, given *message.Node, format string) ownSetting {
	one := ownSetting{name: name, constant: given}
	if given.Kind == message.Map && format != "" {
		one.members = []ownSetting{}
		for _, m := range given.Members {
			one.members = append(one.members, c.ownSetting(m.Name, ptr+pointer.Pointer{m.Name}.String(), m.Value, format))
		}
		return one
	}
	switch format {
	case "expression":
		one.value = c.Expression(ptr, scalar(given))
	case "template":
		one.template = c.Template(ptr, scalar(given), expr.PlainText)
	case "html":
		one.template = c.Template(ptr, scalar(given), expr.XMLText)
	}
	return one
}

// say fills the settings of a system in for a message.
func say(own []ownSetting, c *Call) (json.RawMessage, error) {
	if own == nil {
		return nil, nil
	}
	out, err := filled(own, c)
	if err != nil {
		return nil, err
	}
	return jsonfmt.Encode(out), nil
}

func filled(own []ownSetting, c *Call) (*message.Node, error) {
	out := message.NewMap()
	for _, s := range own {
		value := s.constant
		var err error
		switch {
		case s.members != nil:
			value, err = filled(s.members, c)
		case s.value != nil:
			value, err = s.value.Eval(c.Scope())
		case s.template != nil:
			var text string
			text, err = s.template.Eval(c.Scope())
			value = message.NewString(text)
		}
		if err != nil {
			var inner *Failure
			if errors.As(err, &inner) {
				inner.Phase = s.name + "/" + inner.Phase
				return nil, inner
			}
			return nil, fail(s.name, err)
		}
		out = out.With(s.name, value)
	}
	return out, nil
}

package step

import (
	"fmt"

	"readyferry/core/expr"
	"readyferry/core/flow"
	"readyferry/core/message"
	"readyferry/core/pointer"
)

// headerTemplate is a header that a step writes; nil template: it is removed.
type headerTemplate struct {
	name  string
	value *expr.Template
}

func (c *Compiler) headers(s *flow.Step) []headerTemplate {
	var out []headerTemplate
	for _, m := range members(s.Settings.Get("headers")) {
		ptr := s.Pointer + "/headers" + pointer.Pointer{m.Name}.String()
		if !headerName(m.Name) {
			c.at(
				s,
				ptr,
				flow.Error,
				"wrong-value",
				fmt.Sprintf("%q is no name of a header", m.Name),
				"use letters, digits and hyphens",
			)
			continue
		}
		if m.Value.Kind == message.Null {
			out = append(out, headerTemplate{m.Name, nil})
			continue
		}
		if t := c.Template(ptr, scalar(m.Value), expr.HeaderValue); t != nil {
			out = append(out, headerTemplate{m.Name, t})
		}
	}
	return out
}

// headerName follows RFC 9110, 5.6.2, without the odder characters of a token.
func headerName(s string) bool {
	for _, c := range []byte(s) {
		if !(c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '-' || c == '_' || c == '.') {
			return false
		}
	}
	return s != ""
}

func fillHeaders(templates []headerTemplate, scope *expr.Scope) ([]message.Header, error) {
	out := make([]message.Header, 0, len(templates))
	for _, h := range templates {
		if h.value == nil {
			continue
		}
		v, err := h.value.Eval(scope)
		if err != nil {
			return nil, fail("headers/"+h.name, err)
		}
		out = append(out, message.Header{Name: h.name, Value: v})
	}
	return out, nil
}

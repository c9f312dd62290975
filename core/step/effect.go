package step

import (
	"fmt"
	"strings"
	"unicode/utf8"

	"readyferry/core/format"
	"readyferry/core/message"
	"readyferry/core/want"
)

// unreadable says why the body of an answer is not of the format that its
// Content-Type states, or nil.
func unreadable(e *want.Effect) error {
	kind := message.HeaderMap(e.Headers).Get("content-type")
	if kind == nil || len(e.Body) == 0 {
		return nil
	}
	name := FormatOf("auto", kind, e.Body)
	_, err := format.Decode(name, e.Body, message.Layout{Charset: Charset(kind)}, format.Limits{})
	if err != nil {
		return fmt.Errorf("the answer is not %s, as its Content-Type says: %w", strings.ToUpper(name), err)
	}
	return nil
}

// reply gives an effect as what later steps see under replies.
func reply(e *want.Effect) *message.Node {
	headers := message.HeaderMap(e.Headers)
	body := message.NewNull()
	if len(e.Body) > 0 {
		kind := headers.Get("content-type")
		d, err := format.Decode(
			FormatOf("auto", kind, e.Body),
			e.Body,
			message.Layout{Charset: Charset(kind)},
			format.Limits{},
		)
		switch {
		case err == nil:
			body = d.Root
		case utf8.Valid(e.Body):
			body = message.NewString(string(e.Body))
		default:
			body = message.NewBytes(e.Body)
		}
	}
	return message.NewMap(
		message.Member{Name: "status", Value: jsonInt(e.Status)},
		message.Member{Name: "headers", Value: headers},
		message.Member{Name: "body", Value: body},
	)
}

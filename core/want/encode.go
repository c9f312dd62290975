package want

import (
	"encoding/json"
	"strconv"

	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
)

// What every message has written of it is written by hand here: the general encoder looks
// the same types up again for each.

// EncodeHeaders gives headers as JSON, as json.Marshal does.
func EncodeHeaders(headers []message.Header) []byte {
	if headers == nil {
		return []byte("null")
	}
	size := 2
	for i := range headers {
		size += len(headers[i].Name) + len(headers[i].Value) + 24
	}
	return appendHeaders(make([]byte, 0, size), headers)
}

func appendHeaders(out []byte, headers []message.Header) []byte {
	out = append(out, '[')
	for i := range headers {
		if i > 0 {
			out = append(out, ',')
		}
		out = jsonfmt.AppendString(append(out, `{"name":`...), headers[i].Name)
		out = append(jsonfmt.AppendString(append(out, `,"value":`...), headers[i].Value), '}')
	}
	return append(out, ']')
}

// EncodeAnswer gives what a delivered try was answered as the JSON of an [Effect].
func EncodeAnswer(status int, headers []message.Header) []byte {
	out := strconv.AppendInt([]byte(`{"status":`), int64(status), 10)
	return append(append(append(out, `,"headers":`...), EncodeHeaders(headers)...), '}')
}

// Encode gives a request as JSON, but for its body, as json.Marshal does.
func (r *Request) Encode() ([]byte, error) {
	if r.Query != nil || r.Settings != nil || r.Headers == nil {
		return json.Marshal(r)
	}
	out := make([]byte, 0, 128+len(r.Path))
	out = append(out, '{')
	if r.Method != "" {
		out = append(jsonfmt.AppendString(append(out, `"method":`...), r.Method), ',')
	}
	if r.Path != "" {
		out = append(jsonfmt.AppendString(append(out, `"path":`...), r.Path), ',')
	}
	out = appendHeaders(append(out, `"headers":`...), r.Headers)
	out = jsonfmt.AppendString(append(out, `,"format":`...), r.Format)
	if r.Ask {
		out = append(out, `,"ask":true`...)
	}
	return append(out, '}'), nil
}

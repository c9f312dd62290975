package want

import (
	"encoding/json"
	"strconv"

	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
)

// What every message has written of it is written by hand here: the general encoder looks
// the same types up again for each.

// EncodeHeaders gives headers as they are kept with every message and every try: JSON, each an
// array of name and value. Nothing stands for headers that are nil.
func EncodeHeaders(headers []message.Header) []byte {
	if headers == nil {
		return nil
	}
	size := 2
	for i := range headers {
		size += len(headers[i].Name) + len(headers[i].Value) + 8
	}
	out := append(make([]byte, 0, size), '[')
	for i := range headers {
		if i > 0 {
			out = append(out, ',')
		}
		out = jsonfmt.AppendString(append(out, '['), headers[i].Name)
		out = append(jsonfmt.AppendString(append(out, ','), headers[i].Value), ']')
	}
	return append(out, ']')
}

// DecodeHeaders reads what EncodeHeaders wrote, and the objects with name and value that earlier
// releases wrote.
func DecodeHeaders(b []byte) ([]message.Header, error) {
	if len(b) == 0 {
		return nil, nil
	}
	if len(b) == 1 || b[1] != '[' {
		var headers []message.Header
		return headers, json.Unmarshal(b, &headers)
	}
	var pairs [][2]string
	if err := json.Unmarshal(b, &pairs); err != nil {
		return nil, err
	}
	headers := make([]message.Header, len(pairs))
	for i, p := range pairs {
		headers[i] = message.Header{Name: p[0], Value: p[1]}
	}
	return headers, nil
}

// objects gives headers as json.Marshal does.
func objects(headers []message.Header) []byte {
	if headers == nil {
		return []byte("null")
	}
	return appendHeaders(nil, headers)
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
	return append(append(append(out, `,"headers":`...), objects(headers)...), '}')
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

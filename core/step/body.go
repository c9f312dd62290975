package step

import (
	"mime"
	"strconv"
	"strings"

	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
)

// FormatOf gives the format of a body: the one set on the intake, or with
// "auto" what the Content-Type says; JSON without one.
func FormatOf(set string, contentType *message.Node) string {
	if set != "auto" {
		return set
	}
	if contentType == nil {
		return "json"
	}
	media, _, err := mime.ParseMediaType(contentType.Text)
	if err != nil {
		return "json"
	}
	if strings.HasPrefix(media, "text/") {
		return "text"
	}
	return "json"
}

// Decode reads a body in a format; warnings name what the reader should know.
func Decode(format string, raw []byte) (body *message.Node, duplicates []string, err error) {
	if format == "text" {
		return message.NewString(string(raw)), nil, nil
	}
	r, err := jsonfmt.Decode(raw)
	return r.Root, r.Duplicates, err
}

// Bytes gives the body of a message as it leaves: as it came in when nothing
// changed it, else written anew.
func Bytes(m *message.Message) []byte {
	if m.Raw != nil || m.Body == nil {
		return m.Raw
	}
	if m.Format == "text" {
		return []byte(m.Body.Text)
	}
	return jsonfmt.Encode(m.Body)
}

// ContentType gives the media type of a format.
func ContentType(format string) string {
	if format == "text" {
		return "text/plain; charset=utf-8"
	}
	return "application/json"
}

func jsonInt(i int) *message.Node { return message.NewNumber(strconv.Itoa(i)) }

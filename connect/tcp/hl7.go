package tcp

import (
	"bytes"
	"fmt"
	"strings"
	"time"
	"unicode/utf8"

	"readyferry/connect"
	"readyferry/core/format/hl7"
	jsonfmt "readyferry/core/format/json"
)

// header is what an acknowledgement needs of a message: its first segment, whatever else
// there is to it.
type header struct {
	fields []string // MSH-1 is the first
	sep    byte
}

// headerOf reads the first segment of a message, nil where it has no MSH.
func headerOf(msg []byte) *header {
	if len(msg) < 8 || !bytes.HasPrefix(msg, []byte("MSH")) || msg[3] < ' ' || msg[3] >= 0x7F {
		return nil
	}
	line := msg
	if n := bytes.IndexAny(line, "\r\n"); n >= 0 {
		line = line[:n]
	}
	if len(line) > 4096 {
		line = line[:4096]
	}
	h := &header{sep: msg[3]}
	h.fields = append([]string{string(h.sep)}, strings.Split(strings.ToValidUTF8(string(line[4:]), "?"), string(h.sep))...)
	return h
}

// field gives MSH-n.
func (h *header) field(n int) string {
	if h != nil && n >= 1 && n <= len(h.fields) {
		return h.fields[n-1]
	}
	return ""
}

// id tells a message from others of its sender: who sends it, when, and its control id.
func (h *header) id() string {
	if h == nil || h.field(10) == "" {
		return ""
	}
	return strings.Join([]string{h.field(3), h.field(4), h.field(7), h.field(10)}, "|")
}

// asks tells whether MSH-15 or 16 asks for an acknowledgement (table 0155): good says
// whether it is one that says yes.
func asks(when string, good bool) bool {
	switch when {
	case "AL":
		return true
	case "ER":
		return !good
	case "SU":
		return good
	}
	return false
}

// enhanced tells whether the message says itself which acknowledgements it wants (HL7
// 2.5.1, 2.9.3).
func (h *header) enhanced() bool { return h.field(15) != "" || h.field(16) != "" }

// ack makes an acknowledgement (HL7 2.5.1, 2.9.2). One that says no has an ERR segment.
func (h *header) ack(code, text string, now time.Time) []byte {
	sep := byte('|')
	encoding, version, processing := `^~\&`, "2.5.1", "P"
	if h != nil {
		sep = h.sep
		if h.field(2) != "" {
			encoding = h.field(2)
		}
		if h.field(12) != "" {
			version = h.field(12)
		}
		if h.field(11) != "" {
			processing = h.field(11)
		}
	}
	component := encoding[:1]
	kind := "ACK"
	if parts := strings.Split(h.field(9), component); len(parts) > 1 && parts[1] != "" {
		kind += component + parts[1]
		if len(parts) > 2 {
			kind += component + "ACK"
		}
	}
	id := now.UTC().Format("20060102150405.000000")
	msh := []string{"MSH", encoding, h.field(5), h.field(6), h.field(3), h.field(4),
		now.UTC().Format("20060102150405") + "+0000", "", kind,
		strings.ReplaceAll(id, ".", ""), processing, version}
	if set := h.field(18); set != "" {
		msh = append(msh, "", "", "", "", "", set)
	}
	lines := []string{strings.Join(msh, string(sep)), strings.Join([]string{"MSA", code, h.field(10)}, string(sep))}
	if code != "AA" && code != "CA" {
		lines = append(lines, strings.Join([]string{"ERR", "", "",
			strings.Join([]string{"207", "Application internal error", "HL70357"}, component), "E", "", "", "", escaped(text,
				sep, encoding)}, string(sep)))
	}
	out := strings.Join(lines, "\r") + "\r"
	if in, err := hl7.Bytes(out); err == nil {
		return in
	}
	return []byte(out) // what it says has a letter that the sender's character set has not
}

// escaped writes a text so that none of its characters is a separator (HL7 2.5.1, 2.7.1).
func escaped(text string, sep byte, encoding string) string {
	escape := `\`
	if len(encoding) > 2 {
		escape = encoding[2:3]
	}
	letters := map[byte]string{sep: "F"}
	for i, letter := range []string{"S", "R", "E", "T"} {
		if i < len(encoding) {
			letters[encoding[i]] = letter
		}
	}
	var out strings.Builder
	for _, r := range text {
		switch {
		case r < ' ':
			out.WriteByte(' ')
		case r < utf8.RuneSelf && letters[byte(r)] != "":
			out.WriteString(escape + letters[byte(r)] + escape)
		default:
			out.WriteRune(r)
		}
	}
	return out.String()
}

// said makes the acknowledgement that means what a flow has said: one that it has made
// itself, or AA, AE or AR by the status of its answer.
func (h *header) said(a connect.Answer, now time.Time) []byte {
	if bytes.HasPrefix(a.Body, []byte("MSH")) {
		return a.Body
	}
	return h.ack(codeOf(a.Status), reasonOf(a), now)
}

// codeOf gives the code of an acknowledgement: what a flow finds at fault is AE; what is not
// taken, or cannot be read at all, is AR.
func codeOf(status int) string {
	switch {
	case status < 300:
		return "AA"
	case status == 409, status == 422, status == 500:
		return "AE"
	}
	return "AR"
}

// reasonOf gives the words of a problem document (RFC 9457), or what the answer begins with.
func reasonOf(a connect.Answer) string {
	if r, err := jsonfmt.Decode(a.Body); err == nil {
		for _, name := range []string{"detail", "reason", "title"} {
			if n := r.Root.Get(name); n != nil && n.Text != "" {
				return connect.ShortText(n.Text)
			}
		}
	}
	return connect.ShortText(string(a.Body))
}

// acknowledged is what an acknowledgement says.
type acknowledged struct{ code, of, text string }

// readAck reads an acknowledgement.
func readAck(msg []byte) (acknowledged, error) {
	m, err := hl7.Parse(hl7.Text(msg))
	if err != nil {
		return acknowledged{}, fmt.Errorf("the answer is no acknowledgement: %w", err)
	}
	var out acknowledged
	for _, s := range m.Segments {
		fields := s.Fields()
		field := func(n int) string {
			if n <= len(fields) {
				return fields[n-1]
			}
			return ""
		}
		switch s.Name {
		case "MSA":
			out.code, out.of, out.text = field(1), field(2), field(3)
		case "ERR":
			for _, n := range []int{8, 7} {
				if t := field(n); t != "" && out.text == "" {
					out.text = t
				}
			}
		}
	}
	if out.code == "" {
		return out, fmt.Errorf("the answer is no acknowledgement: it has no MSA-1")
	}
	return out, nil
}

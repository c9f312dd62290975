package mail

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/mail"
	"path"
	"slices"
	"strings"

	entity "github.com/emersion/go-message"
	"github.com/emersion/go-message/charset"

	mailentity "github.com/emersion/go-message/mail"
)

// Bounds of what is read.
const (
	mostHead  = 256 << 10 // bytes of a head
	mostParts = 200
	mostDeep  = 20
	mostHeld  = 32 << 20 // bytes of all texts and attachments, decoded
)

// decoder reads encoded words in any charset that is known (RFC 2047).
var decoder = &mime.WordDecoder{CharsetReader: charset.Reader}

// Read reads a mail. An error says why it is none, or too large a one.
func Read(raw []byte) (*Mail, error) {
	e, err := entity.ReadWithOptions(bytes.NewReader(raw), &entity.ReadOptions{MaxHeaderBytes: mostHead})
	if e == nil {
		return nil, fmt.Errorf("this is no mail: its head cannot be read (%w)", err)
	}
	m := &Mail{}
	m.head(mailentity.Header{Header: e.Header})
	if len(m.From) == 0 && m.Subject == "" && m.ID == "" && m.Date.IsZero() && len(m.To) == 0 {
		return nil, errors.New("this is no mail: its head says neither who it is from nor anything else")
	}
	r := &reading{mail: m}
	if err := r.part(e, err, 0); err != nil {
		return nil, err
	}
	return m, nil
}

// known are the fields that a Mail says itself, and those that only its form needs.
var known = []string{"from", "to", "cc", "bcc", "reply-to", "subject", "date", "message-id", "in-reply-to",
	"references", "mime-version", "content-type", "content-transfer-encoding", "content-disposition", "received"}

// head reads the fields. One that cannot be read is as if it were not there, or as it
// stands: a mail is not refused because somebody wrote a date wrong.
func (m *Mail) head(h mailentity.Header) {
	m.From, m.To, m.Cc = addresses(&h, "From"), addresses(&h, "To"), addresses(&h, "Cc")
	m.ReplyTo = addresses(&h, "Reply-To")
	m.Subject = words(h.Get("Subject"))
	if at, err := h.Date(); err == nil {
		m.Date = at
	}
	m.ID, _ = h.MessageID()
	m.InReplyTo, _ = h.MsgIDList("In-Reply-To")
	m.References, _ = h.MsgIDList("References")
	for f := h.Fields(); f.Next(); {
		if !slices.Contains(known, strings.ToLower(f.Key())) && len(m.Headers) < mostParts {
			m.Headers = append(m.Headers, Header{f.Key(), words(f.Value())})
		}
	}
}

// words decodes the encoded words of a field, and unfolds it.
func words(s string) string {
	s = strings.Join(strings.FieldsFunc(s, func(r rune) bool { return r == '\r' || r == '\n' }), "")
	if out, err := decoder.DecodeHeader(s); err == nil {
		s = out
	}
	return strings.ToValidUTF8(s, "\uFFFD")
}

func addresses(h *mailentity.Header, name string) (out []Address) {
	text := h.Get(name)
	if text == "" {
		return nil
	}
	list, err := Parse(text)
	if err != nil {
		list, err = Parse(withoutComments(text))
	}
	if err != nil { // so that people see what stands there
		return []Address{{Name: words(text)}}
	}
	for _, a := range list {
		out = append(out, Address{strings.ToValidUTF8(a.Name, "\uFFFD"), strings.ToValidUTF8(a.Address, "\uFFFD")})
	}
	return out
}

// withoutComments takes comments out of a field, which may stand anywhere between words
// and hold others (RFC 5322, 3.2.2).
func withoutComments(s string) string {
	var out strings.Builder
	deep, quoted := 0, false
	for i := 0; i < len(s); i++ {
		c := s[i]
		switch {
		case c == '\\' && i+1 < len(s):
			if i++; deep == 0 {
				out.WriteString(s[i-1 : i+1])
			}
			continue
		case c == '"' && deep == 0:
			quoted = !quoted
		case c == '(' && !quoted:
			deep++
			continue
		case c == ')' && deep > 0:
			deep--
			continue
		}
		if deep == 0 {
			out.WriteByte(c)
		}
	}
	return out.String()
}

// reading collects the parts of a mail.
type reading struct {
	mail  *Mail
	parts int
	held  int
}

// part takes a part in, with the parts within it. bad is what reading its head came to: a
// charset or encoding that nobody knows leaves it as it came.
func (r *reading) part(e *entity.Entity, bad error, deep int) error {
	if r.parts++; r.parts > mostParts {
		return fmt.Errorf("it has more than %d parts", mostParts)
	}
	if deep > mostDeep {
		return fmt.Errorf("it has parts within parts more than %d deep", mostDeep)
	}
	if bad != nil && !entity.IsUnknownCharset(bad) && !entity.IsUnknownEncoding(bad) {
		return fmt.Errorf("a part of it cannot be read: %w", bad)
	}
	_, params, _ := e.Header.ContentType()
	if parts := e.MultipartReader(); parts != nil && params["boundary"] != "" {
		for {
			next, err := parts.NextPart()
			if errors.Is(err, io.EOF) {
				return nil
			}
			if next == nil {
				return fmt.Errorf("a part of it cannot be read: %w", err)
			}
			if err := r.part(next, err, deep+1); err != nil {
				return err
			}
		}
	}
	body, err := io.ReadAll(io.LimitReader(e.Body, int64(mostHeld-r.held+1)))
	if err != nil {
		return fmt.Errorf("a part of it cannot be read: %w", err)
	}
	if r.held += len(body); r.held > mostHeld {
		return fmt.Errorf("its parts hold more than %d bytes", mostHeld)
	}
	r.leaf(e, body)
	return nil
}

// leaf sorts a part that has none within it: the first text and the first HTML that are
// no files are what the mail says, all others are attached.
func (r *reading) leaf(e *entity.Entity, body []byte) {
	kind, params, err := e.Header.ContentType()
	if err != nil || kind == "" {
		kind = "text/plain"
		if e.Header.Get("Content-Type") != "" {
			kind = "application/octet-stream"
		}
	}
	disposition, more, _ := e.Header.ContentDisposition()
	name := more["filename"]
	if name == "" {
		name = params["name"]
	}
	file := disposition == "attachment" || name != ""
	text := func() string { return strings.ToValidUTF8(strings.ReplaceAll(string(body), "\r\n", "\n"), "\uFFFD") }
	switch {
	case !file && (kind == "text/plain" || strings.HasPrefix(kind, "multipart/")) && r.mail.Text == "":
		r.mail.Text = text()
	case !file && kind == "text/html" && r.mail.HTML == "":
		r.mail.HTML = text()
	case len(body) == 0 && !file:
	default:
		if strings.HasPrefix(kind, "text/") {
			delete(params, "charset") // it is decoded
		}
		delete(params, "name")
		full := mime.FormatMediaType(kind, params)
		if full == "" {
			full = kind
		}
		r.mail.Attachments = append(r.mail.Attachments, Attachment{Name: plainName(words(name)), Type: full, Body: body})
	}
}

// plainName takes folders out of the name of a file.
func plainName(name string) string {
	name = path.Base(strings.ReplaceAll(name, `\`, "/"))
	if name == "." || name == "/" || name == ".." {
		return ""
	}
	return name
}

// Parse reads addresses as people write them, with commas between.
func Parse(text string) ([]Address, error) {
	if strings.TrimSpace(text) == "" {
		return nil, nil
	}
	list, err := (&mail.AddressParser{WordDecoder: decoder}).ParseList(text)
	if err != nil {
		return nil, fmt.Errorf("%.200q is no list of addresses: %w", text, err)
	}
	var out []Address
	for _, a := range list {
		out = append(out, Address{a.Name, a.Address})
	}
	return out, nil
}

package mail

import (
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"mime"
	"net/url"
	"path"
	"slices"
	"strings"
	"time"

	"readyferry/connect"
	coremail "readyferry/core/mail"
)

// The headers that a mail has here, and the one of its Message-ID in an answer.
const (
	HeaderFrom    = "mail-from"
	HeaderTo      = "mail-to"
	HeaderSubject = "mail-subject"
	HeaderDate    = "mail-date"
	HeaderID      = "mail-id"
	HeaderReplyTo = "mail-in-reply-to"
	HeaderFolder  = "mail-folder"
	HeaderFile    = "file-name"
)

// says is what a delivery says.
type says struct {
	Recipients, Cc, Bcc, From, Subject, Body, Text, HTML, Refused string

	ReplyTo     string            `json:"reply-to"`
	AttachedAs  string            `json:"attached-as"`
	Attachments map[string]string `json:"attachments"`
}

// compose makes the mail of a request.
func (l *link) compose(r connect.Request) (*outgoing, error) {
	s := says{}
	if err := json.Unmarshal(r.Settings, &s); err != nil {
		return nil, errors.New("the settings of the delivery cannot be read")
	}
	if s.From == "" {
		s.From = l.c.Text("/from")
	}
	m := coremail.Mail{Subject: s.Subject, Date: time.Now().UTC(), Text: s.Text, HTML: s.HTML}
	var bcc []coremail.Address
	for _, one := range []struct {
		name, text string
		into       *[]coremail.Address
	}{{"from", s.From, &m.From}, {"recipients", s.Recipients, &m.To}, {"cc", s.Cc, &m.Cc}, {"bcc", s.Bcc, &bcc},
		{"reply-to", s.ReplyTo, &m.ReplyTo}} {
		list, err := coremail.Parse(one.text)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", one.name, err)
		}
		*one.into = list
	}
	if len(m.From) != 1 {
		return nil, errors.New("from: a mail is from one address; say it in the step or in the connection")
	}
	out := &outgoing{from: m.From[0].Address, id: messageID(r.ID, m.From[0].Address), nobody: s.Refused == "nobody"}
	out.to, out.utf8 = addressesOf(m.To, m.Cc, bcc)
	if len(out.to) == 0 {
		return nil, errors.New("recipients: there are none")
	}
	_, from := addressesOf(m.From)
	out.utf8 = out.utf8 || from
	m.ID = out.id
	if err := attach(&m, &s, r); err != nil {
		return nil, err
	}
	for _, h := range r.Headers {
		if !own(h.Name) {
			m.Headers = append(m.Headers, coremail.Header{Name: h.Name, Value: h.Value})
		}
	}
	var err error
	out.raw, err = m.Write()
	return out, err
}

// own tells whether a header says what the mail itself does, or nothing to who reads it.
func own(name string) bool {
	name = strings.ToLower(name)
	switch name {
	case "from", "to", "cc", "bcc", "reply-to", "subject", "date", "message-id", "mime-version", "sender", "received",
		"return-path",
		"accept", "host", "idempotency-key", HeaderFile:
		return true
	}
	return strings.HasPrefix(name, "mail-") || strings.HasPrefix(name, "content-")
}

// messageID makes the Message-ID of a delivery, the same on every try.
func messageID(id, from string) string {
	sum := sha256.Sum256([]byte(id))
	_, host, _ := strings.Cut(from, "@")
	if host == "" || strings.ContainsFunc(host, func(r rune) bool {
		return r <= ' ' || r > 126 ||
			strings.ContainsRune("<>@", r)
	}) {
		host = "localhost"
	}
	return hex.EncodeToString(sum[:16]) + "@" + host
}

// attach puts the message where the step wants it, and the files beside it.
func attach(m *coremail.Mail, s *says, r connect.Request) error {
	kind := ""
	for _, h := range r.Headers {
		if strings.EqualFold(h.Name, "Content-Type") {
			kind = h.Value
		}
	}
	switch s.Body {
	case "", "text":
		m.Text = string(r.Body)
	case "html":
		m.HTML = string(r.Body)
	case "attachment":
		m.Attachments = append(m.Attachments, coremail.Attachment{Name: s.AttachedAs, Type: kind, Body: r.Body})
	}
	for _, name := range slices.Sorted(maps.Keys(s.Attachments)) {
		file, err := fileOf(name, s.Attachments[name])
		if err != nil {
			return err
		}
		m.Attachments = append(m.Attachments, file)
	}
	return nil
}

// fileOf makes an attachment of a text, or of what a data: URL holds (RFC 2397).
func fileOf(name, text string) (coremail.Attachment, error) {
	out := coremail.Attachment{Name: name, Type: mime.TypeByExtension(path.Ext(name)), Body: []byte(text)}
	if out.Type == "" {
		out.Type = "text/plain; charset=utf-8"
	}
	rest, is := strings.CutPrefix(text, "data:")
	if !is {
		return out, nil
	}
	kind, data, found := strings.Cut(rest, ",")
	if !found {
		return out, fmt.Errorf("the attachment %s begins as a data: URL, and has no comma", name)
	}
	kind, encoded := strings.CutSuffix(kind, ";base64")
	if out.Type = kind; kind == "" {
		out.Type = "text/plain;charset=US-ASCII"
	}
	var err error
	if encoded {
		out.Body, err = base64.StdEncoding.DecodeString(strings.Join(strings.Fields(data), ""))
	} else {
		data, err = url.PathUnescape(data)
		out.Body = []byte(data)
	}
	if err != nil {
		return out, fmt.Errorf("the attachment %s: what its data: URL holds cannot be read (%w)", name, err)
	}
	return out, nil
}

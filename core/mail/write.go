package mail

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"mime"
	"strings"
	"unicode"

	mailentity "github.com/emersion/go-message/mail"
)

// Write writes a mail: text and HTML as alternatives, attachments behind them. The lines
// end in CRLF, and all of it is ASCII but for addresses that are not. An error says which
// value no mail can hold.
func (m *Mail) Write() ([]byte, error) {
	var h mailentity.Header
	for _, list := range []struct {
		name string
		all  []Address
	}{{"From", m.From}, {"To", m.To}, {"Cc", m.Cc}, {"Reply-To", m.ReplyTo}} {
		if len(list.all) == 0 {
			continue
		}
		var all []*mailentity.Address
		for _, a := range list.all {
			if err := oneLine(list.name, a.Name+a.Address); err != nil {
				return nil, err
			}
			all = append(all, &mailentity.Address{Name: a.Name, Address: a.Address})
		}
		h.SetAddressList(list.name, all)
	}
	if err := oneLine("Subject", m.Subject); err != nil {
		return nil, err
	}
	h.SetSubject(m.Subject)
	if !m.Date.IsZero() {
		h.SetDate(m.Date)
	}
	if m.ID != "" {
		h.SetMessageID(m.ID)
	}
	if len(m.InReplyTo) > 0 {
		h.SetMsgIDList("In-Reply-To", m.InReplyTo)
	}
	if len(m.References) > 0 {
		h.SetMsgIDList("References", m.References)
	}
	for _, one := range m.Headers {
		if !isFieldName(one.Name) {
			return nil, fmt.Errorf("%.80q is no name of a header", one.Name)
		}
		if err := oneLine(one.Name, one.Value); err != nil {
			return nil, err
		}
		h.SetText(one.Name, one.Value)
	}
	h.Set("MIME-Version", "1.0")
	var out bytes.Buffer
	if err := m.write(&out, h); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}

// write writes what is behind the head, in as few parts as it needs.
func (m *Mail) write(out io.Writer, h mailentity.Header) error {
	if len(m.Attachments) == 0 && (m.Text == "" || m.HTML == "") {
		kind, body := "text/plain", m.Text
		if m.HTML != "" {
			kind, body = "text/html", m.HTML
		}
		h.SetContentType(kind, map[string]string{"charset": "utf-8"})
		h.Set("Content-Transfer-Encoding", "quoted-printable")
		w, err := mailentity.CreateSingleInlineWriter(out, h)
		return written(w, err, []byte(lines(body)))
	}
	if len(m.Attachments) == 0 {
		texts, err := mailentity.CreateInlineWriter(out, h)
		if err != nil {
			return err
		}
		return m.texts(texts)
	}
	w, err := mailentity.CreateWriter(out, h)
	if err != nil {
		return err
	}
	if m.Text != "" || m.HTML != "" {
		texts, err := w.CreateInline()
		if err != nil {
			return err
		}
		if err := m.texts(texts); err != nil {
			return err
		}
	}
	for i := range m.Attachments {
		if err := m.Attachments[i].write(w); err != nil {
			return err
		}
	}
	return w.Close()
}

func (m *Mail) texts(w *mailentity.InlineWriter) error {
	for _, one := range []struct{ kind, body string }{{"text/plain", m.Text}, {"text/html", m.HTML}} {
		if one.body == "" {
			continue
		}
		var h mailentity.InlineHeader
		h.SetContentType(one.kind, map[string]string{"charset": "utf-8"})
		h.Set("Content-Transfer-Encoding", "quoted-printable")
		part, err := w.CreatePart(h)
		if err := written(part, err, []byte(lines(one.body))); err != nil {
			return err
		}
	}
	return w.Close()
}

func (a *Attachment) write(w *mailentity.Writer) error {
	kind, params, err := mime.ParseMediaType(a.Type)
	if err != nil || a.Type == "" {
		kind, params = "application/octet-stream", nil
	}
	if strings.HasPrefix(kind, "multipart/") || kind == "message/rfc822" {
		kind, params = "application/octet-stream", nil // a file all the same, and no parts of this mail
	}
	var h mailentity.AttachmentHeader
	h.SetContentType(kind, params)
	h.Set("Content-Transfer-Encoding", "base64")
	if a.Name != "" {
		if err := oneLine("the name of an attachment", a.Name); err != nil {
			return err
		}
		h.Set("Content-Disposition", mime.FormatMediaType("attachment", map[string]string{"filename": a.Name}))
	}
	part, err := w.CreateAttachment(h)
	return written(part, err, a.Body)
}

func written(w io.WriteCloser, err error, body []byte) error {
	if err != nil {
		return err
	}
	_, err = w.Write(body)
	return errors.Join(err, w.Close())
}

// lines gives a text the line ends of a mail.
func lines(s string) string {
	return strings.ReplaceAll(strings.ReplaceAll(s, "\r\n", "\n"), "\n", "\r\n")
}

// oneLine tells whether a value can stand in the head of a mail.
func oneLine(name, s string) error {
	if strings.ContainsFunc(s, unicode.IsControl) {
		return fmt.Errorf("%s: %.80q has a line end or another control character", name, s)
	}
	return nil
}

// isFieldName tells whether a field may be called so (RFC 5322, 2.2).
func isFieldName(s string) bool {
	return s != "" && len(s) <= 76 && !strings.ContainsFunc(s, func(r rune) bool {
		return r <= ' ' || r >= 0x7F ||
			r == ':'
	})
}

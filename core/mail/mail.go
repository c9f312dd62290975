// Package mail reads and writes mails (RFC 5322 with MIME, RFC 2045 to 2049): who it is
// from and to, what it says as text and as HTML, and what is attached. Words that are
// encoded in headers are decoded, and so are texts, whatever charset they are in.
//
// A mail comes from anywhere, so what is read is bounded: parts in parts, the number of
// them, and all that they hold.
package mail

import (
	"encoding/base64"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"readyferry/core/message"
)

// Address is somebody with a mailbox.
type Address struct {
	Name    string // as people read it; may be empty
	Address string // without < and >
}

// String writes an address for people.
func (a Address) String() string {
	if a.Name == "" {
		return a.Address
	}
	return a.Name + " <" + a.Address + ">"
}

// Mail is a mail taken apart.
type Mail struct {
	From, To, Cc, ReplyTo []Address
	Subject               string
	Date                  time.Time // zero: it does not say
	ID                    string    // Message-ID, without < and >
	InReplyTo             []string  // ids
	References            []string  // ids, the oldest first
	Text, HTML            string    // "" where it has none
	Attachments           []Attachment
	Headers               []Header // all others, in order
}

// Header is a field of a mail's head, decoded.
type Header struct{ Name, Value string }

// Attachment is a file in a mail.
type Attachment struct {
	Name string // "" where it has none
	Type string // media type with its parameters
	Body []byte
}

// Tree gives a mail as a document:
//
//	{"from": {"name", "address"}, "to": […], "cc": […], "replyTo": […], "subject", "date", "id",
//	 "inReplyTo": […], "references": […], "text", "html",
//	 "attachments": [{"name", "type", "size", "text" or "base64"}]}
//
// What a mail does not have is left out, but for to, subject, text and attachments. An
// attachment that is text in UTF-8 is "text", any other "base64".
func (m *Mail) Tree() *message.Node {
	out := message.NewMap()
	text := func(name, value string) {
		if value != "" {
			out = out.With(name, message.NewString(value))
		}
	}
	if len(m.From) > 0 {
		out = out.With("from", m.From[0].tree())
	}
	out = out.With("to", trees(m.To))
	for _, more := range []struct {
		name string
		list []Address
	}{{"cc", m.Cc}, {"replyTo", m.ReplyTo}} {
		if len(more.list) > 0 {
			out = out.With(more.name, trees(more.list))
		}
	}
	out = out.With("subject", message.NewString(m.Subject))
	if !m.Date.IsZero() {
		text("date", m.Date.Format(time.RFC3339))
	}
	text("id", m.ID)
	for _, more := range []struct {
		name string
		list []string
	}{{"inReplyTo", m.InReplyTo}, {"references", m.References}} {
		if len(more.list) > 0 {
			ids := message.NewList()
			for _, id := range more.list {
				ids.Items = append(ids.Items, message.NewString(id))
			}
			out = out.With(more.name, ids)
		}
	}
	out = out.With("text", message.NewString(m.Text))
	text("html", m.HTML)
	files := message.NewList()
	for i := range m.Attachments {
		files.Items = append(files.Items, m.Attachments[i].tree())
	}
	return out.With("attachments", files)
}

func (a Address) tree() *message.Node {
	return message.NewMap(message.Member{Name: "name", Value: message.NewString(a.Name)},
		message.Member{Name: "address", Value: message.NewString(a.Address)})
}

func trees(list []Address) *message.Node {
	out := message.NewList()
	for _, a := range list {
		out.Items = append(out.Items, a.tree())
	}
	return out
}

func (a *Attachment) tree() *message.Node {
	out := message.NewMap(message.Member{Name: "name", Value: message.NewString(a.Name)},
		message.Member{Name: "type", Value: message.NewString(a.Type)},
		message.Member{Name: "size", Value: message.NewNumber(strconv.Itoa(len(a.Body)))})
	if a.IsText() {
		return out.With("text", message.NewString(string(a.Body)))
	}
	return out.With("base64", message.NewString(base64.StdEncoding.EncodeToString(a.Body)))
}

// IsText tells whether an attachment is text that can be read as it is.
func (a *Attachment) IsText() bool {
	kind, _, _ := strings.Cut(strings.ToLower(a.Type), ";")
	kind = strings.TrimSpace(kind)
	texts := strings.HasPrefix(kind, "text/") || kind == "application/json" || kind == "application/xml" ||
		strings.HasSuffix(kind, "+json") || strings.HasSuffix(kind, "+xml")
	return texts && utf8.Valid(a.Body)
}

// FromTree makes a mail of a document as Tree gives it. What is not there is left out; an
// error says what cannot be read.
func FromTree(n *message.Node) (*Mail, error) {
	if n == nil || n.Kind != message.Map {
		return nil, errors.New("a mail is a map with from, to, subject, text and attachments")
	}
	text := func(n *message.Node, name string) string {
		if v := n.Get(name); v != nil && v.Kind == message.String {
			return v.Text
		}
		return ""
	}
	m := &Mail{Subject: text(n, "subject"), ID: text(n, "id"), Text: text(n, "text"), HTML: text(n, "html")}
	m.Date, _ = time.Parse(time.RFC3339, text(n, "date"))
	if from := n.Get("from"); from != nil {
		m.From = []Address{{text(from, "name"), text(from, "address")}}
	}
	for name, into := range map[string]*[]Address{"to": &m.To, "cc": &m.Cc, "replyTo": &m.ReplyTo} {
		if list := n.Get(name); list != nil {
			for _, a := range list.Items {
				*into = append(*into, Address{text(a, "name"), text(a, "address")})
			}
		}
	}
	for name, into := range map[string]*[]string{"inReplyTo": &m.InReplyTo, "references": &m.References} {
		if list := n.Get(name); list != nil {
			for _, id := range list.Items {
				*into = append(*into, id.Text)
			}
		}
	}
	if list := n.Get("attachments"); list != nil {
		for _, a := range list.Items {
			file := Attachment{Name: text(a, "name"), Type: text(a, "type"), Body: []byte(text(a, "text"))}
			if coded := text(a, "base64"); coded != "" {
				var err error
				if file.Body, err = base64.StdEncoding.DecodeString(coded); err != nil {
					return nil, fmt.Errorf("the attachment %.80q: %w", file.Name, err)
				}
			}
			m.Attachments = append(m.Attachments, file)
		}
	}
	return m, nil
}

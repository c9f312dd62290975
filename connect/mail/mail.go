// Package mail is the system of mailboxes: mails go out over SMTP (RFC 5321) and come in
// from folders over IMAP (RFC 9051).
//
// A mail that goes out is delivered when the server has taken it for everybody it is to;
// whom it refuses is said one by one. It has the same Message-ID on every try, by which
// receivers tell a repeat. A mail that comes in is a message, or each of its attachments
// is; it is marked as read, moved or removed behind the commit that stores it, and told by
// its Message-ID and time when it comes again.
package mail

import (
	"bytes"
	"context"
	"fmt"
	"net"
	"net/url"
	"strings"

	"readyferry/connect"
	"readyferry/connect/reach"
	coremail "readyferry/core/mail"
	"readyferry/core/retry"
	"readyferry/core/system"
)

// Kind is the name of the system in documents.
const Kind = "mail"

// inward, behind the name of a simulated mailbox, reaches its IMAP server; without it, its
// SMTP server.
const inward = "+in"

var connectionSchema = `{"required": ["address"], "properties": {
	"address": {"type": "string", "title": "Address", "default": "smtp://", "description":
		"smtp://host:587 or smtps://host:465 to send, imap://host:143 or imaps://host:993 to read a mailbox; stand-in://name for both",
		"examples": ["smtp://mail.example.org:587"]},
	"starttls": {"enum": ["required", "never"], "title": "STARTTLS", "default": "required", "titles": {
		"required": "switched to TLS before anything is said", "never": "never: all can be read on the way"}, "description":
		"with smtp:// and imap://"},
	"from": {"type": "string", "title": "From", "maxLength": 1000, "description": "of mails that do not say",
		"examples": ["Larkfield Libraries <desk@larkfield.example>"]},
	` + reach.SignInProperty(connect.SignInNone, connect.SignInBasic) + `,
	` + reach.WayProperties + `}}`

const (
	deliverSchema = `{"required": ["recipients", "subject"], "properties": {
		"recipients": {"type": "string", "title": "Recipients", "format": "template", "description": "with commas between",
			"examples": ["${body.patron.mail}"]},
		"cc": {"type": "string", "title": "Cc", "format": "template"},
		"bcc": {"type": "string", "title": "Bcc", "format": "template"},
		"from": {"type": "string", "title": "From", "format": "template", "description": "as the connection says when empty"},
		"reply-to": {"type": "string", "title": "Replies to", "format": "template"},
		"subject": {"type": "string", "title": "Subject", "format": "template", "examples": ["Overdue: ${body.title}"]},
		"body": {"enum": ["text", "html", "attachment", "nothing"], "title": "The message is", "default": "text", "titles": {
			"text": "the text", "html": "the HTML", "attachment": "attached", "nothing": "not in it"}},
		"text": {"type": "string", "title": "Text", "format": "template", "lines": true, "when": {"body": ["html", "attachment", "nothing"]}},
		"html": {"type": "string", "title": "HTML", "format": "html", "lines": true, "when": {"body": ["text", "attachment", "nothing"]},
			"description": "what comes from the message is escaped"},
		"attached-as": {"type": "string", "title": "Attached as", "format": "template", "default": "message", "when": {"body": ["attachment"]},
			"examples": ["letter-${body.letter}.html"]},
		"attachments": {"type": "object", "title": "More attachments", "format": "template", "description":
			"name: text, or a data: URL (RFC 2397) for what is no text", "additionalProperties": {"type": "string"}},
		"refused": {"enum": ["others", "nobody"], "title": "When one is refused", "default": "others", "titles": {
			"others": "it goes to the others", "nobody": "it goes to nobody"}},
		"headers": {"type": "object", "title": "Headers", "format": "template", "description": "name: template",
			"additionalProperties": {"type": ["string", "number", "null"]}}}}`
	intakeSchema = `{"properties": {
		"folder": {"type": "string", "title": "Folder", "default": "INBOX", "offers": true, "maxLength": 1000},
		"take": {"enum": ["mail", "text", "attachments"], "title": "A message is", "default": "mail", "titles": {
			"mail": "each mail, as JSON with its parts", "text": "what each mail says", "attachments": "each attachment"}},
		"then": {"enum": ["seen", "move", "remove"], "title": "Then", "default": "seen", "titles": {
			"seen": "marked as read", "move": "moved into a folder", "remove": "removed"}},
		"to": {"type": "string", "title": "To", "default": "Done", "maxLength": 1000, "when": {"then": ["move"]}, "description":
			"a folder; made when it is not there"},
		"begin": {"enum": ["all", "new"], "title": "Begin", "default": "all", "when": {"then": ["seen"]}, "titles": {
			"all": "with all that are there", "new": "with those that come"}},
		"every": {"type": "string", "title": "Looked for every", "format": "duration", "default": "1m", "description":
			"and at once where the server tells (IDLE)"}}}`
)

// New makes the system. standIn reaches a simulated mailbox by its name; nil where there
// are none.
func New(standIn func(name string) (net.Conn, error)) connect.System {
	door := &reach.Door{Schemes: map[string]string{"smtp": "587", "smtps": "465", "imap": "143", "imaps": "993"},
		StandIn: standIn}
	return connect.System{
		Kind: system.Kind{
			Name: Kind, Title: "Mail", Summary: "Mails that are sent over SMTP, and read from a mailbox over IMAP.",
			Sentence: "mail {recipients}: {subject}",
			Intake:   system.Schema(intakeSchema), Deliver: system.Schema(deliverSchema),
		},
		Notes: []string{
			"A mail is delivered when the server has taken it for everybody. Where it refuses somebody for good, it goes to the others, " +
				"and a dead letter says who has it and who does not and why; with refused: nobody it goes to nobody then. Where it " +
				"refuses somebody for a while, it goes to nobody yet, and all is tried again.",
			"The Message-ID is the same on every try. What breaks off behind the last line may have been taken: it is sent again under " +
				"the same Message-ID. mail-id of the answer says it, so that replies can be matched.",
			"A mail that comes in is JSON with from, to, cc, subject, date, id, inReplyTo, references, text, html and attachments; an " +
				"attachment has name, type, size and its text or base64. Headers: mail-from, mail-to, mail-subject, mail-date, mail-id, " +
				"mail-in-reply-to and mail-folder; other fields keep their names. An attachment that is a message has file-name.",
			"It is marked, moved or removed behind the commit that stores it. What comes again after a crash is told by Message-ID and " +
				"the time at which the server got it. With then: seen the place in the folder is kept, whoever else reads there; with move " +
				"and remove everything that is in the folder is taken.",
			"A mail that cannot be read is kept as a dead letter; one that is larger than a message may be is left where it is.",
		},
		Outcomes: outcomes(), Connection: system.Schema(connectionSchema),
		Check: func(c *connect.Connection, found connect.Found) { check(door, c, found) },
		Says: func(_ connect.Settings, headers map[string]string, body []byte) (connect.Said, error) {
			out := connect.SaidWith("mail-", headers, body)
			if !bytes.HasPrefix(bytes.TrimSpace(body), []byte("{")) { // else it is the whole mail as a document
				out.Topic, out.Key = headers[HeaderSubject], headers[HeaderFrom]
			}
			return out, nil
		},
		Open: func(_ context.Context, c *connect.Connection) (connect.Link, error) {
			return &link{c: c, door: door}, nil
		},
	}
}

func check(door *reach.Door, c *connect.Connection, found connect.Found) {
	door.Check(c, found)
	if from := c.Text("/from"); from != "" {
		if list, err := coremail.Parse(from); err != nil || len(list) != 1 {
			found("/from", "wrong-value", fmt.Sprintf("%q is not one address", from), "write it as Name <name@host>")
		}
	}
}

// outcomes are what the help shows.
func outcomes() []connect.Meaning {
	return []connect.Meaning{
		{Code: "250", Words: "the server has taken it for everybody", Comes: string(retry.Delivered)},
		{Code: "550, 551, 553 to a recipient", Words: "there is no such mailbox, or nothing is taken for it; the others have the mail " +
			"unless refused says nobody", Comes: string(retry.Never)},
		{Code: "450, 451, 452 to a recipient", Words: "not now (RFC 5321, 4.2.1); nobody has the mail yet",
			Comes: string(retry.Again)},
		{Code: "other 4xx", Words: "the server cannot do it at present; 452 says that it is full",
			Comes: string(retry.Again)},
		{Code: "other 5xx", Words: "the server does not take it: 552 and 554 say that it is too large or unwanted",
			Comes: string(retry.Never)},
		{Code: "", Words: "an address, a header or a file is none", Comes: connect.Comes(retry.Never, true)},
		connect.InDoubt("the connection breaks off, nothing comes within the time limit"),
	}
}

// speaks tells which protocol the address of a connection is of; "" for both.
func speaks(c *connect.Connection) string {
	u, err := url.Parse(c.Address)
	if err != nil {
		return ""
	}
	switch strings.TrimSuffix(u.Scheme, "s") {
	case "smtp":
		return "smtp"
	case "imap":
		return "imap"
	}
	return ""
}

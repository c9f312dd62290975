package standin

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"log"
	"maps"
	"net"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/emersion/go-imap/v2"
	"github.com/emersion/go-imap/v2/imapserver"
	"github.com/emersion/go-imap/v2/imapserver/imapmemserver"
	"github.com/emersion/go-smtp"

	jsonfmt "readyferry/core/format/json"
	"readyferry/core/mail"
)

// inbox is the folder that everybody's mailbox has.
const inbox = "INBOX"

// mailbox is two real servers within the process: one takes mails (SMTP), the other shows
// the folders of a mailbox (IMAP). They let everybody in, and keep what they have in memory.
type mailbox struct {
	sys     *System
	now     func() time.Time
	changed func()
	user    *imapmemserver.User
	since   uint32 // what the numbers of mails are counted from: they begin anew with the process

	out, in   *handed // connections to the two
	takesMail *smtp.Server
	shows     *imapserver.Server

	mu      sync.Mutex
	folders map[string]bool
	known   map[string]bool // addresses that mails are taken for; none: for all
}

func newMail(sys *System, now func() time.Time, changed func()) (speaker, error) {
	b := &mailbox{sys: sys, now: now, changed: changed, user: imapmemserver.NewUser("", ""), since: uint32(now().Unix()),
		folders: map[string]bool{}, known: map[string]bool{},
		out: &handed{next: make(chan *ended), closed: make(chan struct{})},
		in:  &handed{next: make(chan *ended), closed: make(chan struct{})}}
	if err := b.make(inbox); err != nil {
		return nil, err
	}
	b.takesMail = smtp.NewServer(smtp.BackendFunc(func(c *smtp.Conn) (smtp.Session, error) {
		return &smtpSession{of: b,
			conn: c}, nil
	}))
	b.takesMail.Domain, b.takesMail.AllowInsecureAuth, b.takesMail.EnableSMTPUTF8 = "stand-in", true, true
	b.takesMail.MaxMessageBytes, b.takesMail.ErrorLog = 32<<20, log.New(io.Discard, "", 0)
	b.shows = imapserver.New(&imapserver.Options{InsecureAuth: true, Logger: log.New(io.Discard, "", 0),
		Caps: imap.CapSet{imap.CapIMAP4rev1: {}, imap.CapIMAP4rev2: {}},
		NewSession: func(*imapserver.Conn) (imapserver.Session, *imapserver.GreetingData, error) {
			return &imapSession{of: b}, nil, nil
		}})
	go func() { _ = b.takesMail.Serve(b.out) }()
	go func() { _ = b.shows.Serve(b.in) }()
	return b, nil
}

// make makes a folder.
func (b *mailbox) make(name string) error {
	if err := b.user.Create(name, nil); err != nil {
		return err
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	b.folders[name] = true
	return nil
}

// shape implements shaped: a line with an @ is somebody whom mails are taken for, and then
// for nobody else; any other line is a folder.
func (b *mailbox) shape(d Definition) error {
	known := map[string]bool{}
	for _, line := range d.Has {
		if strings.Contains(line, "@") {
			known[strings.ToLower(line)] = true
			continue
		}
		b.mu.Lock()
		there := b.folders[line]
		b.mu.Unlock()
		if there {
			continue
		}
		if err := b.make(line); err != nil {
			return fmt.Errorf("has: %s: %w", line, err)
		}
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	b.known = known
	return nil
}

// inside implements looked: the folders, with how many mails are in them.
func (b *mailbox) inside() []Inside {
	b.mu.Lock()
	names := slices.Sorted(maps.Keys(b.folders))
	b.mu.Unlock()
	out := []Inside{}
	for _, name := range names {
		if is, err := b.user.Status(name, &imap.StatusOptions{NumMessages: true}); err == nil {
			out = append(out, Inside{Name: name, Messages: int64(*is.NumMessages)})
		}
	}
	return out
}

// hand gives a connection to one of the servers, and comes back when it has ended.
func (h *handed) hand(conn net.Conn) {
	c := &ended{Conn: conn, end: make(chan struct{})}
	select {
	case h.next <- c:
		<-c.end
	case <-h.closed:
		_ = conn.Close()
	}
}

// serve implements speaker: mails are sent.
func (b *mailbox) serve(conn net.Conn) { b.out.hand(conn) }

// serveInward implements inward: the mailbox is read.
func (b *mailbox) serveInward(conn net.Conn) { go b.in.hand(conn) }

// close implements speaker.
func (b *mailbox) close() error {
	return errors.Join(b.takesMail.Close(), b.shows.Close(), b.out.Close(), b.in.Close())
}

// send implements speaker: a mail comes into the mailbox. It is a whole one as it is sent,
// one as a document, or a text that has a subject (Topic) and is from somebody (Key).
func (b *mailbox) send(m Message) error {
	raw := []byte(m.Body)
	if _, err := mail.Read(raw); err != nil || m.Topic != "" || m.Key != "" {
		one, err := b.composed(m)
		if err != nil {
			return err
		}
		if raw, err = one.Write(); err != nil {
			return err
		}
	}
	_, err := b.user.Append(inbox, &literal{bytes.NewReader(raw)}, &imap.AppendOptions{Time: b.now()})
	return err
}

func (b *mailbox) composed(m Message) (*mail.Mail, error) {
	if tree, err := jsonfmt.Decode([]byte(m.Body)); err == nil && m.Topic == "" && tree.Root.Get("from") != nil {
		return mail.FromTree(tree.Root)
	}
	from, err := mail.Parse(m.Key)
	if err != nil || len(from) != 1 {
		return nil, fmt.Errorf("%q is no address that a mail is from; write it as quill@mail.example", m.Key)
	}
	one := &mail.Mail{From: from, To: []mail.Address{{Address: b.sys.def.Name + "@stand-in.example"}},
		Subject: m.Topic, Text: m.Body,
		Date: b.now(), ID: fmt.Sprintf("%d@stand-in.example", b.now().UnixNano())}
	for name, value := range m.Headers {
		if !strings.EqualFold(name, "Content-Type") {
			one.Headers = append(one.Headers, mail.Header{Name: name, Value: value})
		}
	}
	return one, nil
}

// literal is a mail as the library wants to have it.
type literal struct{ *bytes.Reader }

// Size implements imap.LiteralReader.
func (l *literal) Size() int64 { return l.Reader.Size() }

// imapSession is somebody who reads the mailbox.
type imapSession struct {
	*imapmemserver.UserSession
	of *mailbox
}

// Login implements imapserver.Session.
func (s *imapSession) Login(string, string) error {
	s.UserSession = imapmemserver.NewUserSession(s.of.user)
	return nil
}

// Close implements imapserver.Session.
func (s *imapSession) Close() error {
	if s.UserSession == nil {
		return nil
	}
	return s.UserSession.Close()
}

// Select implements imapserver.Session.
func (s *imapSession) Select(name string, o *imap.SelectOptions) (*imap.SelectData, error) {
	is, err := s.UserSession.Select(name, o)
	if err == nil {
		is.UIDValidity += s.of.since
	}
	return is, err
}

// Create implements imapserver.Session.
func (s *imapSession) Create(name string, _ *imap.CreateOptions) error { return s.of.make(name) }

// smtpSession is somebody who sends.
type smtpSession struct {
	of   *mailbox
	conn *smtp.Conn
	from string
	to   []string
}

// Reset implements smtp.Session.
func (s *smtpSession) Reset() { s.from, s.to = "", nil }

// Logout implements smtp.Session.
func (s *smtpSession) Logout() error { return nil }

// Mail implements smtp.Session.
func (s *smtpSession) Mail(from string, _ *smtp.MailOptions) error {
	s.from = from
	return nil
}

// Rcpt implements smtp.Session.
func (s *smtpSession) Rcpt(to string, _ *smtp.RcptOptions) error {
	s.of.mu.Lock()
	unknown := len(s.of.known) > 0 && !s.of.known[strings.ToLower(to)]
	s.of.mu.Unlock()
	if unknown {
		return &smtp.SMTPError{Code: 550, EnhancedCode: smtp.EnhancedCode{5, 1, 1}, Message: "there is no such mailbox here"}
	}
	s.to = append(s.to, to)
	return nil
}

// refusals are what stands for a status (RFC 5321, 4.2, and RFC 3463).
var refusals = map[int]*smtp.SMTPError{
	403: {Code: 550, EnhancedCode: smtp.EnhancedCode{5, 7, 1}, Message: "not permitted"},
	413: {Code: 552, EnhancedCode: smtp.EnhancedCode{5, 3, 4}, Message: "the mail is too large"},
	429: {Code: 450, EnhancedCode: smtp.EnhancedCode{4, 7, 0}, Message: "too many mails; later"},
	503: {Code: 451, EnhancedCode: smtp.EnhancedCode{4, 3, 0}, Message: "not now"},
	507: {Code: 452, EnhancedCode: smtp.EnhancedCode{4, 3, 1}, Message: "the disk is full"},
}

// Data implements smtp.Session.
func (s *smtpSession) Data(r io.Reader) error {
	raw, err := io.ReadAll(r)
	if err != nil {
		return err
	}
	call := Call{At: s.of.now(), Method: "MAIL", Path: strings.Join(s.to, ", "),
		Headers: map[string]string{"From": s.from}}
	if m, err := mail.Read(raw); err == nil {
		call.Key, call.Body = m.ID, string(jsonfmt.Encode(m.Tree()))
		call.Headers["Subject"], call.Headers["Message-ID"] = m.Subject, m.ID
		for _, h := range m.Headers {
			call.Headers[h.Name] = h.Value
		}
	} else {
		call.Body = strings.ToValidUTF8(string(raw), "\uFFFD")
	}
	status, _, _, delay := s.of.sys.decide(s.of.now(), "MAIL", call.Path)
	call.Status = max(status, 0)
	s.of.sys.note(call)
	s.of.changed()
	time.Sleep(delay)
	switch {
	case status == never:
		_, _ = io.Copy(io.Discard, s.conn.Conn()) // until who sends gives up
		return io.EOF
	case status == 0:
		_ = s.conn.Conn().Close()
		return io.EOF
	case status < 300:
		return nil
	case refusals[status] != nil:
		return refusals[status]
	case status < 500:
		return &smtp.SMTPError{Code: 554, EnhancedCode: smtp.EnhancedCode{5, 0, 0}, Message: "refused by the stand-in"}
	}
	return &smtp.SMTPError{Code: 451, EnhancedCode: smtp.EnhancedCode{4, 0, 0}, Message: "refused by the stand-in"}
}

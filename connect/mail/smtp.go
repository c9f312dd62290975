package mail

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"

	"readyferry/connect"
	"readyferry/connect/reach"
	coremail "readyferry/core/mail"
	"readyferry/core/message"
	"readyferry/core/retry"
)

// link is a connection to a mailbox or to a server that sends.
type link struct {
	c    *connect.Connection
	door *reach.Door

	mu     sync.Mutex
	free   []*session
	closed bool
}

// session is a conversation with an SMTP server, for one mail at a time.
type session struct {
	*smtp.Client
	conn net.Conn
	used time.Time
}

// keptFree is how long a session is kept in which nothing is said; servers end them after
// five minutes at the earliest (RFC 5321, 4.5.3.2.7).
const keptFree = time.Minute

// Close implements connect.Link.
func (l *link) Close() error {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.closed = true
	for _, s := range l.free {
		_ = s.Close()
	}
	l.free = nil
	return nil
}

// dial reaches the server; speaking SMTP or IMAP is another matter.
func (l *link) dial(ctx context.Context, behind string, w *reach.Way) (*guarded, error) {
	c := *l.c
	if strings.HasPrefix(c.Address, reach.StandInScheme+"://") {
		c.Address += behind
	}
	conn, err := l.door.Dial(ctx, &c, w)
	if err != nil {
		return nil, err
	}
	return &guarded{Conn: conn, limit: l.c.TimeLimit, most: mostAnswer}, nil
}

// switches tells whether TLS is switched to after the greeting.
func (l *link) switches() bool {
	return (strings.HasPrefix(l.c.Address, "smtp://") || strings.HasPrefix(l.c.Address, "imap://")) &&
		l.c.Text("/starttls") != "never"
}

// host is the one of the address.
func (l *link) host() string {
	at, _, err := l.door.HostPort(l.c.Address)
	if err != nil {
		return ""
	}
	host, _, _ := net.SplitHostPort(at)
	return host
}

// join begins a conversation: greeting, TLS, signing in.
func (l *link) join(ctx context.Context, w *reach.Way) (*session, error) {
	if speaks(l.c) == "imap" {
		return nil, fmt.Errorf("%w: the connection %s is to a mailbox; mails are sent through one to smtp://",
			connect.ErrCannotSend,
			l.c.Name)
	}
	ctx, cancel := context.WithTimeout(ctx, l.c.TimeLimit)
	defer cancel()
	conn, err := l.dial(ctx, "", w)
	if err != nil {
		return nil, err
	}
	conn.most = 1 << 20
	stop := context.AfterFunc(ctx, func() { _ = conn.Close() })
	defer stop()
	s := &session{conn: conn}
	if err := l.greet(s, w); err != nil {
		_ = conn.Close()
		if ctx.Err() != nil {
			return nil, &reach.Error{Step: "greeting", Err: fmt.Errorf("nothing came within %s", l.c.TimeLimit),
				Repair: "look whether a mail server listens there"}
		}
		return nil, err
	}
	return s, nil
}

func (l *link) greet(s *session, w *reach.Way) error {
	const look = "look whether a mail server listens there, and whether it speaks TLS from the beginning (smtps://)"
	if l.switches() {
		config, err := reach.Config(l.c, l.host())
		if err != nil {
			return err
		}
		if s.Client, err = smtp.NewClientStartTLS(s.conn, config); err != nil {
			return &reach.Error{Step: "switching to TLS", Err: plainly(err),
				Repair: look + "; starttls: never says everything so that it can be read on the way"}
		}
		w.Did("switched to TLS")
	} else {
		s.Client = smtp.NewClient(s.conn)
		name, err := os.Hostname()
		if err != nil || strings.ContainsAny(name, " \r\n") {
			name = "localhost"
		}
		if err := s.Hello(name); err != nil {
			return &reach.Error{Step: "greeting", Err: plainly(err), Repair: look}
		}
		w.Did("greeted")
	}
	if l.c.SignIn.Kind == connect.SignInBasic && len(l.c.SignIn.Secrets) > 0 {
		return l.signIn(s, w)
	}
	return nil
}

func (l *link) signIn(s *session, w *reach.Way) error {
	user, secret := l.c.SignIn.User, l.c.SignIn.Secrets[0]
	way := sasl.NewPlainClient("", user, secret)
	if !s.SupportsAuth(sasl.Plain) && s.SupportsAuth(sasl.Login) {
		way = sasl.NewLoginClient(user, secret)
	}
	if err := s.Auth(way); err != nil {
		return &reach.Error{Step: "signing in", Err: plainly(err),
			Repair: "look at the user, the password, and what the server permits them"}
	}
	w.Did("signed in as %s", user)
	return nil
}

// plainly says what a server answered, or what happened to the connection.
func plainly(err error) error {
	var said *smtp.SMTPError
	if errors.As(err, &said) {
		return fmt.Errorf("the server answers %d: %s", said.Code, connect.ShortText(said.Message))
	}
	return errors.New(connect.ShortText(strings.TrimPrefix(err.Error(), "smtp: ")))
}

// take gives a free session, or a new one.
func (l *link) take(ctx context.Context) (*session, error) {
	for {
		l.mu.Lock()
		n := len(l.free)
		if n == 0 {
			l.mu.Unlock()
			return l.join(ctx, nil)
		}
		s := l.free[n-1]
		l.free = l.free[:n-1]
		l.mu.Unlock()
		if time.Since(s.used) < keptFree && s.Reset() == nil {
			return s, nil
		}
		_ = s.Close()
	}
}

func (l *link) give(s *session) {
	l.mu.Lock()
	defer l.mu.Unlock()
	s.used = time.Now()
	if l.closed {
		_ = s.Close()
		return
	}
	l.free = append(l.free, s)
}

// Send implements connect.Sender.
func (l *link) Send(ctx context.Context, r connect.Request) (connect.Receipt, error) {
	out, err := l.compose(r)
	if err != nil {
		return connect.Receipt{}, errors.Join(fmt.Errorf("%w: %w", connect.ErrCannotSend, err), connect.ErrBadData)
	}
	s, err := l.take(ctx)
	if err != nil {
		return connect.Receipt{}, err
	}
	stop := context.AfterFunc(ctx, func() { _ = s.Close() })
	defer stop()
	receipt, err := s.mail(out)
	var said *smtp.SMTPError
	if errors.As(err, &said) {
		receipt, err = refusal(said, ""), nil
	}
	if err != nil || receipt.Code == "421" { // it ends the conversation
		_ = s.Close()
	} else {
		l.give(s)
	}
	if err != nil {
		return connect.Receipt{}, fmt.Errorf("sending through %s: %w", l.c.Name, plainly(err))
	}
	return receipt, nil
}

// refusal is what a negative answer comes to.
func refusal(said *smtp.SMTPError, words string) connect.Receipt {
	out := connect.Receipt{Outcome: retry.Never, Code: strconv.Itoa(said.Code), Words: words}
	if said.Temporary() {
		out.Outcome = retry.Again
	}
	if words == "" {
		out.Words = connect.ShortText(said.Message)
	}
	return out
}

// mail hands a mail over. An *smtp.SMTPError is a negative answer of the server.
func (s *session) mail(m *outgoing) (connect.Receipt, error) {
	var opts smtp.MailOptions
	if is, _ := s.Extension("SIZE"); is {
		opts.Size = int64(len(m.raw))
	}
	if is, _ := s.Extension("SMTPUTF8"); is {
		opts.UTF8 = m.utf8
	} else if m.utf8 {
		return connect.Receipt{Outcome: retry.Never, Code: "SMTPUTF8",
			Words: "an address has letters that the server does not take"}, nil
	}
	if err := s.Mail(m.from, &opts); err != nil {
		return connect.Receipt{}, err
	}
	var taken []string
	var refused []refusedOne
	for _, to := range m.to {
		err := s.Rcpt(to, nil)
		var said *smtp.SMTPError
		switch {
		case err == nil:
			taken = append(taken, to)
		case errors.As(err, &said) && said.Code != 421:
			refused = append(refused, refusedOne{to, said})
		default:
			return connect.Receipt{}, err
		}
	}
	if out, ends := whoIsRefused(taken, refused, m.nobody); ends {
		return out, s.Reset()
	}
	w, err := s.Data()
	if err != nil {
		return connect.Receipt{}, err
	}
	if _, err := bytes.NewReader(m.raw).WriteTo(w); err != nil {
		return connect.Receipt{}, err
	}
	if err := w.Close(); err != nil {
		return connect.Receipt{}, err
	}
	out := connect.Receipt{Outcome: retry.Delivered, Code: "250", Headers: []message.Header{{Name: HeaderID, Value: m.id}}}
	if len(refused) > 0 {
		out.Outcome, out.Code = retry.Never, strconv.Itoa(refused[0].said.Code)
		out.Words = "sent to " + strings.Join(taken, ", ") + "; not to " + named(refused)
	}
	return out, nil
}

// refusedOne is somebody for whom the server does not take a mail.
type refusedOne struct {
	to   string
	said *smtp.SMTPError
}

func named(refused []refusedOne) string {
	var all []string
	for _, one := range refused {
		all = append(all, fmt.Sprintf("%s (%d %s)", one.to, one.said.Code, connect.ShortText(one.said.Message)))
	}
	return strings.Join(all, ", ")
}

// whoIsRefused says what it comes to before the mail is handed over, and whether it is
// then at all: who is refused for a while keeps all others waiting, so that nobody has a
// mail twice.
func whoIsRefused(taken []string, refused []refusedOne, nobody bool) (out connect.Receipt, ends bool) {
	for _, one := range refused {
		if one.said.Temporary() {
			return refusal(one.said, "sent to nobody yet: "+named(refused)), true
		}
	}
	if len(refused) > 0 && (nobody || len(taken) == 0) {
		return refusal(refused[0].said, "sent to nobody: "+named(refused)), true
	}
	return connect.Receipt{}, false
}

// outgoing is a mail that is ready to be handed over.
type outgoing struct {
	from   string
	to     []string // everybody whom it goes to
	id     string
	raw    []byte
	utf8   bool // an address is not ASCII
	nobody bool // it goes to nobody when one is refused
}

func addressesOf(lists ...[]coremail.Address) (out []string, utf8 bool) {
	seen := map[string]bool{}
	for _, list := range lists {
		for _, a := range list {
			if !seen[a.Address] {
				seen[a.Address] = true
				out = append(out, a.Address)
			}
			utf8 = utf8 || strings.ContainsFunc(a.Address, func(r rune) bool { return r > 126 })
		}
	}
	return out, utf8
}

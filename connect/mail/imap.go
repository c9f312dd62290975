package mail

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/emersion/go-imap/v2"
	"github.com/emersion/go-imap/v2/imapclient"

	"readyferry/connect"
	"readyferry/connect/reach"
)

// box is a conversation with an IMAP server.
type box struct {
	*imapclient.Client
	conn  *guarded
	limit time.Duration
	news  chan struct{} // something is new in the folder
}

// open reaches a mailbox and signs in.
func (l *link) open(ctx context.Context, w *reach.Way) (*box, error) {
	if speaks(l.c) == "smtp" {
		return nil, fmt.Errorf("the connection %s sends mails; a mailbox is read through one to imap://", l.c.Name)
	}
	ctx, cancel := context.WithTimeout(ctx, l.c.TimeLimit)
	defer cancel()
	conn, err := l.dial(ctx, inward, w)
	if err != nil {
		return nil, err
	}
	b := &box{conn: conn, limit: l.c.TimeLimit, news: make(chan struct{}, 1)}
	stop := context.AfterFunc(ctx, func() { _ = conn.Close() })
	defer stop()
	if err := l.enter(b, w); err != nil {
		_ = conn.Close()
		if ctx.Err() != nil {
			return nil, &reach.Error{Step: "greeting",
				Err: fmt.Errorf("nothing came within %s, or not in the way of this protocol",
					l.c.TimeLimit), Repair: "look whether an IMAP server listens there"}
		}
		return nil, err
	}
	return b, nil
}

func (l *link) enter(b *box, w *reach.Way) error {
	const look = "look whether an IMAP server listens there, and whether it speaks TLS from the beginning (imaps://)"
	options := &imapclient.Options{UnilateralDataHandler: &imapclient.UnilateralDataHandler{
		Mailbox: func(*imapclient.UnilateralDataMailbox) {
			select {
			case b.news <- struct{}{}:
			default:
			}
		}}}
	var err error
	if l.switches() {
		if options.TLSConfig, err = reach.Config(l.c, l.host()); err != nil {
			return err
		}
		if b.Client, err = imapclient.NewStartTLS(b.conn, options); err != nil {
			return &reach.Error{Step: "switching to TLS", Err: said(err),
				Repair: look + "; starttls: never says everything so that it can be read on the way"}
		}
		w.Did("switched to TLS")
	} else {
		b.Client = imapclient.New(b.conn, options)
		if err := b.WaitGreeting(); err != nil {
			return &reach.Error{Step: "greeting", Err: said(err), Repair: look}
		}
		w.Did("greeted")
	}
	user, secret := "anonymous", ""
	if l.c.SignIn.Kind == connect.SignInBasic && len(l.c.SignIn.Secrets) > 0 {
		user, secret = l.c.SignIn.User, l.c.SignIn.Secrets[0]
	}
	if b.State() == imap.ConnStateNotAuthenticated {
		if err := b.Login(user, secret).Wait(); err != nil {
			return &reach.Error{Step: "signing in", Err: said(err),
				Repair: "look at the user, the password, and what the server permits them"}
		}
		w.Did("signed in as %s", user)
	}
	return nil
}

// said says what a server answered, or what happened to the connection.
func said(err error) error {
	var answer *imap.Error
	if errors.As(err, &answer) {
		return fmt.Errorf("the server answers %s: %s", answer.Type, connect.ShortText(answer.Text))
	}
	return errors.New(connect.ShortText(err.Error()))
}

// within does something that must end within the time limit of the connection, or when
// ctx does; else the connection is closed, and it ends with that.
func (b *box) within(ctx context.Context, do func() error) error {
	ctx, cancel := context.WithTimeout(ctx, b.limit)
	defer cancel()
	stop := context.AfterFunc(ctx, func() { _ = b.conn.Close() })
	defer stop()
	err := do()
	if ctx.Err() != nil && err != nil {
		return fmt.Errorf("nothing came within %s", b.limit)
	}
	return err
}

// end says goodbye.
func (b *box) end() { _ = b.Close() }

// Check implements connect.Link.
func (l *link) Check(ctx context.Context) (connect.Report, error) {
	var w reach.Way
	good := "mails can be sent and read"
	if speaks(l.c) != "imap" {
		s, err := l.join(ctx, &w)
		if err != nil {
			return w.Report(err, ""), nil
		}
		_ = s.Quit()
		if speaks(l.c) == "smtp" {
			good = "mails can be sent; none was"
		}
	}
	if speaks(l.c) != "smtp" {
		b, err := l.open(ctx, &w)
		if err != nil {
			return w.Report(err, ""), nil
		}
		defer b.end()
		var names []string
		if err := b.within(ctx, func() (err error) { names, err = folders(b); return err }); err != nil {
			return w.Report(&reach.Error{Step: "listing the folders", Err: said(err),
				Repair: "look at what the user may do"}, ""), nil
		}
		w.Did("the mailbox has %d folders", len(names))
		if speaks(l.c) == "imap" {
			good = "mails can be read"
		}
	}
	return w.Report(nil, good), nil
}

// mostFolders is how many folders a form offers.
const mostFolders = 1000

func folders(b *box) ([]string, error) {
	list := b.Client.List("", "*", nil)
	out := []string{}
	for {
		one := list.Next()
		if one == nil {
			break
		}
		if len(out) < mostFolders && !slices.Contains(one.Attrs, imap.MailboxAttrNoSelect) {
			out = append(out, one.Mailbox)
		}
	}
	slices.Sort(out)
	return out, list.Close()
}

// List implements connect.Lister: it lists the folders of a mailbox.
func (l *link) List(ctx context.Context, what string) ([]string, error) {
	if what != "folder" {
		return nil, fmt.Errorf("there are folders here, and no %s", what)
	}
	b, err := l.open(ctx, nil)
	if err != nil {
		return nil, err
	}
	defer b.end()
	var out []string
	err = b.within(ctx, func() (err error) { out, err = folders(b); return err })
	if err != nil {
		err = said(err)
	}
	return out, err
}

// Inspect implements connect.Inspector: it looks whether the folder of an intake is there,
// and how many mails are in it.
func (l *link) Inspect(ctx context.Context, u connect.Use) connect.Step {
	if !u.Intake {
		return connect.Step{OK: true, Detail: u.Flow + ": whom a mail is to is seen when it is sent"}
	}
	in, err := readIntake(u.Settings)
	if err != nil {
		return connect.Step{Detail: fmt.Sprintf("%s: %v", u.Flow, err), Repair: "correct the intake"}
	}
	b, err := l.open(ctx, nil)
	if err != nil {
		return connect.Step{Detail: fmt.Sprintf("%s: %v", u.Flow, err), Repair: "look at the steps above"}
	}
	defer b.end()
	var n uint32
	err = b.within(ctx, func() error {
		is, err := b.Select(in.folder, &imap.SelectOptions{ReadOnly: true}).Wait()
		if err == nil {
			n = is.NumMessages
		}
		return err
	})
	if err != nil {
		return connect.Step{Detail: fmt.Sprintf("%s: the folder %s: %v", u.Flow, in.folder, said(err)),
			Repair: "make it, or name another one"}
	}
	return connect.Step{OK: true, Detail: fmt.Sprintf("%s: the folder %s is there, with %d mails", u.Flow, in.folder, n)}
}

// makes makes a folder that is not there.
func (b *box) makes(ctx context.Context, name string) error {
	return b.within(ctx, func() error {
		list, err := b.Client.List("", quoted(name), nil).Collect()
		if err != nil || len(list) > 0 {
			return err
		}
		return b.Create(name, nil).Wait()
	})
}

// quoted takes the meaning of patterns from a name, as far as the protocol can: % and *
// have no escape, and fit what they stand for as well.
func quoted(name string) string { return strings.ReplaceAll(name, "*", "%") }

package amqp1

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/url"
	"sync"
	"time"

	client "github.com/Azure/go-amqp"

	"readyferry/connect"
	"readyferry/connect/reach"
)

const (
	frameMax    = 64 << 10 // bytes of a frame, which the broker is told
	largest     = 64 << 20 // bytes of a message
	mostTargets = 100      // senders that are kept
)

// link is one connection to a broker: one that sends and asks, made when it is needed and
// anew when it has broken, and one more for each flow that receives.
type link struct {
	c    *connect.Connection
	door *reach.Door

	mu      sync.Mutex
	shared  *joined
	senders map[string]*sender // by target
	asker   *asking
	answers connect.Answers[*client.Message]
}

// joined is a connection with one session.
type joined struct {
	conn    *client.Conn
	session *client.Session
}

func (j *joined) close() {
	_ = j.conn.Close()
}

// alive tells whether the connection has not ended.
func (j *joined) alive() bool {
	select {
	case <-j.conn.Done():
		return false
	default:
		return true
	}
}

// Close implements connect.Link.
func (l *link) Close() error {
	l.mu.Lock()
	shared := l.shared
	l.shared, l.senders, l.asker = nil, nil, nil
	l.mu.Unlock()
	if shared != nil {
		shared.close()
	}
	return nil
}

// join signs in at the broker.
func (l *link) join(ctx context.Context, w *reach.Way) (*joined, error) {
	ctx, cancel := context.WithTimeout(ctx, l.c.TimeLimit)
	defer cancel()
	conn, err := l.door.Dial(ctx, l.c, w)
	if err != nil {
		return nil, err
	}
	host := l.c.Text("/host-name")
	if u, err := url.Parse(l.c.Address); host == "" && err == nil {
		host = u.Hostname()
	}
	opts := &client.ConnOptions{HostName: host, ContainerID: "readyferry-" + l.c.Name, MaxFrameSize: frameMax,
		IdleTimeout:  time.Minute,
		WriteTimeout: l.c.TimeLimit, SASLType: client.SASLTypeAnonymous()}
	switch {
	case l.c.SignIn.Kind == connect.SignInBasic && len(l.c.SignIn.Secrets) > 0:
		opts.SASLType = client.SASLTypePlain(l.c.SignIn.User, l.c.SignIn.Secrets[0])
	case l.c.SignIn.Kind == reach.SignInMTLS:
		opts.SASLType = client.SASLTypeExternal("")
	}
	_ = conn.SetDeadline(time.Now().Add(l.c.TimeLimit))
	c, err := client.NewConn(ctx, conn, opts)
	if err != nil {
		_ = conn.Close()
		return nil, &reach.Error{Step: "signing in" + as(l.c), Err: inWords(err),
			Repair: "look at the user, the password, and whether AMQP 1.0 is spoken there"}
	}
	_ = conn.SetDeadline(time.Time{})
	w.Did("signed in%s", as(l.c))
	session, err := c.NewSession(ctx, nil)
	if err != nil {
		_ = c.Close()
		return nil, &reach.Error{Step: "beginning a session", Err: inWords(err),
			Repair: "the broker may have a limit of sessions"}
	}
	return &joined{c, session}, nil
}

// as says who signs in.
func as(c *connect.Connection) string {
	switch c.SignIn.Kind {
	case connect.SignInBasic:
		return " as " + c.SignIn.User
	case reach.SignInMTLS:
		return " with the client certificate"
	}
	return ", as nobody in particular"
}

// inWords says what the broker says.
func inWords(err error) error {
	if e := conditionOf(err); e != nil {
		return errors.New(words(e))
	}
	return err
}

// broke says that a connection ended.
func (l *link) broke(err error) error {
	if err == nil || errors.Is(err, net.ErrClosed) {
		return fmt.Errorf("the connection to %s broke off", l.c.Name)
	}
	return fmt.Errorf("the connection to %s broke off: %w", l.c.Name, inWords(err))
}

// connection gives the connection that sends and asks, and makes it where there is none.
// The mutex must be held.
func (l *link) connection(ctx context.Context) (*joined, error) {
	if l.shared != nil && l.shared.alive() {
		return l.shared, nil
	}
	l.shared, l.senders, l.asker = nil, map[string]*sender{}, nil
	made, err := l.join(ctx, nil)
	if err == nil {
		l.shared = made
	}
	return made, err
}

// sender sends to one target, in a session of its own: some brokers end a session for what
// is wrong with one link, and what is said of one target must not be taken for another.
type sender struct {
	*client.Sender
	session *client.Session
}

// sender gives the sender of a target.
func (l *link) sender(ctx context.Context, target string) (*sender, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	j, err := l.connection(ctx)
	if err != nil {
		return nil, err
	}
	if s := l.senders[target]; s != nil {
		return s, nil
	}
	for other, s := range l.senders {
		if len(l.senders) < mostTargets {
			break
		}
		_ = s.session.Close(ctx)
		delete(l.senders, other)
	}
	session, err := j.conn.NewSession(ctx, nil)
	if err != nil {
		return nil, err
	}
	made, err := session.NewSender(ctx, target, nil)
	if err != nil {
		_ = session.Close(ctx)
		return nil, err
	}
	s := &sender{made, session}
	l.senders[target] = s
	return s, nil
}

// lost forgets a sender that has ended, or may have.
func (l *link) lost(target string, s *sender) {
	l.mu.Lock()
	if l.senders[target] == s {
		delete(l.senders, target)
	}
	l.mu.Unlock()
	ctx, cancel := context.WithTimeout(context.Background(), l.c.TimeLimit)
	defer cancel()
	_ = s.session.Close(ctx)
}

// Check implements connect.Link.
func (l *link) Check(ctx context.Context) (connect.Report, error) {
	var w reach.Way
	j, err := l.join(ctx, &w)
	if err == nil {
		j.close()
	}
	return w.Report(err, "the broker is reached, and the sign-in holds", "addresses"), nil
}

// Inspect implements connect.Inspector: it attaches to an address for a moment.
func (l *link) Inspect(ctx context.Context, u connect.Use) connect.Step {
	address := connect.SettingText(u.Settings, map[bool]string{true: "source", false: "target"}[u.Intake])
	if depends(address) {
		return connect.Step{OK: true, Detail: u.Flow + ": the address depends on the message"}
	}
	ctx, cancel := context.WithTimeout(ctx, l.c.TimeLimit)
	defer cancel()
	j, err := l.join(ctx, nil)
	if err == nil {
		defer j.close()
		if u.Intake {
			_, err = j.session.NewReceiver(ctx, address, &client.ReceiverOptions{Credit: -1})
		} else {
			_, err = j.session.NewSender(ctx, address, nil)
		}
	}
	if err != nil {
		return connect.Step{Detail: fmt.Sprintf("%s: the address %s: %v", u.Flow, address, inWords(err)),
			Repair: "look at how the broker writes it, and at what the user is permitted"}
	}
	return connect.Step{OK: true, Detail: fmt.Sprintf("%s: the address %s is there", u.Flow, address)}
}

package nats

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"
	"sync"
	"time"

	client "github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"

	"readyferry/connect"
	"readyferry/connect/reach"
)

// link is one connection to a broker: one that publishes and asks, made when it is needed
// and anew when it has broken, and one more for each flow that receives.
type link struct {
	c    *connect.Connection
	door *reach.Door

	mu      sync.Mutex
	shared  *client.Conn
	inbox   string // below it come answers
	denied  map[string]time.Time
	answers connect.Answers[*client.Msg]
}

// Close implements connect.Link.
func (l *link) Close() error {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.shared != nil {
		l.shared.Close()
	}
	l.shared = nil
	return nil
}

// dialer lets the client reach the broker by the door.
type dialer struct {
	l      *link
	ctx    context.Context
	w      *reach.Way
	failed error // how the way to the door ended: the client says less of it
}

// Dial implements nats.CustomDialer. TLS begins behind the broker's first line, so the
// client speaks it itself.
func (d *dialer) Dial(_, _ string) (net.Conn, error) {
	ctx, cancel := context.WithTimeout(d.ctx, d.l.c.TimeLimit)
	defer cancel()
	at, secure, err := d.l.door.HostPort(d.l.c.Address)
	if err != nil {
		return nil, err
	}
	var conn net.Conn
	if strings.HasPrefix(d.l.c.Address, reach.StandInScheme+"://") {
		secure = false
		conn, err = d.l.door.Dial(ctx, d.l.c, d.w)
	} else {
		conn, err = reach.DialAt(ctx, d.l.c, at, false, d.w)
	}
	if d.failed = err; err != nil || secure {
		return conn, err
	}
	return &reach.Guarded{Conn: conn, Patience: d.l.c.TimeLimit, Look: new(guarded).look}, nil
}

// join signs in at the broker.
func (l *link) join(ctx context.Context, w *reach.Way) (*client.Conn, error) {
	d := &dialer{l: l, ctx: context.WithoutCancel(ctx), w: w}
	opts := []client.Option{
		client.Name("readyferry " + l.c.Name), client.SetCustomDialer(d), client.NoReconnect(), client.Timeout(l.c.TimeLimit),
		client.PingInterval(20 * time.Second), client.MaxPingsOutstanding(2), client.ErrorHandler(l.heard),
		client.SkipHostLookup(),
	}
	if strings.HasPrefix(l.c.Address, "natss://") {
		at, _, _ := l.door.HostPort(l.c.Address)
		host, _, _ := net.SplitHostPort(at)
		config, err := reach.Config(l.c, host)
		if err != nil {
			return nil, &reach.Error{Step: "reading the own certificate", Err: err,
				Repair: "paste the certificate and its key anew"}
		}
		opts = append(opts, client.Secure(config))
	}
	secret := ""
	if len(l.c.SignIn.Secrets) > 0 {
		secret = l.c.SignIn.Secrets[0]
	}
	switch l.c.SignIn.Kind {
	case connect.SignInBasic:
		opts = append(opts, client.UserInfo(l.c.SignIn.User, secret))
	case connect.SignInBearer:
		opts = append(opts, client.Token(secret))
	}
	conn, err := client.Connect("nats://broker", opts...)
	if err != nil {
		if d.failed != nil {
			return nil, d.failed
		}
		return nil, &reach.Error{Step: "signing in" + as(l.c), Err: err,
			Repair: "look at the user, the password or token, and whether TLS is spoken there"}
	}
	w.Did("signed in%s", as(l.c))
	return conn, nil
}

// as says who signs in.
func as(c *connect.Connection) string {
	switch c.SignIn.Kind {
	case connect.SignInBasic:
		return " as " + c.SignIn.User
	case connect.SignInBearer:
		return " with the token"
	case reach.SignInMTLS:
		return " with the client certificate"
	}
	return ", as nobody in particular"
}

// heard notes what the broker says by itself: that something is not permitted.
func (l *link) heard(_ *client.Conn, _ *client.Subscription, err error) {
	if !errors.Is(err, client.ErrPermissionViolation) {
		return
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.denied == nil || len(l.denied) > 1000 {
		l.denied = map[string]time.Time{}
	}
	if _, rest, is := strings.Cut(err.Error(), `Publish to "`); is {
		subject, _, _ := strings.Cut(rest, `"`)
		l.denied[subject] = time.Now()
	}
}

// forbidden tells whether the broker has said lately that a subject may not be published
// to.
func (l *link) forbidden(subject string) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	at, is := l.denied[subject]
	return is && time.Since(at) < 2*l.c.TimeLimit
}

// connection gives the connection that publishes and asks, and makes it where there is
// none.
func (l *link) connection(ctx context.Context) (*client.Conn, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.shared != nil && !l.shared.IsClosed() {
		return l.shared, nil
	}
	l.shared = nil
	conn, err := l.join(ctx, nil)
	if err != nil {
		return nil, err
	}
	l.inbox = client.NewInbox()
	if _, err := conn.Subscribe(l.inbox+".>", func(m *client.Msg) {
		key, err := base64.RawURLEncoding.DecodeString(strings.TrimPrefix(m.Subject, l.inbox+"."))
		if err == nil {
			l.answers.Hears(string(key), m)
		}
	}); err != nil {
		conn.Close()
		return nil, err
	}
	l.shared = conn
	return conn, nil
}

// Check implements connect.Link.
func (l *link) Check(ctx context.Context) (connect.Report, error) {
	var w reach.Way
	err := l.look(ctx, &w, func(context.Context, jetstream.JetStream) error { return nil })
	return w.Report(err, "the broker is reached, and the sign-in holds", "streams"), nil
}

// look asks the broker for something.
func (l *link) look(ctx context.Context, w *reach.Way, do func(ctx context.Context,
	js jetstream.JetStream) error) error {
	ctx, cancel := context.WithTimeout(ctx, l.c.TimeLimit)
	defer cancel()
	conn, err := l.join(ctx, w)
	if err != nil {
		return err
	}
	defer conn.Close()
	js, err := jetstream.New(conn)
	if err != nil {
		return err
	}
	return do(ctx, js)
}

// List implements connect.Lister: it lists streams, and for a subject what streams take.
func (l *link) List(ctx context.Context, what string) ([]string, error) {
	var out []string
	err := l.look(ctx, nil, func(ctx context.Context, js jetstream.JetStream) error {
		streams := js.ListStreams(ctx)
		for s := range streams.Info() {
			if what == "subject" {
				out = append(out, s.Config.Subjects...)
			} else {
				out = append(out, s.Config.Name)
			}
		}
		return streams.Err()
	})
	slices.Sort(out)
	return out, err
}

// Inspect implements connect.Inspector: it looks whether a stream is there, or takes a
// subject.
func (l *link) Inspect(ctx context.Context, u connect.Use) connect.Step {
	subject, name := connect.SettingText(u.Settings, "subject"), connect.SettingText(u.Settings, "stream")
	if strings.Contains(subject, "${") {
		return connect.Step{OK: true, Detail: u.Flow + ": the subject depends on the message"}
	}
	said := ""
	err := l.look(ctx, nil, func(ctx context.Context, js jetstream.JetStream) (err error) {
		if !u.Intake {
			name, err = js.StreamNameBySubject(ctx, subject)
			said = fmt.Sprintf("the stream %s takes the subject %s", name, subject)
			return err
		}
		s, err := js.Stream(ctx, name)
		if err == nil {
			said = fmt.Sprintf("the stream %s is there, messages in it: %d", name, s.CachedInfo().State.Msgs)
		}
		return err
	})
	switch {
	case err == nil:
		return connect.Step{OK: true, Detail: u.Flow + ": " + said}
	case errors.Is(err, jetstream.ErrStreamNotFound) && u.Intake:
		return connect.Step{Detail: fmt.Sprintf("%s: the stream %s is not there", u.Flow, name),
			Repair: "look at how it is written"}
	case errors.Is(err, jetstream.ErrStreamNotFound):
		return connect.Step{Detail: fmt.Sprintf("%s: no stream takes the subject %s", u.Flow, subject),
			Repair: "look at how it is written; where it is asked, none need take it"}
	}
	return connect.Step{Detail: fmt.Sprintf("%s: %v", u.Flow, err), Repair: "look at what the broker permits the user"}
}

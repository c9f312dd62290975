package amqp

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/url"
	"strings"
	"sync"
	"time"

	client "github.com/rabbitmq/amqp091-go"

	"readyferry/connect"
	"readyferry/connect/reach"
	"readyferry/core/flow"
)

// link is one connection to a broker: one that publishes and asks, made when it is needed
// and anew when it has broken, and one more for each flow that receives.
type link struct {
	c    *connect.Connection
	door *reach.Door

	mu      sync.Mutex
	shared  *client.Connection
	free    []*publisher // channels that nobody publishes by now
	asker   *asking
	blocked string // why the broker takes nothing at present; "" while it does
	answers connect.Answers[*client.Delivery]
}

// Close implements connect.Link.
func (l *link) Close() error {
	l.mu.Lock()
	shared := l.shared
	l.shared, l.free, l.asker = nil, nil, nil
	l.mu.Unlock()
	if shared == nil || shared.IsClosed() {
		return nil
	}
	return shared.Close()
}

// join signs in at the broker.
func (l *link) join(ctx context.Context, part string, w *reach.Way) (*client.Connection, error) {
	ctx, cancel := context.WithTimeout(ctx, l.c.TimeLimit)
	defer cancel()
	conn, err := l.door.Dial(ctx, l.c, w)
	if err != nil {
		return nil, err
	}
	config := client.Config{
		Vhost: l.virtualHost(), Heartbeat: l.heartbeat(), FrameSize: frameMax, Locale: "en_US",
		SASL:       []client.Authentication{&client.PlainAuth{Username: "guest", Password: "guest"}},
		Properties: client.Table{"connection_name": "readyferry " + l.c.Name + part},
	}
	switch {
	case l.c.SignIn.Kind == connect.SignInBasic && len(l.c.SignIn.Secrets) > 0:
		config.SASL = []client.Authentication{&client.PlainAuth{Username: l.c.SignIn.User, Password: l.c.SignIn.Secrets[0]}}
	case l.c.SignIn.Kind == reach.SignInMTLS:
		config.SASL = []client.Authentication{&client.ExternalAuth{}}
	}
	_ = conn.SetDeadline(time.Now().Add(l.c.TimeLimit))
	made, err := client.Open(&reach.Guarded{Conn: conn, Patience: l.c.TimeLimit, Look: new(guarded).look}, config)
	if err != nil {
		_ = conn.Close()
		return nil, &reach.Error{Step: "signing in" + as(l.c), Err: inWords(err),
			Repair: "look at the user, the password and the virtual host"}
	}
	_ = conn.SetReadDeadline(time.Time{})
	w.Did("signed in%s, %s", as(l.c), strings.TrimSpace("virtual host "+config.Vhost))
	return made, nil
}

// as says who signs in.
func as(c *connect.Connection) string {
	switch c.SignIn.Kind {
	case connect.SignInBasic:
		return " as " + c.SignIn.User
	case reach.SignInMTLS:
		return " with the client certificate"
	}
	return " as guest"
}

// inWords says what the broker says.
func inWords(err error) error {
	if code, text := replyOf(err); code != 0 {
		return &refused{code, text}
	}
	return err
}

// refused is a reply code with which a broker ends something.
type refused struct {
	code int
	text string
}

func (e *refused) Error() string { return words(e.code, e.text) }

func (l *link) virtualHost() string {
	u, err := url.Parse(l.c.Address)
	if err != nil || u.Scheme == reach.StandInScheme || len(u.Path) < 2 {
		return "/"
	}
	return u.Path[1:]
}

func (l *link) heartbeat() time.Duration {
	if d, err := flow.Duration(l.c.Text("/heartbeat")); err == nil && d >= time.Second {
		return d
	}
	return 30 * time.Second
}

// connection gives the connection that publishes and asks, and makes it where there is
// none.
func (l *link) connection(ctx context.Context) (*client.Connection, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.shared != nil && !l.shared.IsClosed() {
		return l.shared, nil
	}
	l.shared, l.free, l.asker, l.blocked = nil, nil, nil, ""
	made, err := l.join(ctx, "", nil)
	if err != nil {
		return nil, err
	}
	l.shared = made
	blocks := made.NotifyBlocked(make(chan client.Blocking, 4))
	go func() {
		for b := range blocks {
			l.mu.Lock()
			l.blocked = ""
			if b.Active {
				l.blocked = "the broker takes nothing at present: " + b.Reason
			}
			l.mu.Unlock()
		}
	}()
	return made, nil
}

// Check implements connect.Link: it goes as far as opening a channel.
func (l *link) Check(ctx context.Context) (connect.Report, error) {
	var w reach.Way
	err := l.look(ctx, &w, func(*client.Channel) error { return nil })
	return w.Report(err, "the broker is reached, and the sign-in holds", "queues and exchanges"), nil
}

// look opens a channel for a moment.
func (l *link) look(ctx context.Context, w *reach.Way, do func(ch *client.Channel) error) error {
	conn, err := l.join(ctx, " test", w)
	if err != nil {
		return err
	}
	defer func() { _ = conn.Close() }()
	ch, err := conn.Channel()
	if err != nil {
		return &reach.Error{Step: "opening a channel", Err: inWords(err), Repair: "the broker may have a limit of channels"}
	}
	return do(ch)
}

// Inspect implements connect.Inspector: it looks whether a queue or an exchange is there.
func (l *link) Inspect(ctx context.Context, u connect.Use) connect.Step {
	what, name, passive := "exchange", connect.SettingText(u.Settings, "exchange"),
		(*client.Channel).ExchangeDeclarePassive
	if u.Intake {
		what, name = "queue", connect.SettingText(u.Settings, "queue")
	} else if name == "" {
		what, name = "queue", connect.SettingText(u.Settings, "routing-key")
	}
	if strings.Contains(name, "${") {
		return connect.Step{OK: true, Detail: fmt.Sprintf("%s: the %s depends on the message", u.Flow, what)}
	}
	said := ""
	err := l.look(ctx, nil, func(ch *client.Channel) error {
		if what == "exchange" {
			return passive(ch, name, client.ExchangeDirect, true, false, false, false, nil)
		}
		q, err := ch.QueueDeclarePassive(name, true, false, false, false, nil)
		said = fmt.Sprintf(", %d messages wait", q.Messages)
		return err
	})
	code, _ := replyOf(err)
	switch {
	case err == nil:
		return connect.Step{OK: true, Detail: fmt.Sprintf("%s: the %s %s is there%s", u.Flow, what, name, said)}
	case code == 404 && u.Intake && connect.SettingText(u.Settings, "make") == "true":
		return connect.Step{OK: true, Detail: fmt.Sprintf("%s: the queue %s is not there yet; the flow makes it", u.Flow,
			name)}
	case code == 404 && u.Intake:
		return connect.Step{Detail: fmt.Sprintf("%s: the queue %s is not there", u.Flow, name),
			Repair: "look at how it is written and at the virtual host, or let the flow make it"}
	case code == 404:
		return connect.Step{Detail: fmt.Sprintf("%s: the %s %s is not there", u.Flow, what, name),
			Repair: "look at how it is written and at the virtual host"}
	}
	return connect.Step{Detail: fmt.Sprintf("%s: %v", u.Flow, inWords(err)),
		Repair: "look at what the broker permits the user"}
}

// broke says that a connection ended.
func (l *link) broke(err error) error {
	if code, said := replyOf(err); code != 0 {
		return fmt.Errorf("%s: %s", l.c.Name, words(code, said))
	}
	if err == nil || errors.Is(err, client.ErrClosed) || errors.Is(err, net.ErrClosed) {
		return fmt.Errorf("the connection to %s broke off", l.c.Name)
	}
	return fmt.Errorf("the connection to %s broke off: %w", l.c.Name, err)
}

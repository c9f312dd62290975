package stream

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/twmb/franz-go/pkg/kadm"
	"github.com/twmb/franz-go/pkg/kerr"
	"github.com/twmb/franz-go/pkg/kgo"
	"github.com/twmb/franz-go/pkg/sasl/plain"
	"github.com/twmb/franz-go/pkg/sasl/scram"

	"readyferry/connect"
	"readyferry/connect/reach"
)

// What brokers may send, in bytes: of one answer, and of what one fetch asks for.
const (
	mostRead  = 64 << 20
	mostFetch = 16 << 20
	mostSent  = 16 << 20 // of one record
)

// first stands for the broker of a stand-in, which has no name.
const first = "stand-in:1"

// link is one connection to a log: a client that appends, made when it is needed, and one
// more for each flow that reads. The clients' library connects anew by itself.
type link struct {
	c    *connect.Connection
	door *reach.Door

	mu       sync.Mutex
	appender *kgo.Client
	// alone is held for reading by whoever appends, and for writing by one that must be
	// the only one, so that what is said of a batch is said of it.
	alone sync.RWMutex
}

// Close implements connect.Link.
func (l *link) Close() error {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.appender != nil {
		l.appender.Close()
	}
	l.appender = nil
	return nil
}

// client makes a client.
func (l *link) client(more ...kgo.Opt) (*kgo.Client, error) {
	at, secure, err := l.door.HostPort(l.c.Address)
	if err != nil {
		return nil, err
	}
	standIn := strings.HasPrefix(l.c.Address, reach.StandInScheme+"://")
	if standIn {
		at, secure = first, false
	}
	seeds := []string{at}
	if list := l.c.Settings.Get("more"); list != nil {
		for _, one := range list.Items {
			seeds = append(seeds, one.Text)
		}
	}
	opts := []kgo.Opt{
		kgo.SeedBrokers(seeds...), kgo.ClientID("readyferry-" + l.c.Name), kgo.BrokerMaxReadBytes(mostRead),
		kgo.DialTimeout(l.c.TimeLimit), kgo.RequestTimeoutOverhead(l.c.TimeLimit), kgo.RetryTimeout(l.c.TimeLimit),
		kgo.MetadataMinAge(250 * time.Millisecond), kgo.ConnIdleTimeout(10 * time.Minute),
		kgo.Dialer(func(ctx context.Context, _, host string) (net.Conn, error) {
			if standIn && host == first {
				return l.door.Dial(ctx, l.c, nil)
			}
			return reach.DialAt(ctx, l.c.Along(ctx, host), host, secure, nil)
		}),
	}
	user, secret := l.c.SignIn.User, ""
	if len(l.c.SignIn.Secrets) > 0 {
		secret = l.c.SignIn.Secrets[0]
	}
	switch l.c.SignIn.Kind {
	case connect.SignInBasic:
		opts = append(opts, kgo.SASL(plain.Auth{User: user, Pass: secret}.AsMechanism()))
	case scram256:
		opts = append(opts, kgo.SASL(scram.Auth{User: user, Pass: secret}.AsSha256Mechanism()))
	case scram512:
		opts = append(opts, kgo.SASL(scram.Auth{User: user, Pass: secret}.AsSha512Mechanism()))
	}
	return kgo.NewClient(append(opts, more...)...)
}

// appends gives the client that appends, and makes it where there is none.
func (l *link) appends() (*kgo.Client, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.appender != nil {
		return l.appender, nil
	}
	client, err := l.client(
		kgo.RecordPartitioner(partitioner{kgo.StickyKeyPartitioner(nil)}), kgo.ProducerLinger(0),
		kgo.RecordRetries(0), kgo.UnknownTopicRetries(1), kgo.RecordDeliveryTimeout(l.c.TimeLimit),
		kgo.AllowIdempotentProduceCancellation(), kgo.ProducerBatchMaxBytes(mostSent),
		kgo.ProduceRequestTimeout(l.c.TimeLimit),
	)
	if err != nil {
		return nil, err
	}
	l.appender = client
	return client, nil
}

// Check implements connect.Link.
func (l *link) Check(ctx context.Context) (connect.Report, error) {
	var w reach.Way
	err := l.look(ctx, &w, func(*kadm.Client) error { return nil })
	return w.Report(err, "the log is reached, and the sign-in holds", "topics"), nil
}

// look asks the brokers for something.
func (l *link) look(ctx context.Context, w *reach.Way, do func(a *kadm.Client) error) error {
	ctx, cancel := context.WithTimeout(ctx, l.c.TimeLimit)
	defer cancel()
	conn, err := l.door.Dial(ctx, l.c, w) // for the steps up to there
	if err != nil {
		return err
	}
	_ = conn.Close()
	client, err := l.client()
	if err != nil {
		return err
	}
	defer client.Close()
	a := kadm.NewClient(client)
	brokers, err := a.ListBrokers(ctx)
	if err != nil {
		return &reach.Error{Step: "signing in" + as(l.c), Err: inWords(err),
			Repair: "look at the user, the password, and whether TLS is spoken there"}
	}
	w.Did("signed in%s, brokers: %d", as(l.c), len(brokers))
	return do(a)
}

// as says who signs in.
func as(c *connect.Connection) string {
	switch c.SignIn.Kind {
	case connect.SignInNone:
		return ", as nobody in particular"
	case reach.SignInMTLS:
		return " with the client certificate"
	}
	return " as " + c.SignIn.User
}

// inWords says what the brokers say.
func inWords(err error) error {
	var e *kerr.Error
	switch {
	case errors.As(err, &e):
		return errors.New(words(e))
	case errors.Is(err, io.EOF):
		return errors.New("it ended the connection without a word, as some do who do not know the user or password")
	case errors.Is(err, context.DeadlineExceeded):
		return errors.New("nobody answered in time, or in the way of this protocol")
	}
	return err
}

// List implements connect.Lister: it lists topics.
func (l *link) List(ctx context.Context, _ string) ([]string, error) {
	var out []string
	err := l.look(ctx, nil, func(a *kadm.Client) error {
		topics, err := a.ListTopics(ctx)
		if err == nil {
			out = topics.Names()
		}
		return err
	})
	slices.Sort(out)
	return out, err
}

// Inspect implements connect.Inspector: it looks whether a topic is there.
func (l *link) Inspect(ctx context.Context, u connect.Use) connect.Step {
	topic := connect.SettingText(u.Settings, "topic")
	if strings.Contains(topic, "${") {
		return connect.Step{OK: true, Detail: u.Flow + ": the topic depends on the message"}
	}
	partitions := 0
	var all []string
	err := l.look(ctx, nil, func(a *kadm.Client) error {
		topics, err := a.ListTopics(ctx)
		if err != nil {
			return err
		}
		all = topics.Names()
		one, is := topics[topic]
		if !is {
			return kerr.UnknownTopicOrPartition
		}
		partitions = len(one.Partitions)
		return one.Err
	})
	if err == nil {
		return connect.Step{OK: true, Detail: fmt.Sprintf("%s: the topic %s is there, partitions: %d", u.Flow, topic,
			partitions)}
	}
	s := connect.Step{Detail: fmt.Sprintf("%s: the topic %s: %v", u.Flow, topic, inWords(err)),
		Repair: "look at how it is written"}
	if errors.Is(err, kerr.UnknownTopicOrPartition) {
		s.Detail = fmt.Sprintf("%s: the topic %s is not there", u.Flow, topic)
		if len(all) > 0 {
			s.Repair = "there is " + strings.Join(all[:min(len(all), 10)], ", ")
		}
	}
	return s
}

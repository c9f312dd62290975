package fleet

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/url"
	"path/filepath"
	"strconv"
	"time"

	"github.com/nats-io/nats-server/v2/server"
	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
)

// MostRecord is the largest part of a record that the log takes at once, in bytes; a larger record is
// kept in parts.
const MostRecord = 4 << 20

// ping is how often a member's engine sees whether another is there; after two without a word it is
// taken for gone.
const ping = time.Second

// link is a member's engine and the connection to it.
type link struct {
	secret string // by which this process itself comes in
	engine *server.Server
	conn   *nats.Conn
	js     jetstream.JetStream
}

// startEngine starts a member's engine: with the others it keeps the log.
func startEngine(f *File, id *identity, dir string, log *slog.Logger) (*link, error) {
	if _, _, err := id.now(); err != nil {
		return nil, err
	}
	host, port, err := net.SplitHostPort(f.Self().Engine)
	if err != nil {
		return nil, err
	}
	l := &link{secret: rand.Text()}
	o := &server.Options{
		// Its port for clients is for this process alone: it has a secret that nobody else knows.
		Host: "127.0.0.1", Port: server.RANDOM_PORT, CustomClientAuthentication: l,
		ServerName: f.This, NoSigs: true, NoLog: true, MaxPayload: MostRecord + 1<<20, MaxPending: 256 << 20,
		PingInterval: 10 * ping, MaxPingsOut: 2, WriteDeadline: 10 * time.Second,
		JetStream: true, StoreDir: filepath.Join(dir,
			"fleet"), SyncAlways: true, JetStreamMaxMemory: 64 << 20, JetStreamMaxStore: 1 << 40,
		Cluster: server.ClusterOpts{Name: f.Name, Host: host, TLSConfig: id.config(), TLSTimeout: 10, PoolSize: -1,
			NoAdvertise:  true,
			PingInterval: ping, MaxPingsOut: 2},
	}
	if o.Cluster.Port, err = strconv.Atoi(port); err != nil {
		return nil, err
	}
	for _, m := range f.Members {
		if m.Name != f.This {
			o.Routes = append(o.Routes, &url.URL{Scheme: "tls", Host: m.Engine})
		}
	}
	if len(o.Routes) == 0 { // one alone has nobody to keep the log with
		o.Cluster = server.ClusterOpts{}
	}
	if l.engine, err = server.NewServer(o); err != nil {
		return nil, fmt.Errorf("the engine of the fleet: %w", err)
	}
	go l.engine.Start()
	if !l.engine.ReadyForConnections(30 * time.Second) {
		l.close()
		return nil, fmt.Errorf("the engine of the fleet does not start at %s", f.Self().Engine)
	}
	l.conn, err = l.connect(asMember)
	if err == nil {
		l.js, err = jetstream.New(l.conn)
	}
	if err != nil {
		l.close()
		return nil, err
	}
	log.Info("the engine of the fleet is at work", "member", f.This, "at", f.Self().Engine)
	return l, nil
}

// As whom this process comes into its own engine: as a member, or as who keeps the engines.
const (
	asMember = "member"
	asKeeper = "keeper"
)

func (l *link) connect(as string) (*nats.Conn, error) {
	return nats.Connect("", nats.InProcessServer(l.engine), nats.UserInfo(as, l.secret), nats.MaxReconnects(-1),
		nats.ReconnectWait(100*time.Millisecond))
}

// Check implements server.Authentication: nobody but this process comes in.
func (l *link) Check(c server.ClientAuthentication) bool {
	o := c.GetOpts()
	if subtle.ConstantTimeCompare([]byte(o.Password), []byte(l.secret)) != 1 {
		return false
	}
	account := l.engine.GlobalAccount()
	if o.Username == asKeeper {
		account = l.engine.SystemAccount()
	}
	c.RegisterUser(&server.User{Username: o.Username, Account: account})
	return true
}

// remove has the engines forget a member that does not come back: it counts for no majority any more, and
// another one keeps the replica that it had, where there is one.
func (l *link) remove(ctx context.Context, member string) error {
	conn, err := l.connect(asKeeper)
	if err != nil {
		return err
	}
	defer conn.Close()
	return asked(ctx, conn, server.JSApiRemoveServer, map[string]string{"peer": member})
}

// asked asks the engines to do something, and gives why they did not.
func asked(ctx context.Context, conn *nats.Conn, subject string, what any) error {
	b, err := json.Marshal(what)
	if err != nil {
		return err
	}
	m, err := conn.RequestWithContext(ctx, subject, b)
	if err != nil {
		return fmt.Errorf("%w: %w", errNoLog, err)
	}
	var said struct {
		Error *struct {
			Description string `json:"description"`
		} `json:"error"`
	}
	if err := json.Unmarshal(m.Data, &said); err != nil {
		return err
	}
	if said.Error != nil {
		return errors.New(said.Error.Description)
	}
	return nil
}

func (l *link) close() {
	if l.conn != nil {
		_ = l.conn.FlushTimeout(time.Second) // answers may be on their way
		l.conn.Close()
	}
	l.engine.Shutdown()
	l.engine.WaitForShutdown()
}

// errNoLog tells that the log cannot be asked now: too few members are there, or they choose who leads it.
var errNoLog = errors.New("the log cannot be reached: a majority of the members must see each other")

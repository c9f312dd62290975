package line

import (
	"crypto/rand"
	"crypto/subtle"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"net/http/httputil"
	"net/url"
	"strings"
	"sync"
	"time"

	"github.com/nats-io/nats-server/v2/server"
	"github.com/nats-io/nats.go"
)

// Hub is the application's side of all lines. It is safe for concurrent use.
type Hub struct {
	permits func(runner, key string) error
	log     *slog.Logger
	secret  string // by which the application itself comes in
	engine  *server.Server
	door    http.Handler
	mu      sync.Mutex
	lines   map[string]*nats.Conn
	keys    map[string]string // by which runners came in
}

// NewHub starts the application's side. permits says whether a key is good for a runner of a name;
// it is asked at each sign-in.
func NewHub(permits func(runner, key string) error, log *slog.Logger) (*Hub, error) {
	h := &Hub{permits: permits, log: log, secret: rand.Text(), lines: map[string]*nats.Conn{},
		keys: map[string]string{}}
	o := quiet()
	o.ServerName, o.DontListen = "application", true
	o.Websocket = server.WebsocketOpts{Host: "127.0.0.1", Port: server.RANDOM_PORT, NoTLS: true, HandshakeTimeout: 5 * time.Second}
	o.LeafNode = server.LeafNodeOpts{Host: "127.0.0.1", Port: server.RANDOM_PORT}
	o.CustomClientAuthentication = h
	var err error
	if h.engine, err = server.NewServer(o); err != nil {
		return nil, fmt.Errorf("the engine of the runners' lines: %w", err)
	}
	if err := ready(h.engine); err != nil {
		return nil, err
	}
	inner, err := url.Parse(strings.Replace(h.engine.WebsocketURL(), "ws://", "http://", 1))
	if err != nil {
		return nil, err
	}
	h.door = &httputil.ReverseProxy{
		Rewrite: func(r *httputil.ProxyRequest) {
			r.SetURL(inner)
			r.Out.URL.Path, r.Out.Host = leafPath, inner.Host
			r.Out.Header.Del("Authorization")
			r.Out.Header.Del("Origin")
		},
		ErrorLog: slog.NewLogLogger(log.Handler(), slog.LevelDebug),
	}
	return h, nil
}

// Close ends all lines.
func (h *Hub) Close() {
	h.mu.Lock()
	for name, c := range h.lines {
		c.Close()
		delete(h.lines, name)
	}
	h.mu.Unlock()
	h.engine.Shutdown()
	h.engine.WaitForShutdown()
}

// ServeHTTP begins the line of a runner: Path, and the runner's name and key in the header
// Authorization as basic sign-in (RFC 7617) has them.
func (h *Hub) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if c := http.NewResponseController(w); c != nil {
		_ = c.SetReadDeadline(time.Time{}) // the line stays open; its own beat tells when it is dead
		_ = c.SetWriteDeadline(time.Time{})
	}
	h.door.ServeHTTP(w, r)
}

// Permits says whether a key is good for a runner of a name now.
func (h *Hub) Permits(runner, key string) error {
	if err := CheckName(runner); err != nil {
		return err
	}
	return h.permits(runner, key)
}

// StillGood says whether the key by which a runner came in is good now.
func (h *Hub) StillGood(runner string) bool {
	h.mu.Lock()
	key := h.keys[runner]
	h.mu.Unlock()
	return h.Permits(runner, key) == nil
}

// Check implements server.Authentication: it asks for the key and gives each runner its account.
func (h *Hub) Check(c server.ClientAuthentication) bool {
	o := c.GetOpts()
	name, own := strings.CutPrefix(o.Username, "application/")
	if own && subtle.ConstantTimeCompare([]byte(o.Password), []byte(h.secret)) != 1 {
		return false
	}
	if !own {
		if err := h.Permits(name, o.Password); err != nil {
			h.log.Warn("a runner is refused", "runner", name, "error", err)
			return false
		}
		h.mu.Lock()
		h.keys[name] = o.Password
		h.mu.Unlock()
	}
	account, _ := h.engine.LookupOrRegisterAccount("runner " + name)
	u := &server.User{Username: o.Username, Account: account}
	if !own {
		u.Permissions = &server.Permissions{
			Publish:   &server.SubjectPermission{Allow: []string{Told + ">", "_INBOX.>", "_R_.>"}},
			Subscribe: &server.SubjectPermission{Allow: []string{Do + ">"}},
		}
	}
	c.RegisterUser(u)
	return true
}

// To gives the line to a runner. It is there whether or not the runner is: what is asked while it is
// away comes to nats.ErrNoResponders at once.
func (h *Hub) To(runner string) (*nats.Conn, error) {
	if err := CheckName(runner); err != nil {
		return nil, err
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	if c := h.lines[runner]; c != nil {
		return c, nil
	}
	c, err := nats.Connect("", nats.InProcessServer(h.engine), nats.UserInfo("application/"+runner, h.secret),
		nats.MaxReconnects(-1), nats.Name("application"))
	if err != nil {
		return nil, fmt.Errorf("the line to %s: %w", runner, err)
	}
	h.lines[runner] = c
	return c, nil
}

// Lined is a line that is up.
type Lined struct {
	Runner string
	ID     uint64 // of this line; the next one of the same runner has another
}

// Up lists the lines that are up.
func (h *Hub) Up() (out []Lined) {
	all, err := h.engine.Leafz(&server.LeafzOptions{})
	if err != nil {
		return nil
	}
	for _, l := range all.Leafs {
		name, is := strings.CutPrefix(l.Account, "runner ")
		if is {
			out = append(out, Lined{Runner: name, ID: l.ID})
		}
	}
	return out
}

// Cut ends the line of a runner now. It comes again by itself where its key is still good.
func (h *Hub) Cut(runner string) error {
	var errs []error
	for _, l := range h.Up() {
		if l.Runner == runner {
			errs = append(errs, h.engine.DisconnectClientByID(l.ID))
		}
	}
	return errors.Join(errs...)
}

package line

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httputil"
	"net/url"
	"strings"
	"sync/atomic"
	"time"

	"github.com/nats-io/nats-server/v2/server"
	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
)

// Joining is how a runner reaches the application.
type Joining struct {
	Address *url.URL   // by which people reach the application
	Others  []*url.URL // further ones of it, as the members of a fleet have: the next is tried where one fails
	Name    string
	Key     string
	TLS     *tls.Config // nil: the machine's own authorities
	Dir     string      // what the runner keeps
	Log     *slog.Logger
}

func (j *Joining) all() []*url.URL { return append([]*url.URL{j.Address}, j.Others...) }

// Leaf is a runner's side of its line: an engine that keeps what comes while the line is cut.
type Leaf struct {
	Conn   *nats.Conn
	Stream jetstream.JetStream
	engine *server.Server
	way    *http.Server
	last   atomic.Value // string: why the line cannot be had
	turn   atomic.Int64 // which address is tried
}

// Join starts the runner's side. It does not wait for the line: that comes and goes by itself.
func Join(ctx context.Context, j Joining) (*Leaf, error) {
	if err := CheckName(j.Name); err != nil {
		return nil, err
	}
	for _, at := range j.all() {
		if at.Scheme != "https" && at.Scheme != "http" {
			return nil, fmt.Errorf("%s is no address of an application: it begins with https://", at)
		}
	}
	l := &Leaf{}
	near, err := l.outward(j)
	if err != nil {
		return nil, err
	}
	own := []string{"$JS.>", "$KV.>", "$O.>", Own + ">"}
	o := quiet()
	o.ServerName, o.DontListen = "runner-"+j.Name, true
	o.JetStream, o.StoreDir, o.SyncAlways, o.JetStreamDomain = true, j.Dir, true, j.Name
	o.LeafNode = server.LeafNodeOpts{ReconnectInterval: time.Second, Remotes: []*server.RemoteLeafOpts{{
		URLs: []*url.URL{{Scheme: "ws", Host: near, User: url.UserPassword(j.Name, j.Key)}},
		// What it keeps is its own affair: only what it is asked and answers goes over the line.
		DenyImports: own, DenyExports: own,
		FirstInfoTimeout: 20 * time.Second,
	}}}
	if l.engine, err = server.NewServer(o); err == nil {
		err = ready(l.engine)
	}
	if err != nil {
		_ = l.way.Close()
		return nil, fmt.Errorf("the engine of the runner: %w", err)
	}
	l.Conn, err = nats.Connect("", nats.InProcessServer(l.engine), nats.MaxReconnects(-1))
	if err == nil {
		l.Stream, err = jetstream.New(l.Conn)
	}
	if err != nil {
		l.Close()
		return nil, err
	}
	return l, nil
}

// outward opens the way out, for this machine alone: what the engine says to it goes on to the
// application, with the key. Proxies, certificates and HTTP are the standard library's so.
func (l *Leaf) outward(j Joining) (near string, err error) {
	t := &http.Transport{Proxy: http.ProxyFromEnvironment, TLSClientConfig: j.TLS,
		TLSHandshakeTimeout:   20 * time.Second,
		ResponseHeaderTimeout: 20 * time.Second, ForceAttemptHTTP2: false, DisableKeepAlives: true,
		// An empty map keeps it at HTTP/1.1, which alone can be upgraded.
		TLSNextProto: map[string]func(string, *tls.Conn) http.RoundTripper{}}
	all := j.all()
	now := func() *url.URL { return all[int(l.turn.Load())%len(all)] }
	way := &httputil.ReverseProxy{
		Transport: t,
		Rewrite: func(r *httputil.ProxyRequest) {
			at := now()
			r.SetURL(at)
			r.Out.URL.Path = strings.TrimRight(at.Path, "/") + Path
			r.Out.Host = at.Host
			r.Out.SetBasicAuth(j.Name, j.Key)
		},
		ModifyResponse: func(r *http.Response) error {
			if r.StatusCode == http.StatusSwitchingProtocols {
				l.last.Store("")
				return nil
			}
			said, _ := io.ReadAll(io.LimitReader(r.Body, 500))
			return fmt.Errorf("%s answers %s: %s", r.Request.URL.Host, r.Status, said)
		},
		ErrorHandler: func(w http.ResponseWriter, _ *http.Request, err error) {
			if l.last.Swap(err.Error()) != err.Error() { // it is tried each second
				j.Log.Warn("the line cannot be had", "application", now().Host, "error", err)
			}
			l.turn.Add(1)
			w.WriteHeader(http.StatusBadGateway)
		},
		ErrorLog: slog.NewLogLogger(j.Log.Handler(), slog.LevelDebug),
	}
	at, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", err
	}
	l.way = &http.Server{Handler: way, ReadHeaderTimeout: 10 * time.Second}
	go func() { _ = l.way.Serve(at) }()
	return at.Addr().String(), nil
}

// Linked tells whether the line is up.
func (l *Leaf) Linked() bool { return l.engine.NumLeafNodes() > 0 }

// Why says why the line could not be had the last time; "" where it could.
func (l *Leaf) Why() string {
	why, _ := l.last.Load().(string)
	return why
}

// Close ends the line and the engine.
func (l *Leaf) Close() {
	if l.Conn != nil {
		l.Conn.Close()
	}
	if l.engine != nil {
		l.engine.Shutdown()
		l.engine.WaitForShutdown()
	}
	if err := l.way.Close(); err != nil && !errors.Is(err, http.ErrServerClosed) {
		return
	}
}

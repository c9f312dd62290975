package main

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/spf13/pflag"

	"readyferry/api"
	"readyferry/api/listen"
)

// door is how the application is reached, as it is told on the command line.
type door struct {
	listen, messages string
	cert, key        string
	selfMade         bool
	public, callers  string
	hosts, proxies   []string
	unsigned         []string
	perAddress       int
}

func (d *door) flags(f *pflag.FlagSet) {
	f.StringVar(&d.listen, "listen", "127.0.0.1:8420", "address to listen on")
	f.StringVar(&d.messages, "listen-messages", "",
		"address of its own for webhooks (/in) and queues (/out), which are not served\n"+
			"at --listen then")
	f.StringVar(&d.cert, "tls-cert", "", "file with the certificate, and those above it, in PEM; read anew when it changes")
	f.StringVar(&d.key, "tls-key", "", "file with its key in PEM")
	f.BoolVar(&d.selfMade, "tls-self-made", false, "speak TLS with a certificate that is made here, for trials")
	f.StringVar(&d.public, "public-url", "",
		"address by which people reach the application, such as https://ferry.example.org,\n"+
			"where that is not --listen")
	f.StringVar(&d.callers, "public-messages-url", "",
		"address by which callers reach webhooks and queues, where that is another")
	f.StringSliceVar(&d.hosts, "host", nil, "further name by which it may be called; as often as there are some")
	f.StringSliceVar(&d.proxies, "trusted-proxy", nil,
		"address or range of a proxy whose word about a caller's address and\n"+
			"scheme is taken; as often as there are some")
	f.StringSliceVar(&d.unsigned, "open", []string{"healthz"},
		"which of healthz and metrics answer without sign-in; none: neither")
	f.IntVar(&d.perAddress, "connections-per-address", listen.Usual,
		"connections that one address may have open at once")
}

// entrance is the door while it is open.
type entrance struct {
	api.Door
	address   string // for people
	inside    string // for the application's own calls, over loopback without TLS
	listeners map[string]net.Listener
	servers   []*http.Server
}

// The listeners of an entrance.
const (
	forAll      = "all"
	forPeople   = "people"
	forMessages = "messages"
	forItself   = "itself"
)

// begin listens where it is told.
func (d *door) begin(data string, log *slog.Logger) (*entrance, error) {
	e := &entrance{listeners: map[string]net.Listener{}}
	if err := d.read(e); err != nil {
		return nil, err
	}
	secure, err := d.tls(data, log)
	if err != nil {
		return nil, err
	}
	e.Secure = secure != nil
	c := listen.Config{Address: d.listen, PerAddress: d.perAddress, Trusted: e.Proxies, TLS: secure}
	main := forAll
	if d.messages != "" {
		main = forPeople
	}
	if err := e.add(main, c); err != nil {
		return nil, err
	}
	at := e.listeners[main].Addr().(*net.TCPAddr)
	e.Loopback, e.address = at.IP.IsLoopback(), scheme(secure)+reachable(at)
	if e.inside = e.address; d.messages != "" {
		c.Address = d.messages
		if err := e.add(forMessages, c); err != nil {
			return nil, errors.Join(err, e.Close())
		}
		if e.Messages == nil {
			e.Messages = &url.URL{Scheme: strings.TrimSuffix(scheme(secure), "://"),
				Host: reachable(e.listeners[forMessages].Addr().(*net.TCPAddr))}
		}
	}
	if secure != nil || d.messages != "" || !e.Loopback || e.Public != nil {
		if err := e.add(forItself, listen.Config{Address: "127.0.0.1:0", PerAddress: 1 << 20}); err != nil {
			return nil, errors.Join(err, e.Close())
		}
		e.inside = "http://" + e.listeners[forItself].Addr().String()
	}
	if e.Public != nil {
		e.address = e.Public.String()
	}
	return e, nil
}

func scheme(secure *tls.Config) string {
	if secure != nil {
		return "https://"
	}
	return "http://"
}

func (e *entrance) add(part string, c listen.Config) (err error) {
	e.listeners[part], err = listen.Open(c)
	if err != nil {
		delete(e.listeners, part)
	}
	return err
}

// read takes what was told apart.
func (d *door) read(e *entrance) (err error) {
	if e.Public, err = address("--public-url", d.public); err != nil {
		return err
	}
	if e.Messages, err = address("--public-messages-url", d.callers); err != nil {
		return err
	}
	if e.Hosts = d.hosts; e.Messages != nil {
		e.Hosts = append(slices.Clone(e.Hosts), e.Messages.Host)
	}
	for _, text := range d.proxies {
		p, err := netip.ParsePrefix(text)
		if a, one := netip.ParseAddr(text); err != nil && one == nil {
			p, err = a.Prefix(a.BitLen())
		}
		if err != nil {
			return fmt.Errorf("--trusted-proxy takes addresses and ranges such as 10.0.0.1 and 10.0.0.0/24, not %q", text)
		}
		e.Proxies = append(e.Proxies, p.Masked())
	}
	for _, one := range d.unsigned {
		if !slices.Contains([]string{"healthz", "metrics", "none"}, one) {
			return fmt.Errorf("--open takes healthz, metrics or none, not %q", one)
		}
	}
	e.Open = d.unsigned
	return nil
}

func address(flag, text string) (*url.URL, error) {
	if text == "" {
		return nil, nil
	}
	u, err := url.Parse(strings.TrimSuffix(text, "/"))
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" || u.Path != "" || u.User != nil {
		return nil, fmt.Errorf("%s is written as https://host or https://host:port, not %q", flag, text)
	}
	return u, nil
}

// tls gives what the listeners need for it; nil where they speak none.
func (d *door) tls(data string, log *slog.Logger) (*tls.Config, error) {
	switch {
	case d.selfMade && d.cert+d.key != "":
		return nil, errors.New("give --tls-self-made, or --tls-cert and --tls-key")
	case (d.cert == "") != (d.key == ""):
		return nil, errors.New("--tls-cert and --tls-key belong together")
	case d.selfMade:
		files, err := listen.SelfMade(data, d.names(), log, time.Now())
		if err != nil {
			return nil, err
		}
		return files.Config()
	case d.cert != "":
		return (&listen.Files{Cert: d.cert, Key: d.key, Log: log}).Config()
	}
	return nil, nil
}

// names are those that a self-made certificate is good for.
func (d *door) names() []string {
	names := append([]string{"localhost", "127.0.0.1", "::1"}, d.hosts...)
	for _, at := range []string{d.listen, d.messages} {
		if host, _, err := net.SplitHostPort(at); err == nil && host != "" && net.ParseIP(host) != nil {
			names = append(names, host)
		}
	}
	for _, text := range []string{d.public, d.callers} {
		if u, err := url.Parse(text); err == nil && u.Hostname() != "" {
			names = append(names, u.Hostname())
		}
	}
	return names
}

// handlersOf makes what answers at each listener.
func handlersOf(c api.Config) map[string]http.Handler {
	application, messages := api.Split(c)
	own := c
	own.Door = api.Door{Loopback: true, Itself: true}
	return map[string]http.Handler{forAll: api.New(c), forPeople: application, forMessages: messages,
		forItself: api.New(own)}
}

// serve answers at every listener; what is given is why one of them ended.
func (e *entrance) serve(handlers map[string]http.Handler, log *slog.Logger) <-chan error {
	failed := make(chan error, len(e.listeners))
	for part, l := range e.listeners {
		server := &http.Server{Handler: handlers[part], ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute,
			MaxHeaderBytes: 64 << 10, ErrorLog: slog.NewLogLogger(log.Handler(), slog.LevelDebug)}
		e.servers = append(e.servers, server)
		go func() { failed <- server.Serve(l) }()
	}
	return failed
}

// shutdown lets what is under way come to its end, for so long.
func (e *entrance) shutdown(within time.Duration) error {
	end, cancel := context.WithTimeout(context.Background(), within)
	defer cancel()
	var all []error
	for _, s := range e.servers {
		if err := s.Shutdown(end); err != nil {
			all = append(all, s.Close())
		}
	}
	return errors.Join(all...)
}

// Close implements io.Closer.
func (e *entrance) Close() error {
	var all []error
	for _, l := range e.listeners {
		if err := l.Close(); err != nil && !errors.Is(err, net.ErrClosed) {
			all = append(all, err)
		}
	}
	return errors.Join(all...)
}

// reachable gives an address that this machine can call.
func reachable(a *net.TCPAddr) string {
	if a.IP.IsUnspecified() {
		return fmt.Sprintf("127.0.0.1:%d", a.Port)
	}
	return a.String()
}

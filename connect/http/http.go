// Package http is the system of everything that speaks HTTP: deliveries, questions
// and polls go out through it, and it tells what a webhook says. One call is one
// try: no redirects are followed, nothing is repeated, and the answer is read up
// to a limit.
package http

import (
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/net/http/httpproxy"

	"readyferry/connect"
	"readyferry/connect/reach"
	"readyferry/connect/token"
	"readyferry/core/message"
	"readyferry/core/retry"
	"readyferry/core/step"
	"readyferry/core/system"
	"readyferry/core/trace"
)

// Kind is the name of the system in documents.
const Kind = "http"

// maxAnswer is the largest answer that is taken where the connection says nothing, in
// bytes; one may say up to mostAnswer.
const (
	maxAnswer  = 1 << 20
	mostAnswer = 64 << 20
)

const connectionSchema = `{
	"required": ["address"],
	"properties": {
		"address": {"type": "string", "title": "Base address", "default": "https://", "description":
			"https://host/path, or stand-in://name for one that ships with the application"},
		` + signInProperty + `,
		"largest-answer": {"type": "integer", "title": "Largest answer", "minimum": 1024, "maximum": 67108864,
			"default": 1048576, "description": "bytes; a larger one is not taken, and the message is a dead letter that says so"},
		"test": {"type": "object", "title": "Test", "additionalProperties": false, "properties": {
			"method": {"enum": ["GET", "HEAD", "OPTIONS", "POST"], "title": "The test's method", "default": "GET"},
			"path": {"type": "string", "title": "The test calls", "default": "/", "description": "path below the address"}}},
		"encoding": {"enum": ["none", "gzip"], "title": "Sent as", "default": "none", "titles": {"none": "it is", "gzip":
			"gzip, from 1 KB on"}, "description": "how bodies are compressed; the system must understand it"},
		` + reach.WayProperties + `
	}
}`

// New makes the system. standIns is the base address of simulated systems, "" for
// none.
func New(standIns string) connect.System {
	d := &dialer{standIns: strings.TrimRight(standIns, "/"), ours: own(standIns)}
	d.shared = &http.Client{
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
		Transport: &http.Transport{
			Proxy:               http.ProxyFromEnvironment,
			DialContext:         d.dial,
			MaxIdleConnsPerHost: 256, IdleConnTimeout: 60 * time.Second, ForceAttemptHTTP2: true,
		},
	}
	return connect.System{
		Kind: system.Kind{
			Name: Kind, Title: "HTTP", Summary: "A system with an HTTP interface: an API, a web service, a partner's webhook.",
			Sentence: "{method} {to} {path}[, {retry.tries} tries]",
			Deliver:  system.Schema(step.HTTPDelivery), Ask: system.Schema(step.HTTPQuestion),
		},
		Outcomes: outcomes(), Connection: system.Schema(connectionSchema), Check: func(c *connect.Connection, found connect.Found) {
			checkAddress(c, found)
			checkSignIn(c, found)
			reach.CheckTLS(c, found)
		},
		Open: func(_ context.Context, c *connect.Connection) (connect.Link, error) { return d.open(c) },
	}
}

// calling is the key of a context under which the connection of a call stands.
type calling struct{}

// asking sends the calls of one connection, over a transport that others may share.
type asking struct {
	*http.Transport
	c   *connect.Connection
	own bool // nobody else has the transport
}

// RoundTrip implements http.RoundTripper.
func (a *asking) RoundTrip(r *http.Request) (*http.Response, error) {
	if a.c.Outside == nil {
		return a.Transport.RoundTrip(r)
	}
	return a.Transport.RoundTrip(r.WithContext(context.WithValue(r.Context(), calling{}, a.c)))
}

// CloseIdleConnections lets connections go that only this connection has.
func (a *asking) CloseIdleConnections() {
	if a.own {
		a.Transport.CloseIdleConnections()
	}
}

// patience bounds how long a connection is waited for where no call says otherwise.
const patience = 10 * time.Second

// dial connects to a host as the connection of the call may. The application's own
// stand-ins, and a proxy that the machine's environment names, are its operator's.
func (d *dialer) dial(ctx context.Context, network, at string) (net.Conn, error) {
	c, _ := ctx.Value(calling{}).(*connect.Connection)
	if c == nil || d.ours[at] {
		return (&net.Dialer{Timeout: patience}).DialContext(ctx, network, at)
	}
	limited, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	return c.Dial(limited, network, at)
}

// own gives the addresses that the operator of this machine permits: of the stand-ins, and
// of the proxy in the environment.
func own(standIns string) map[string]bool {
	out := map[string]bool{}
	env := httpproxy.FromEnvironment()
	for _, text := range []string{standIns, env.HTTPProxy, env.HTTPSProxy} {
		u, err := url.Parse(text)
		if err != nil || u.Host == "" {
			continue
		}
		port := u.Port()
		if port == "" {
			port = map[string]string{"https": "443"}[u.Scheme]
		}
		if port == "" {
			port = "80"
		}
		out[net.JoinHostPort(u.Hostname(), port)] = true
	}
	return out
}

func checkAddress(c *connect.Connection, found connect.Found) {
	u, err := url.Parse(c.Address)
	switch {
	case err != nil || u.Host == "" || !slices.Contains([]string{"http", "https", "stand-in"}, u.Scheme):
		found(
			"/address",
			"wrong-value",
			fmt.Sprintf("%q is no address that can be called", c.Address),
			"write it as https://host/path, or stand-in://name for one that ships with the application",
		)
	case u.User != nil:
		found(
			"/address",
			"secret-in-text",
			"the address holds a user or password",
			"take them out of the address and use sign-in",
		)
	case u.RawQuery != "" || u.Fragment != "":
		found(
			"/address",
			"wrong-value",
			"the address must not hold a query or fragment",
			"put them into the path of the delivery",
		)
	}
}

// dialer is what all connections share.
type dialer struct {
	shared *http.Client
	// standIns is the address below which the application serves stand-ins.
	standIns string
	ours     map[string]bool // host:port that need no permission
}

// link is one connection. HTTP keeps no session, so there is nothing to close but
// what idles, which closes itself.
type link struct {
	*dialer
	c      *connect.Connection
	client *http.Client
	signer *signer
}

func (d *dialer) open(c *connect.Connection) (*link, error) {
	l := &link{dialer: d, c: c}
	var err error
	if l.client, err = clientOf(d.shared, c); err != nil {
		return nil, err
	}
	l.signer, err = l.newSigner()
	return l, err
}

// Close implements connect.Link.
func (l *link) Close() error {
	l.client.CloseIdleConnections()
	return nil
}

// Send implements connect.Sender.
func (l *link) Send(ctx context.Context, r connect.Request) (connect.Receipt, error) {
	a, err := l.call(ctx, r)
	if err != nil {
		return connect.Receipt{}, err
	}
	if a.cut && r.Rules.Classify(a.status) == retry.Delivered {
		// Half of an answer is no answer, and asking again would bring the same.
		return connect.Receipt{}, connect.Final(fmt.Errorf(
			"%s answered %d with more than %d bytes, the largest answer that its connection takes (largest-answer)",
			l.c.Name, a.status, l.largest(),
		))
	}
	out := connect.Receipt{
		Outcome: r.Rules.Classify(a.status),
		Code:    fmt.Sprint(a.status),
		Headers: a.headers,
		Answer:  bytes.NewReader(a.body),
	}
	for _, h := range a.headers {
		if h.Name == "Retry-After" {
			out.After, _ = retry.RetryAfter(h.Value, time.Now())
		}
	}
	return out, nil
}

// Ask implements connect.Asker: over HTTP a question is a call like any other.
func (l *link) Ask(ctx context.Context, r connect.Request) (connect.Receipt, error) {
	return l.Send(ctx, r)
}

// answer is what came back.
type answer struct {
	status  int
	headers []message.Header
	body    []byte
	cut     bool // there is more of it
}

// largest gives the size of the largest answer that is taken, in bytes.
func (l *link) largest() int64 {
	if n, err := strconv.ParseInt(l.c.Text("/largest-answer"), 10, 64); err == nil && n > 0 {
		return min(n, mostAnswer)
	}
	return maxAnswer
}

// address makes an address one that can be called.
func (d *dialer) address(text string) (string, error) {
	if rest, ok := strings.CutPrefix(text, "stand-in://"); ok {
		if d.standIns == "" {
			return "", errors.New("there are no stand-ins here")
		}
		text = d.standIns + "/" + rest
	}
	if _, err := url.Parse(text); err != nil {
		return "", fmt.Errorf("the address %s: %w", text, err)
	}
	return text, nil
}

// below gives the address of a path below that of the connection. A path that would lead
// to another host, by what a message brought into it, is none.
func (l *link) below(path string) (string, error) {
	at, err := l.address(l.c.Address + path)
	if err != nil {
		return "", err
	}
	base, err := l.address(l.c.Address)
	if err != nil {
		return "", err
	}
	own, err := url.Parse(base)
	if err != nil {
		return "", err
	}
	if u, err := url.Parse(at); err != nil || u.Host != own.Host || u.Scheme != own.Scheme || u.User != nil {
		return "", fmt.Errorf("the path %q leads to another host than that of %s", path, l.c.Name)
	}
	return at, nil
}

// call makes one call. A token that is refused is fetched anew, once.
func (l *link) call(ctx context.Context, r connect.Request) (answer, error) {
	ctx, cancel := context.WithTimeout(ctx, l.c.TimeLimit)
	defer cancel()
	for again := false; ; again = true {
		req, body, err := l.request(ctx, r)
		if err != nil {
			return answer{}, err
		}
		used, err := l.signer.signIn(ctx, req, body, r.ID, l.c)
		if err != nil {
			return l.unsigned(ctx, err)
		}
		out, err := l.do(ctx, req)
		if err != nil || out.status != http.StatusUnauthorized || used == "" || again {
			return out, err
		}
		l.signer.tokens.Refused(used)
	}
}

// unsigned says why a request could not be signed: a server that refuses a token answers
// for the system behind it.
func (l *link) unsigned(ctx context.Context, err error) (answer, error) {
	var refused *token.Refusal
	switch {
	case errors.As(err, &refused):
		return answer{status: refused.Status, body: []byte(refused.Error())}, nil
	case errors.Is(ctx.Err(), context.DeadlineExceeded):
		return answer{}, fmt.Errorf("%s: no token came within %s", l.c.Name, l.c.TimeLimit)
	}
	return answer{}, err
}

// request makes the request, unsigned.
func (l *link) request(ctx context.Context, r connect.Request) (*http.Request, []byte, error) {
	address, err := l.below(r.Path)
	if err != nil {
		return nil, nil, fmt.Errorf("%w: %w", connect.ErrCannotSend, err)
	}
	bodiless := r.Method == http.MethodGet || r.Method == http.MethodHead
	var body []byte
	var content io.Reader
	folds := !bodiless && l.c.Text("/encoding") == "gzip" && len(r.Body) >= worthFolding
	if !bodiless && r.Content != nil {
		stream, err := r.Content()
		if err != nil {
			return nil, nil, err
		}
		content = stream // the client closes it
	} else if !bodiless {
		body = r.Body
		if folds {
			body = fold(body)
		}
		content = bytes.NewReader(body)
	}
	req, err := http.NewRequestWithContext(ctx, r.Method, address, content)
	if err != nil {
		return nil, nil, fmt.Errorf("%w: %w", connect.ErrCannotSend, err)
	}
	if r.Content != nil && !bodiless {
		req.ContentLength, req.GetBody = r.Size, r.Content
	}
	req.Header.Set("User-Agent", "ReadyFerry/1")
	for _, h := range r.Headers {
		if bodiless && strings.EqualFold(h.Name, "Content-Type") {
			continue
		}
		req.Header.Set(h.Name, h.Value)
	}
	if folds {
		req.Header.Set("Content-Encoding", "gzip")
	}
	if r.ID != "" {
		req.Header.Set("Idempotency-Key", r.ID)
	}
	if r.TraceParent != "" && req.Header.Get(trace.Header) == "" {
		req.Header.Set(trace.Header, r.TraceParent)
	}
	return req, body, nil
}

// Streams implements connect.Streamer: what is signed or compressed is held.
func (l *link) Streams() bool {
	return l.c.Text("/encoding") != "gzip" && l.c.SignIn.Kind != "hmac"
}

// worthFolding is the size from which a body is compressed, in bytes.
const worthFolding = 1 << 10

// fold compresses a body (RFC 1952): the same body to the same bytes, on every try.
func fold(body []byte) []byte {
	var out bytes.Buffer
	w := gzip.NewWriter(&out)
	_, _ = w.Write(body) // into memory, which takes it
	_ = w.Close()
	return out.Bytes()
}

// do sends a request and reads what comes back.
func (l *link) do(ctx context.Context, req *http.Request) (answer, error) {
	c := l.c
	res, err := l.client.Do(req)
	if err != nil {
		return answer{}, plainError(ctx, c, err)
	}
	defer res.Body.Close()
	// Whatever a system answers, also another protocol, ends with the try.
	defer context.AfterFunc(ctx, func() { _ = res.Body.Close() })()
	out := answer{status: res.StatusCode}
	if res.StatusCode != http.StatusSwitchingProtocols { // that was not asked for, and never ends
		if out.body, err = io.ReadAll(io.LimitReader(res.Body, l.largest()+1)); err != nil {
			return answer{}, plainError(ctx, c, err)
		}
		if out.cut = int64(len(out.body)) > l.largest(); out.cut {
			out.body = out.body[:l.largest()]
		}
	}
	for name, values := range res.Header {
		out.headers = append(out.headers, message.Header{Name: name, Value: strings.Join(values, ", ")})
	}
	slices.SortFunc(out.headers, func(a, b message.Header) int { return strings.Compare(a.Name, b.Name) })
	return out, nil
}

// plainError says in words why no answer came. It never holds the address's
// query or a header, which may be secret.
func plainError(ctx context.Context, c *connect.Connection, err error) error {
	var op *net.OpError
	var dns *net.DNSError
	switch {
	case errors.Is(ctx.Err(), context.DeadlineExceeded):
		return fmt.Errorf("%s did not answer within %s", c.Name, c.TimeLimit)
	case errors.Is(err, context.Canceled):
		return fmt.Errorf("the try was interrupted: %w", context.Canceled)
	case errors.As(err, &dns):
		return fmt.Errorf("%s: the host name %s is not known", c.Name, dns.Name)
	case errors.As(err, &op) && op.Op == "dial":
		if strings.Contains(err.Error(), "refused") {
			return fmt.Errorf("%s refused the connection", c.Name)
		}
		return fmt.Errorf("%s cannot be reached: %w", c.Name, op.Err)
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF), strings.Contains(err.Error(), "reset by peer"):
		return fmt.Errorf("%s broke the connection off", c.Name)
	}
	var u *url.Error
	if errors.As(err, &u) {
		err = u.Err
	}
	return fmt.Errorf("%s: %w", c.Name, err)
}

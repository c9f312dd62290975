// Package http is the system of everything that speaks HTTP: deliveries, questions
// and polls go out through it, and it tells what a webhook says. One call is one
// try: no redirects are followed, nothing is repeated, and the answer is read up
// to a limit.
package http

import (
	"bytes"
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

	"readyferry/connect"
	"readyferry/core/message"
	"readyferry/core/retry"
	"readyferry/core/step"
	"readyferry/core/system"
	"readyferry/core/want"
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
		"sign-in": {"type": "object", "title": "Sign-in", "required": ["kind"], "additionalProperties": false, "properties": {
				"kind": {"enum": ["none", "basic", "bearer", "api-key"], "title": "Sign-in", "default": "none",
					"titles": {"basic": "user and password", "bearer": "bearer token", "api-key": "API key in a header"}},
				"user": {"type": "string", "title": "User", "when": {"kind": ["basic"]}},
				"header": {"type": "string", "title": "Header", "default": "x-api-key", "pattern": "^[A-Za-z0-9._-]+$",
					"when": {"kind": ["api-key"]}},
				"secret": {"type": "string", "title": "Secret", "format": "secret", "when": {"kind": ["basic", "bearer",
					"api-key"]}}}},
		"largest-answer": {"type": "integer", "title": "Largest answer", "minimum": 1024, "maximum": 67108864,
			"default": 1048576, "description": "bytes; a larger one is not taken, and the message is a dead letter that says so"},
		"test": {"type": "object", "title": "Test", "additionalProperties": false, "properties": {
			"method": {"enum": ["GET", "HEAD", "OPTIONS", "POST"], "title": "The test's method", "default": "GET"},
			"path": {"type": "string", "title": "The test calls", "default": "/", "description": "path below the address"}}}
	}
}`

// New makes the system. standIns is the base address of simulated systems, "" for
// none.
func New(standIns string) connect.System {
	d := &dialer{standIns: strings.TrimRight(standIns, "/"), client: &http.Client{
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
		Transport: &http.Transport{
			Proxy:               http.ProxyFromEnvironment,
			DialContext:         (&net.Dialer{Timeout: 10 * time.Second}).DialContext,
			MaxIdleConnsPerHost: 32, IdleConnTimeout: 60 * time.Second, ForceAttemptHTTP2: true,
		},
	}}
	return connect.System{
		Kind: system.Kind{
			Name: Kind, Title: "HTTP", Summary: "A system with an HTTP interface: an API, a web service, a partner's webhook.",
			Sentence: "{method} {to} {path}[, {retry.tries} tries]",
			Deliver:  system.Schema(step.HTTPDelivery), Ask: system.Schema(step.HTTPQuestion),
		},
		Connection: system.Schema(connectionSchema), Check: checkAddress,
		Open: func(_ context.Context, c *connect.Connection) (connect.Link, error) { return &link{d, c}, nil },
	}
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
	client *http.Client
	// standIns is the address below which the application serves stand-ins.
	standIns string
}

// link is one connection. HTTP keeps no session, so there is nothing to close but
// what idles, which closes itself.
type link struct {
	*dialer
	c *connect.Connection
}

// Close implements connect.Link.
func (l *link) Close() error { return nil }

// Check implements connect.Link. Any answer but a refused sign-in or a server's
// fault counts as good: the system is there.
func (l *link) Check(ctx context.Context) (connect.Report, error) {
	method := l.c.Text("/test/method")
	if method == "" {
		method = http.MethodGet
	}
	a, err := l.call(ctx, connect.Request{Request: want.Request{Method: method, Path: l.c.Text("/test/path")}})
	r := connect.Report{Headers: a.headers, Answer: a.body}
	if a.status > 0 {
		r.Code = fmt.Sprint(a.status)
	}
	switch {
	case err != nil:
		r.Detail = err.Error()
	case a.status == 401 || a.status == 403:
		r.Detail = fmt.Sprintf("it answers, but refuses the sign-in with %d", a.status)
	case a.status >= 500:
		r.Detail = fmt.Sprintf("it answers, but with its own fault: %d", a.status)
	default:
		r.OK, r.Detail = true, fmt.Sprintf("it answers with %d", a.status)
	}
	return r, nil
}

// Send implements connect.Sender.
func (l *link) Send(ctx context.Context, r connect.Request) (connect.Receipt, error) {
	a, err := l.call(ctx, r)
	if err != nil {
		return connect.Receipt{}, err
	}
	if a.cut && r.Rules.Classify(a.status) == retry.Delivered {
		// Half of an answer is no answer, and asking again would bring the same.
		return connect.Receipt{}, fmt.Errorf(
			"%w: %s answered %d with more than %d bytes, the largest answer that its connection takes",
			connect.ErrCannotSend, l.c.Name, a.status, l.largest(),
		)
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

// url gives the address that a request goes to.
func (l *link) url(path string) (string, error) {
	address := l.c.Address
	if rest, ok := strings.CutPrefix(address, "stand-in://"); ok {
		if l.standIns == "" {
			return "", errors.New("there are no stand-ins here")
		}
		address = l.standIns + "/" + rest
	}
	if _, err := url.Parse(address + path); err != nil {
		return "", fmt.Errorf("the address %s%s: %w", address, path, err)
	}
	return address + path, nil
}

// call makes one call.
func (l *link) call(ctx context.Context, r connect.Request) (answer, error) {
	c := l.c
	ctx, cancel := context.WithTimeout(ctx, c.TimeLimit)
	defer cancel()
	address, err := l.url(r.Path)
	if err != nil {
		return answer{}, fmt.Errorf("%w: %w", connect.ErrCannotSend, err)
	}
	var body io.Reader
	if r.Method != http.MethodGet && r.Method != http.MethodHead {
		body = bytes.NewReader(r.Body)
	}
	req, err := http.NewRequestWithContext(ctx, r.Method, address, body)
	if err != nil {
		return answer{}, fmt.Errorf("%w: %w", connect.ErrCannotSend, err)
	}
	req.Header.Set("User-Agent", "ReadyFerry/1")
	for _, h := range r.Headers {
		if body == nil && strings.EqualFold(h.Name, "Content-Type") {
			continue
		}
		req.Header.Set(h.Name, h.Value)
	}
	if r.ID != "" {
		req.Header.Set("Idempotency-Key", r.ID)
	}
	if err := signIn(req, &c.SignIn); err != nil {
		return answer{}, err
	}
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

func signIn(req *http.Request, s *connect.SignIn) error {
	if s.Kind == connect.SignInNone {
		return nil
	}
	if len(s.Secrets) == 0 {
		return fmt.Errorf("the connection has no secret to sign in with")
	}
	switch s.Kind {
	case connect.SignInBasic:
		req.SetBasicAuth(s.User, s.Secrets[0])
	case connect.SignInBearer:
		req.Header.Set("Authorization", "Bearer "+s.Secrets[0])
	case connect.SignInAPIKey:
		req.Header.Set(s.Header, s.Secrets[0])
	}
	return nil
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

// Package http sends deliveries over HTTP. One call is one try: no redirects
// are followed, nothing is repeated, and the answer is read up to a limit.
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
	"strings"
	"time"

	"readyferry/connect"
	"readyferry/core/message"
)

// maxAnswer is how much of an answer is kept, in bytes.
const maxAnswer = 1 << 20

// Sender sends over HTTP.
type Sender struct {
	client *http.Client
	// standIns is the address below which the application serves stand-ins.
	standIns string
}

// New makes a sender. standIns is the base address of simulated systems.
func New(standIns string) *Sender {
	return &Sender{standIns: strings.TrimRight(standIns, "/"), client: &http.Client{
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
		Transport: &http.Transport{
			Proxy:               http.ProxyFromEnvironment,
			DialContext:         (&net.Dialer{Timeout: 10 * time.Second}).DialContext,
			MaxIdleConnsPerHost: 32, IdleConnTimeout: 60 * time.Second, ForceAttemptHTTP2: true,
		},
	}}
}

// URL gives the address that a request goes to.
func (s *Sender) URL(c *connect.Connection, path string) (string, error) {
	address := c.Address
	if rest, ok := strings.CutPrefix(address, "stand-in://"); ok {
		if s.standIns == "" {
			return "", errors.New("there are no stand-ins here")
		}
		address = s.standIns + "/" + rest
	}
	if _, err := url.Parse(address + path); err != nil {
		return "", fmt.Errorf("the address %s%s: %w", address, path, err)
	}
	return address + path, nil
}

// Send implements connect.Sender.
func (s *Sender) Send(ctx context.Context, c *connect.Connection, r connect.Request) (connect.Answer, error) {
	ctx, cancel := context.WithTimeout(ctx, c.TimeLimit)
	defer cancel()
	address, err := s.URL(c, r.Path)
	if err != nil {
		return connect.Answer{}, fmt.Errorf("%w: %w", connect.ErrCannotSend, err)
	}
	var body io.Reader
	if r.Method != http.MethodGet && r.Method != http.MethodHead {
		body = bytes.NewReader(r.Body)
	}
	req, err := http.NewRequestWithContext(ctx, r.Method, address, body)
	if err != nil {
		return connect.Answer{}, fmt.Errorf("%w: %w", connect.ErrCannotSend, err)
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
		return connect.Answer{}, err
	}
	res, err := s.client.Do(req)
	if err != nil {
		return connect.Answer{}, plainError(ctx, c, err)
	}
	defer res.Body.Close()
	content, err := io.ReadAll(io.LimitReader(res.Body, maxAnswer))
	if err != nil {
		return connect.Answer{}, plainError(ctx, c, err)
	}
	answer := connect.Answer{Status: res.StatusCode, Body: content}
	for name, values := range res.Header {
		answer.Headers = append(answer.Headers, message.Header{Name: name, Value: strings.Join(values, ", ")})
	}
	slices.SortFunc(answer.Headers, func(a, b message.Header) int { return strings.Compare(a.Name, b.Name) })
	return answer, nil
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

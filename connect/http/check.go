package http

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"

	"golang.org/x/oauth2"

	"readyferry/connect"
	"readyferry/connect/reach"
	"readyferry/connect/token"
	"readyferry/core/want"
)

// Check implements connect.Link. Any answer but a refused sign-in or a server's
// fault counts as good: the system is there.
func (l *link) Check(ctx context.Context) (connect.Report, error) {
	var w reach.Way
	if err := l.stepThere(ctx, &w); err != nil {
		return w.Report(err, "", "the sign-in", "the answer"), nil
	}
	method := l.c.Text("/test/method")
	if method == "" {
		method = http.MethodGet
	}
	a, err := l.call(ctx, connect.Request{Request: want.Request{Method: method, Path: l.c.Text("/test/path")}})
	r := connect.Report{Headers: a.headers, Answer: a.body, Steps: w.Steps}
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
	if !r.OK {
		w.Failed(&reach.Error{Step: method + " " + l.c.Text("/test/path"), Err: errors.New(r.Detail), Repair: whatToDo(a.status)})
		r.Steps = w.Steps
	}
	return r, nil
}

// stepThere goes the way to the system step by step, as far as that can be seen: its name,
// the port, TLS, and a token.
func (l *link) stepThere(ctx context.Context, w *reach.Way) error {
	ctx, cancel := context.WithTimeout(ctx, l.c.TimeLimit)
	defer cancel()
	if !strings.HasPrefix(l.c.Address, reach.StandInScheme) {
		door := &reach.Door{Schemes: map[string]string{"http": "80", "https": "443"}, Path: true}
		conn, err := door.Dial(ctx, l.c, w)
		if err != nil {
			return err
		}
		_ = conn.Close()
	}
	if l.signer.tokens == nil {
		return nil
	}
	if _, err := l.signer.tokens.Token(ctx); err != nil {
		repair := "look at the client id, the secret or key, and the scope"
		if errors.Is(err, token.ErrNotSignedIn) {
			repair = "sign in with the button of that name"
		}
		return &reach.Error{Step: "getting a token", Err: err, Repair: repair}
	}
	w.Did("a token is given")
	return nil
}

// whatToDo says how an answer that is none is mended.
func whatToDo(status int) string {
	switch {
	case status == 401, status == 403:
		return "look at how it is signed in, and at what that is permitted"
	case status >= 500:
		return "ask those who run it; or let the test call another path"
	}
	return "look whether it runs, and whether the path of the test is one that it answers"
}

// Invite implements connect.Inviter: a person signs in by the authorization code of OAuth 2
// with a proof of possession (RFC 6749, 4.1; RFC 7636).
func (l *link) Invite(back, state string) (string, func(ctx context.Context, code string) (string, error), error) {
	if l.signer.tokens == nil || l.c.Text("/sign-in/grant") != token.AuthorizationCode {
		return "", nil, errors.New("nobody signs in to this connection by hand")
	}
	authorize, err := l.address(l.c.Text("/sign-in/authorize-address"))
	if err != nil {
		return "", nil, err
	}
	tokens, err := l.address(l.c.Text("/sign-in/token-address"))
	if err != nil {
		return "", nil, err
	}
	config, verifier := token.Config(l.c, back, authorize, tokens), oauth2.GenerateVerifier()
	redeem := func(ctx context.Context, code string) (string, error) {
		ctx, cancel := context.WithTimeout(context.WithValue(ctx, oauth2.HTTPClient, l.client), l.c.TimeLimit)
		defer cancel()
		t, err := config.Exchange(ctx, code, oauth2.VerifierOption(verifier))
		if err != nil {
			return "", fmt.Errorf("the code was not taken: %w", token.InWords(err))
		}
		if t.RefreshToken == "" {
			return "", errors.New("the server gives no refresh token, so the sign-in would not last; ask for one by the scope, often offline_access")
		}
		return t.RefreshToken, nil
	}
	return config.AuthCodeURL(state, oauth2.AccessTypeOffline, oauth2.S256ChallengeOption(verifier)), redeem, nil
}

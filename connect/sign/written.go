package sign

import (
	"crypto/sha256"
	"crypto/subtle"
	"fmt"
	"strconv"
	"time"
	"unicode/utf8"

	"readyferry/core/expr"
	"readyferry/core/message"
)

// Template is a signature that is written as a template over a keyed digest, such as
// sha256=${hmac(request.body, secret, "sha256")}. It sees request, with method, authority,
// path, query, body, time and id, and the connection's secret; nothing of a message.
type Template struct{ of *expr.Template }

// ReadTemplate compiles one. The error is an *expr.CompileError.
func ReadTemplate(source string) (*Template, error) {
	env, err := expr.New()
	if err != nil {
		return nil, err
	}
	if env, err = env.With("request", "secret"); err != nil {
		return nil, err
	}
	t, err := env.CompileTemplate(source, expr.PlainText)
	if err != nil {
		return nil, err
	}
	return &Template{t}, nil
}

// Eval gives the signature of a request. id and at are what the sender says, "" and the
// zero time for nothing.
func (t *Template) Eval(r *Request, secret, id string, at time.Time) (string, error) {
	if !utf8.Valid(r.Body) {
		return "", fmt.Errorf("the body is no text, so a template cannot sign it")
	}
	stamp := ""
	if !at.IsZero() {
		stamp = strconv.FormatInt(at.Unix(), 10)
	}
	request := message.NewMap()
	for name, value := range map[string]string{"method": r.Method, "authority": r.Authority, "path": r.Path, "query": r.Query,
		"body": string(r.Body), "time": stamp, "id": id} {
		request = request.With(name, message.NewString(value))
	}
	out, err := t.of.Eval(&expr.Scope{Now: at, Locals: map[string]*message.Node{"request": request, "secret": message.NewString(secret)}})
	if err != nil {
		return "", fmt.Errorf("the template of the signature: %w", err)
	}
	return out, nil
}

// Verify checks a signature that came in a header against several secrets. timeHeader
// names the header with the time that is signed, in Unix seconds; "" for none.
func (t *Template) Verify(r *Request, header, timeHeader string, secrets []string, now time.Time) error {
	at := time.Time{}
	if timeHeader != "" {
		seconds, err := strconv.ParseInt(r.Header.Get(timeHeader), 10, 64)
		if err != nil {
			return fmt.Errorf("%w: %s holds no time", ErrNotSigned, timeHeader)
		}
		at = time.Unix(seconds, 0)
		if err := timely(at, now); err != nil {
			return err
		}
	}
	given, ok := r.Header.Get(header), 0
	for _, secret := range secrets {
		want, err := t.Eval(r, secret, r.Header.Get("Idempotency-Key"), at)
		if err != nil {
			return fmt.Errorf("%w: %w", ErrNotSigned, err)
		}
		a, b := sha256.Sum256([]byte(given)), sha256.Sum256([]byte(want))
		ok |= subtle.ConstantTimeCompare(a[:], b[:])
	}
	if ok != 1 || given == "" {
		return fmt.Errorf("%w: no secret fits", ErrNotSigned)
	}
	return nil
}

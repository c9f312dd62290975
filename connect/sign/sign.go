// Package sign makes and checks the signatures that HTTP requests carry: those of Standard
// Webhooks, HTTP Message Signatures (RFC 9421) and any that can be written as a template
// over a keyed digest. Everything that is compared with a secret takes the same time
// whatever it is compared with.
//
// A Request is what is signed; both sides make it of what they send or have received.
package sign

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"
)

// The schemes.
const (
	StandardWebhooks = "standard-webhooks"
	MessageSignature = "message-signature"
	Written          = "template"
)

// Tolerance is how far a signed time may lie from now (Standard Webhooks; common practice).
const Tolerance = 5 * time.Minute

// ErrNotSigned is what a request comes to whose signature does not hold. What was wrong is
// wrapped behind it, for logs, not for the caller.
var ErrNotSigned = errors.New("the signature does not hold")

// Request is an HTTP request as it is signed.
type Request struct {
	Method    string
	Authority string // the host, with the port where it is not the usual one
	Scheme    string // http or https
	Path      string // as it is sent, escaped
	Query     string // as it is sent, without the question mark
	Header    http.Header
	Body      []byte
}

// Of gives what is signed of a request with a body.
func Of(r *http.Request, body []byte) *Request {
	authority := r.Host
	if authority == "" {
		authority = r.URL.Host
	}
	path := r.URL.EscapedPath()
	if path == "" {
		path = "/"
	}
	return &Request{Method: r.Method, Authority: strings.ToLower(authority), Scheme: r.URL.Scheme, Path: path,
		Query: r.URL.RawQuery, Header: r.Header, Body: body}
}

// Webhook signs as the Standard Webhooks specification has it: HMAC-SHA256 (RFC 2104) over
// "id.timestamp.body" in base64 behind "v1,". The secret is base64, with or without
// the prefix "whsec_".
func Webhook(secret, id string, unix int64, body []byte) (string, error) {
	key, err := base64.StdEncoding.DecodeString(strings.TrimPrefix(secret, "whsec_"))
	if err != nil {
		return "", fmt.Errorf("the secret is not base64: %w", err)
	}
	mac := hmac.New(sha256.New, key)
	fmt.Fprintf(mac, "%s.%d.", id, unix)
	mac.Write(body)
	return "v1," + base64.StdEncoding.EncodeToString(mac.Sum(nil)), nil
}

// SignWebhook puts the headers of Standard Webhooks on a request.
func SignWebhook(r *Request, secret, id string, now time.Time) error {
	signature, err := Webhook(secret, id, now.Unix(), r.Body)
	if err != nil {
		return err
	}
	r.Header.Set("webhook-id", id)
	r.Header.Set("webhook-timestamp", strconv.FormatInt(now.Unix(), 10))
	r.Header.Set("webhook-signature", signature)
	return nil
}

// VerifyWebhook checks the headers of Standard Webhooks against several secrets, of which
// one must fit.
func VerifyWebhook(r *Request, secrets []string, now time.Time) error {
	id, stamp, given := r.Header.Get("webhook-id"), r.Header.Get("webhook-timestamp"), r.Header.Get("webhook-signature")
	seconds, err := strconv.ParseInt(stamp, 10, 64)
	if err != nil || id == "" {
		return fmt.Errorf("%w: an id or a time is missing", ErrNotSigned)
	}
	if err := timely(time.Unix(seconds, 0), now); err != nil {
		return err
	}
	ok := false
	for _, secret := range secrets {
		want, err := Webhook(secret, id, seconds, r.Body)
		if err != nil {
			continue
		}
		for _, signature := range strings.Fields(given) {
			if hmac.Equal([]byte(signature), []byte(want)) {
				ok = true
			}
		}
	}
	if !ok {
		return fmt.Errorf("%w: no secret fits", ErrNotSigned)
	}
	return nil
}

func timely(at, now time.Time) error {
	if at.Before(now.Add(-Tolerance)) || at.After(now.Add(Tolerance)) {
		return fmt.Errorf("%w: its time is more than %s from now", ErrNotSigned, Tolerance)
	}
	return nil
}

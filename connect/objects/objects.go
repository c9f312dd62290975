// Package objects is the system of object storage that is reached by the S3 interface: a
// bucket is shown as a place with files, whose folders are the parts of names before a slash.
// What connect/folder promises of files holds of objects; an object is written at once and
// whole.
package objects

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"
	"sync/atomic"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"

	"readyferry/connect"
	"readyferry/connect/folder"
	"readyferry/connect/reach"
	"readyferry/core/retry"
	"readyferry/core/system"
)

// Kind is the name of the system in documents.
const Kind = "objects"

var connectionSchema = `{"required": ["address"], "properties": {
	"address": {"type": "string", "title": "Address", "default": "https://", "description":
		"https://host/bucket, with a prefix behind it where there is one; http:// without TLS, or stand-in://name",
		"examples": ["https://objects.example.org/exchange/incoming"]},
	"region": {"type": "string", "title": "Region", "maxLength": 100, "default": "us-east-1"},
	` + reach.SignInProperty(connect.SignInNone, connect.SignInBasic) + `,
	` + reach.WayProperties + `}}`

const askSchema = `{"required": ["object"], "properties": {
	"object": {"type": "string", "title": "Object", "format": "template", "minLength": 1, "description":
		"its name below the prefix of the connection; what is in it is the answer", "examples": ["covers/${body.item}.jpg"]}}}`

// New makes the system. standIn reaches simulated storage by its name; nil where there is
// none.
func New(standIn func(name string) (net.Conn, error)) connect.System {
	return connect.System{
		Kind: system.Kind{
			Name: Kind, Title: "Object storage", Summary: "A bucket of object storage, by the S3 interface.",
			Sentence: "write {name}[ into {folder}] at {to}",
			Intake:   system.Schema(folder.IntakeSchema), Deliver: system.Schema(folder.DeliverSchema),
			Ask: system.Schema(askSchema),
		},
		Notes: append([]string{"User and password are the access key and its secret. The first part of the address is the bucket, all behind it a " +
			"prefix; folders are what stands before a slash in a name. An object is written at once, under its own name; nothing can " +
			"be written at its end. Moving is copying, and removing behind that."}, folder.Notes...),
		Outcomes: folder.Outcomes(
			connect.Meaning{Code: "SlowDown, 5xx", Words: "the storage cannot do it at present", Comes: string(retry.Again)},
			connect.Meaning{Code: "other codes", Words: "the storage refuses it", Comes: string(retry.Never)},
		),
		Connection: system.Schema(connectionSchema), Check: check,
		Says: folder.Says,
		Open: func(_ context.Context, c *connect.Connection) (connect.Link, error) {
			l := &link{Link: folder.Link{C: c}}
			l.Join = func(ctx context.Context, w *reach.Way) (folder.Tree, error) { return join(ctx, standIn, c, w) }
			return l, nil
		},
	}
}

// check says what is wrong with an address.
func check(c *connect.Connection, found connect.Found) {
	reach.CheckTLS(c, found)
	u, err := url.Parse(c.Address)
	if err == nil && u.User != nil {
		found("/address", "secret-in-text", "the address holds a user or password",
			"take them out of the address and use sign-in")
		return
	}
	standIn := err == nil && u.Scheme == reach.StandInScheme && u.Host != ""
	real := err == nil && (u.Scheme == "http" || u.Scheme == "https") && u.Host != "" && len(u.Path) > 1
	if !standIn && !real || u.RawQuery != "" || u.Fragment != "" {
		found("/address", "wrong-value", fmt.Sprintf("%q is no address of a bucket", c.Address),
			"write it as https://host/bucket")
	}
}

// link is a bucket.
type link struct{ folder.Link }

// tree is a bucket as a place with files.
type tree struct {
	ctx            context.Context
	end            context.CancelFunc
	client         *minio.Client
	bucket, prefix string
}

// mostAnswer is how much of an answer is read: an object of the largest size, and more
// than any list.
const mostAnswer = 64 << 20

// bounded reads answers of servers that may be anything.
type bounded struct{ next http.RoundTripper }

// RoundTrip implements http.RoundTripper.
func (b *bounded) RoundTrip(r *http.Request) (*http.Response, error) {
	res, err := b.next.RoundTrip(r)
	if err == nil {
		res.Body = &body{res.Body, io.LimitReader(res.Body, mostAnswer)}
	}
	return res, err
}

type body struct {
	io.Closer
	io.Reader
}

// join finds the bucket.
func join(ctx context.Context, standIn func(name string) (net.Conn, error), c *connect.Connection,
	w *reach.Way) (folder.Tree, error) {
	u, err := url.Parse(c.Address)
	if err != nil {
		return nil, err
	}
	t := &tree{}
	t.bucket, t.prefix, _ = strings.Cut(strings.TrimPrefix(u.Path, "/"), "/")
	host, secure := u.Host, u.Scheme == "https"
	transport := &http.Transport{ResponseHeaderTimeout: c.TimeLimit, MaxResponseHeaderBytes: 256 << 10,
		DisableCompression: true,
		IdleConnTimeout:    time.Minute, TLSHandshakeTimeout: c.TimeLimit}
	var failed atomic.Pointer[reach.Error]
	if u.Scheme == reach.StandInScheme {
		t.bucket, t.prefix, host = u.Host, strings.TrimPrefix(u.Path, "/"), "stand-in"
		transport.DialContext = func(context.Context, string, string) (net.Conn, error) {
			if standIn == nil {
				return nil, errors.New("there are no stand-ins here")
			}
			return standIn(u.Host)
		}
	} else {
		var config *tls.Config
		if config, err = reach.Config(c, u.Hostname()); err != nil {
			return nil, err
		}
		transport.TLSClientConfig = config
		transport.DialContext = func(ctx context.Context, _, at string) (net.Conn, error) {
			conn, err := reach.DialAt(ctx, c, at, false, nil)
			if step := (*reach.Error)(nil); errors.As(err, &step) {
				failed.Store(step)
			}
			return conn, err
		}
	}
	t.client, err = minio.New(host, &minio.Options{Creds: signIn(c), Secure: secure, Region: region(c), MaxRetries: 1,
		Transport: &bounded{transport}, BucketLookup: minio.BucketLookupPath})
	if err != nil {
		return nil, &reach.Error{Step: "reading the address", Err: err, Repair: "write it as https://host/bucket"}
	}
	t.ctx, t.end = context.WithCancel(context.WithoutCancel(ctx))
	stop := context.AfterFunc(ctx, t.end) // while it is joined; afterwards it lives until it is closed
	there, err := t.client.BucketExists(t.ctx, t.bucket)
	if !stop() || err != nil {
		t.end()
		if step := failed.Load(); step != nil {
			return nil, step
		}
		return nil, &reach.Error{Step: "looking for the bucket " + t.bucket, Err: inWords(ctx, err),
			Repair: "look at the address, the access key and what it permits"}
	}
	if !there {
		t.end()
		return nil, &reach.Error{Step: "looking for the bucket " + t.bucket, Err: errors.New("it is not there"),
			Repair: "make it, or name another one in the address"}
	}
	w.Did("%s is reached", host)
	w.Did("the bucket %s is there", t.bucket)
	return t, nil
}

func signIn(c *connect.Connection) *credentials.Credentials {
	if c.SignIn.Kind == connect.SignInBasic && len(c.SignIn.Secrets) > 0 {
		return credentials.NewStaticV4(c.SignIn.User, c.SignIn.Secrets[0], "")
	}
	return credentials.NewStatic("", "", "", credentials.SignatureAnonymous)
}

func region(c *connect.Connection) string {
	if r := c.Text("/region"); r != "" {
		return r
	}
	return "us-east-1"
}

// inWords says what a server answered, or what happened on the way.
func inWords(ctx context.Context, err error) error {
	var said minio.ErrorResponse
	switch {
	case ctx.Err() != nil || err == nil:
		return errors.New("nobody answered in time")
	case errors.As(err, &said) && said.Code != "":
		return fmt.Errorf("the storage answers %s: %s", said.Code, connect.ShortText(said.Message))
	}
	return errors.New(connect.ShortText(err.Error()))
}

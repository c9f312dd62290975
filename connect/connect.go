// Package connect is the door to outside systems. A connection is a document
// of its own; its secrets are taken out of it when it is read and never stand
// in it again. Each kind of system has a folder here and stands behind Sender.
package connect

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"readyferry/core/flow"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
	"readyferry/core/pointer"
	"readyferry/core/retry"
	"readyferry/core/schema"
	"readyferry/core/step"
	"readyferry/core/want"
)

// The kinds of connection.
const (
	KindHTTP   = "http"
	KindCaller = "caller"
	KindSQL    = "sql"
)

// The drivers of databases.
const (
	DriverSQLite     = "sqlite"
	DriverPostgreSQL = "postgresql"
)

// The ways to sign in.
const (
	SignInNone   = "none"
	SignInBasic  = "basic"
	SignInBearer = "bearer"
	SignInAPIKey = "api-key"
	SignInHMAC   = "hmac"
)

// Connection is an outside system.
type Connection struct {
	Name, Title, Note, Kind string
	Address                 string // http or https URL, or stand-in://name
	SignIn                  SignIn
	TimeLimit               time.Duration // for one try
	InFlight                int           // tries at once
	PerSecond               float64       // tries per second, 0 for no limit
	Retry                   *retry.Plan   // what a delivery uses that names none
	Trip                    int           // "again" outcomes in a row after which deliveries wait; 0: never
	Probe                   time.Duration // pause between probes while they wait
	TestMethod, TestPath    string        // what the test calls
	Driver                  string        // of a database
	Write                   bool          // statements may change the database
}

// SignIn is how one side proves who it is.
type SignIn struct {
	Kind   string
	User   string
	Header string
	Scheme string
	// Secrets are the passwords, tokens or keys; several for a caller that is
	// changing its key.
	Secrets []string
}

// Request is one try of a delivery.
type Request struct {
	ID string // the same on every try: the Idempotency-Key
	want.Request
}

// Answer is what an outside system said.
type Answer struct {
	Status  int
	Headers []message.Header
	Body    []byte
}

// ErrCannotSend is wrapped by errors that no other try would mend: the request
// itself cannot be made.
var ErrCannotSend = errors.New("the request cannot be made")

// Sender hands requests to an outside system.
type Sender interface {
	// Send makes one try. An error means that no answer came.
	Send(ctx context.Context, c *Connection, r Request) (Answer, error)
}

const documentSchema = `{
	"$schema": "https://json-schema.org/draft/2020-12/schema",
	"type": "object", "required": ["readyferry", "name", "kind"],
	"properties": {"readyferry": {"const": "connection/1"}, "kind": {"enum": ["http", "caller", "sql"]}},
	"if": {"properties": {"kind": {"const": "caller"}}},
	"then": {"additionalProperties": false, "required": ["sign-in"], "properties": {
		"readyferry": true, "kind": true, "name": {"$ref": "#/$defs/name"}, "title": {"type": "string"}, "note": {"type": "string"},
		"sign-in": {"type": "object", "required": ["kind"], "additionalProperties": false, "properties": {
			"kind": {"enum": ["api-key", "basic", "hmac"]}, "user": {"type": "string"}, "header": {"$ref": "#/$defs/header"},
			"scheme": {"enum": ["standard-webhooks"]}, "secret": {"type": "string"}, "secrets": {"type": "array", "items": {"type": "string"}}}}}},
	"else": {"if": {"properties": {"kind": {"const": "sql"}}},
	"then": {"additionalProperties": false, "required": ["address", "driver"], "properties": {
		"readyferry": true, "kind": true, "name": {"$ref": "#/$defs/name"}, "title": {"type": "string"}, "note": {"type": "string"},
		"driver": {"enum": ["sqlite", "postgresql"]},
		"address": {"type": "string"},
		"write": {"type": "boolean", "description": "statements may change the database; false by default"},
		"sign-in": {"type": "object", "required": ["kind"], "additionalProperties": false, "properties": {
			"kind": {"enum": ["none", "basic"]}, "user": {"type": "string"}, "secret": {"type": "string"}}},
		"time-limit": {"type": "string"},
		"limits": {"type": "object", "additionalProperties": false, "properties": {
			"in-flight": {"type": "integer", "minimum": 1, "maximum": 1000}, "per-second": {"type": "number", "exclusiveMinimum": 0, "maximum": 100000}}},
		"retry": ` + step.RetrySchema + `,
		"breaker": {"type": "object", "additionalProperties": false, "required": ["trip"], "properties": {
			"trip": {"type": "integer", "minimum": 1, "maximum": 1000}, "probe": {"type": "string"}}}}},
	"else": {"additionalProperties": false, "required": ["address"], "properties": {
		"readyferry": true, "kind": true, "name": {"$ref": "#/$defs/name"}, "title": {"type": "string"}, "note": {"type": "string"},
		"address": {"type": "string"},
		"sign-in": {"type": "object", "required": ["kind"], "additionalProperties": false, "properties": {
			"kind": {"enum": ["none", "basic", "bearer", "api-key"]}, "user": {"type": "string"}, "header": {"$ref": "#/$defs/header"}, "secret": {"type": "string"}}},
		"time-limit": {"type": "string"},
		"limits": {"type": "object", "additionalProperties": false, "properties": {
			"in-flight": {"type": "integer", "minimum": 1, "maximum": 1000}, "per-second": {"type": "number", "exclusiveMinimum": 0, "maximum": 100000}}},
		"retry": ` + step.RetrySchema + `,
		"breaker": {"type": "object", "additionalProperties": false, "required": ["trip"], "properties": {
			"trip": {"type": "integer", "minimum": 1, "maximum": 1000}, "probe": {"type": "string"}}},
		"test": {"type": "object", "additionalProperties": false, "properties": {
			"method": {"enum": ["GET", "HEAD", "OPTIONS", "POST"]}, "path": {"type": "string"}}}}}},
	"$defs": {
		"name": {"type": "string", "pattern": "^[A-Za-z0-9][A-Za-z0-9._-]*$", "maxLength": 100},
		"header": {"type": "string", "pattern": "^[A-Za-z0-9._-]+$"}}
}`

// Document is a connection as it was written, taken apart.
type Document struct {
	Connection *Connection   // without secrets
	Tree       *message.Node // the document without secrets
	Secrets    []string      // what stood in it; nil when nothing did
}

// Read reads a connection document, YAML or JSON. The document is nil when the
// findings hold an error.
func Read(src []byte) (*Document, []flow.Finding) {
	source, bad := flow.Parse(src)
	if bad != nil {
		return nil, []flow.Finding{*bad}
	}
	var findings []flow.Finding
	found := func(ptr, code, msg, repair string) {
		p := source.Value(ptr)
		findings = append(findings, flow.Finding{Level: flow.Error, Code: code, Pointer: ptr, Line: p.Line, Column: p.Column, Message: msg, Repair: repair})
	}
	shape, err := compiled()
	if err != nil {
		found("", "schema", err.Error(), "")
		return nil, findings
	}
	failures, err := shape.Validate(source.Root)
	if err != nil {
		found("", "wrong-value", err.Error(), "")
		return nil, findings
	}
	for _, f := range failures {
		found(f.Pointer, "wrong-value", strings.TrimSpace(strings.TrimPrefix(f.Pointer, "/")+" "+f.Reason), "")
	}
	if len(findings) > 0 {
		return nil, findings
	}
	d := &Document{Tree: source.Root}
	signIn := source.Root.Get("sign-in")
	if s := signIn.Get("secret"); s != nil {
		d.Secrets = append(d.Secrets, s.Text)
	}
	if list := signIn.Get("secrets"); list != nil {
		for _, s := range list.Items {
			d.Secrets = append(d.Secrets, s.Text)
		}
	}
	if slices.Contains(d.Secrets, "") {
		found("/sign-in", "wrong-value", "a secret must not be empty", "leave it out to keep the one that is stored")
	}
	if signIn != nil {
		d.Tree = source.Root.With("sign-in", signIn.Without("secret").Without("secrets"))
	}
	d.Connection = connection(d.Tree, found)
	if len(findings) > 0 {
		return nil, findings
	}
	return d, nil
}

func compiled() (*schema.Schema, error) {
	r, err := jsonfmt.Decode([]byte(documentSchema))
	if err != nil {
		return nil, err
	}
	return schema.Compile(r.Root, nil)
}

func connection(n *message.Node, found func(ptr, code, msg, repair string)) *Connection {
	text := func(ptr string) string {
		p, _ := pointer.Parse(ptr)
		v, err := p.Get(n)
		if err != nil {
			return ""
		}
		return v.Text
	}
	c := &Connection{
		Name: text("/name"), Title: text("/title"), Note: text("/note"), Kind: text("/kind"), Address: strings.TrimRight(text("/address"), "/"),
		SignIn:    SignIn{Kind: text("/sign-in/kind"), User: text("/sign-in/user"), Header: text("/sign-in/header"), Scheme: text("/sign-in/scheme")},
		TimeLimit: 10 * time.Second, InFlight: 8, Probe: 30 * time.Second,
		TestMethod: text("/test/method"), TestPath: text("/test/path"), Driver: text("/driver"), Write: text("/write") == "true",
	}
	if c.Title == "" {
		c.Title = c.Name
	}
	if c.SignIn.Kind == "" {
		c.SignIn.Kind = SignInNone
	}
	if c.SignIn.Kind == SignInAPIKey && c.SignIn.Header == "" {
		c.SignIn.Header = "x-api-key"
	}
	if c.SignIn.Kind == SignInHMAC && c.SignIn.Scheme == "" {
		c.SignIn.Scheme = "standard-webhooks"
	}
	if c.TestMethod == "" {
		c.TestMethod = "GET"
	}
	span := func(ptr string, into *time.Duration) {
		if t := text(ptr); t != "" {
			d, err := flow.Duration(t)
			if err != nil {
				found(ptr, "wrong-value", err.Error(), "write it as 500ms, 10s or 2m")
				return
			}
			*into = d
		}
	}
	span("/time-limit", &c.TimeLimit)
	span("/breaker/probe", &c.Probe)
	if t := text("/limits/in-flight"); t != "" {
		_, _ = fmt.Sscan(t, &c.InFlight)
	}
	if t := text("/limits/per-second"); t != "" {
		_, _ = fmt.Sscan(t, &c.PerSecond)
	}
	if t := text("/breaker/trip"); t != "" {
		_, _ = fmt.Sscan(t, &c.Trip)
	}
	if c.SignIn.Kind == SignInBasic && c.SignIn.User == "" {
		found("/sign-in", "missing-key", "basic sign-in needs a user", "add user:")
	}
	if r := n.Get("retry"); r != nil {
		plan, bad := step.ReadRetry(r)
		for _, b := range bad {
			found("/retry/"+b.Setting, "retry", b.Reason, "")
		}
		if err := plan.Check(); err != nil && len(bad) == 0 {
			found("/retry", "retry", err.Error(), "")
		}
		c.Retry = plan
	}
	if c.Kind == KindSQL {
		c.checkDatabase(found)
	}
	if c.Kind == KindHTTP {
		u, err := url.Parse(c.Address)
		switch {
		case err != nil || u.Host == "" || !slices.Contains([]string{"http", "https", "stand-in"}, u.Scheme):
			found("/address", "wrong-value", fmt.Sprintf("%q is no address that can be called", c.Address), "write it as https://host/path, or stand-in://name for one that ships with the application")
		case u.User != nil:
			found("/address", "secret-in-text", "the address holds a user or password", "take them out of the address and use sign-in")
		case u.RawQuery != "" || u.Fragment != "":
			found("/address", "wrong-value", "the address must not hold a query or fragment", "put them into the path of the delivery")
		}
	}
	return c
}

// checkDatabase says what is wrong with the address of a database.
func (c *Connection) checkDatabase(found func(ptr, code, msg, repair string)) {
	u, err := url.Parse(c.Address)
	scheme := ""
	if err == nil {
		scheme = u.Scheme
	}
	switch {
	case err != nil:
		found("/address", "wrong-value", fmt.Sprintf("%q is no address", c.Address), "")
	case u.User != nil:
		found("/address", "secret-in-text", "the address holds a user or password", "take them out of the address and use sign-in")
	case c.Driver == DriverPostgreSQL && (!slices.Contains([]string{"postgres", "postgresql"}, scheme) || u.Host == "" || len(u.Path) < 2):
		found("/address", "wrong-value", fmt.Sprintf("%q is no address of a PostgreSQL database", c.Address), "write it as postgresql://host:5432/database")
	case c.Driver == DriverSQLite && !(scheme == "file" && strings.HasPrefix(u.Path, "/")) && !(scheme == "stand-in" && u.Host != ""):
		found("/address", "wrong-value", fmt.Sprintf("%q is no address of an SQLite file", c.Address), "write it as file:///folder/file.db, or stand-in://name for one that ships with the application")
	case c.Driver == DriverSQLite && (u.RawQuery != "" || u.Fragment != ""):
		found("/address", "wrong-value", "the address must not hold a query or fragment", "remove it")
	}
}

// Package tcp is the system of programs that speak over a plain connection, one message a
// frame: HL7 in MLLP, lines, or messages behind their length.
//
// As a sender it hands a message over, and with MLLP waits for the acknowledgement that
// names it. As a receiver it listens: who sends hears yes behind the commit that stores the
// message, or what the flow has said when it is finished. A message that comes again has
// the answer of the first one.
package tcp

import (
	"context"
	"fmt"
	"net"
	"net/url"
	"strings"

	"readyferry/connect"
	"readyferry/connect/reach"
	"readyferry/core/retry"
	"readyferry/core/system"
)

// Kind is the name of the system in documents.
const Kind = "tcp"

// The addresses of connections that others make begin with these, plain and over TLS.
const (
	listens    = "listen"
	listensTLS = "listens"
)

// listensAt gives the host and port at which a connection waits for others, and whether it
// speaks TLS there.
func listensAt(c *connect.Connection) (at string, secure, is bool) {
	if at, is = strings.CutPrefix(c.Address, listens+"://"); is {
		return at, false, true
	}
	at, is = strings.CutPrefix(c.Address, listensTLS+"://")
	return at, is, is
}

var connectionSchema = `{"required": ["address"], "properties": {
	"address": {"type": "string", "title": "Address", "default": "tcp://", "description":
		"tcp://host:2575 to send to, tcps:// over TLS; listen://0.0.0.0:2575 or listens:// to wait there for who sends; stand-in://name for both",
		"examples": ["tcp://home.example.org:2575"]},
	"framing": {"enum": ["mllp", "line", "length"], "title": "Frames", "default": "mllp", "titles": {
		"mllp": "MLLP, as HL7 is sent", "line": "a line each", "length": "behind the length, in four bytes"}},
	` + reach.SignInProperty(connect.SignInNone, reach.SignInMTLS) + `,
	` + reach.WayProperties + `}}`

const (
	deliverSchema = `{"properties": {
		"answer": {"enum": ["acknowledged", "any", "none"], "title": "Delivered when", "default": "acknowledged", "titles": {
			"acknowledged": "it is acknowledged (MLLP), or anything is answered", "any": "anything is answered",
			"none": "it is sent: nobody knows whether it came"}}}}`
	askSchema    = `{"properties": {}}`
	intakeSchema = `{"properties": {
		"answer": {"enum": ["stored", "finished"], "title": "Answered when", "default": "stored", "titles": {
			"stored": "it is stored", "finished": "the flow is finished, by what it says"}},
		"wait": {"type": "string", "title": "Waits", "format": "duration", "default": "30s", "when": {"answer": ["finished"]},
			"description": "so long for the end; then it is acknowledged as stored"},
		"connections": {"type": "integer", "title": "Connections", "minimum": 1, "maximum": 10000, "default": 100, "description":
			"at once; others are turned away"},
		"idle": {"type": "string", "title": "Idle", "format": "duration", "default": "1h", "description":
			"a connection is closed on which nothing has come for so long"}}}`
)

// New makes the system. standIn reaches a simulated partner by its name; nil where there
// are none.
func New(standIn func(name string) (net.Conn, error)) connect.System {
	door := &reach.Door{Schemes: map[string]string{"tcp": "2575", "tcps": "2575"}, StandIn: standIn}
	return connect.System{
		Kind: system.Kind{
			Name: Kind, Title: "TCP and MLLP", Summary: "Programs that send and take messages over a plain connection, such as HL7 in MLLP.",
			Sentence: "send to {to}",
			Intake:   system.Schema(intakeSchema), Deliver: system.Schema(deliverSchema), Ask: system.Schema(askSchema),
		},
		Notes: []string{
			"Who sends HL7 hears AA behind the commit that stores a message; with answer: finished what the flow came to: an " +
				"acknowledgement that a step answers goes out as it is, else a status below 300 is AA, 409, 422 and 500 are AE, others " +
				"AR. What cannot be read is AR with an ERR segment, and kept.",
			"A message that says in MSH-15 and MSH-16 which acknowledgements it wants gets those: CA, CE or CR when it is stored or " +
				"not, then AA, AE or AR from the flow.",
			"A repeat is told by MSH-3, MSH-4, MSH-7 and MSH-10. Lines and messages behind a length have no id: they are taken as " +
				"often as they come, unless the intake says once.",
			"Over TLS a listener shows the certificate of its sign-in. With a certificate authority under TLS, whoever comes must " +
				"show one of that authority; its name comes as the header tcp-client.",
			"MSA-2 of an acknowledgement must name the message that was sent; another one is no answer. What comes between two " +
				"blocks is left out; a block whose end is not followed by CR ends all the same.",
		},
		Outcomes: outcomes(), Connection: system.Schema(connectionSchema),
		Check: func(c *connect.Connection, found connect.Found) { check(door, c, found) },
		Says: func(_ connect.Settings, headers map[string]string, body []byte) (connect.Said, error) {
			return connect.SaidWith("tcp-", headers, body), nil
		},
		Open: func(_ context.Context, c *connect.Connection) (connect.Link, error) {
			return &link{c: c, door: door}, nil
		},
	}
}

// check finds what is wrong with an address.
func check(door *reach.Door, c *connect.Connection, found connect.Found) {
	_, secure, is := listensAt(c)
	if !is {
		door.Check(c, found)
		return
	}
	reach.CheckTLS(c, found)
	if reach.Proxied(c) {
		found("/proxy", "wrong-value", "who listens is reached through no proxy", "take the proxy out, or name an address to send to")
	}
	if secure && c.SignIn.Kind != reach.SignInMTLS {
		found("/sign-in", "missing-key", "who listens over TLS shows a certificate, and the connection has none",
			"choose the sign-in with a certificate, and paste it and its key")
	}
	u, err := url.Parse(c.Address)
	if err != nil || u.Port() == "" || u.Path != "" || u.RawQuery != "" || u.User != nil {
		found("/address", "wrong-value", fmt.Sprintf("%q is no address to listen on", c.Address),
			"write it as listen://0.0.0.0:2575, or listen://127.0.0.1:2575 for this machine alone")
	}
}

// outcomes are what the help shows.
func outcomes() []connect.Meaning {
	return []connect.Meaning{
		{Code: "AA, CA", Words: "it is acknowledged (HL7 table 0008)", Comes: string(retry.Delivered)},
		{Code: "AE, CE", Words: "what the message holds is at fault", Comes: connect.Comes(retry.Never, true)},
		{Code: "AR, CR", Words: "it is not taken, whatever it holds: the receiver may be out of order",
			Comes: string(retry.Again)},
		{Code: "answered", Words: "something was answered, which is all that is asked for", Comes: string(retry.Delivered)},
		{Code: "sent", Words: "it was sent, and nothing is waited for", Comes: string(retry.Delivered)},
		{Code: "other", Words: "any other MSA-1", Comes: string(retry.Never)},
		connect.InDoubt("nothing is answered in time, the connection breaks off, or the answer names another message"),
	}
}

// Package stream is the system of partitioned logs: records are appended to the partitions
// of topics, where they stay, and groups of consumers read them from places that they
// commit. It speaks the protocol that is most in use for that.
//
// It promises what HTTP does: where a group stands is committed behind the commit that
// stores its records, so that a crash brings them again, and the place of each in its
// partition makes that a duplicate; a record that goes out is delivered when all replicas
// that the topic asks for have it. Outcomes are mapped in outcomes.go.
package stream

import (
	"cmp"
	"context"
	"fmt"
	"net"
	"strings"
	"time"

	"readyferry/connect"
	"readyferry/connect/reach"
	"readyferry/core/system"
)

// Kind is the name of the system in documents.
const Kind = "stream"

// The ways to sign in besides those that all systems have (RFC 5802, RFC 7677).
const (
	scram256 = "scram-sha-256"
	scram512 = "scram-sha-512"
)

var connectionSchema = `{"required": ["address"], "properties": {
	"address": {"type": "string", "title": "Address", "default": "stream://", "description":
		"stream://host:9092 of one broker, streams://host:9093 over TLS, or stand-in://name; it tells of the others",
		"examples": ["streams://log.example.org:9093"]},
	"more": {"type": "array", "title": "More brokers", "maxItems": 20, "items": {"type": "string", "pattern": "^[^/@]+:[0-9]+$"},
		"description": "host:port each, for when the first is down"},
	` + reach.SignInProperty(connect.SignInNone, connect.SignInBasic, scram256, scram512, reach.SignInMTLS) + `,
	` + reach.WayProperties + `}}`

const (
	deliverSchema = `{"required": ["topic"], "properties": {
		"topic": {"type": "string", "title": "Topic", "format": "template", "maxLength": 249, "offers": true,
			"examples": ["loans"]},
		"key": {"type": "string", "title": "Key", "format": "template", "description":
			"records of one key stay in one partition, in order; spread over all when empty", "examples": ["${body.card}"]},
		"partition": {"type": ["integer", "string"], "title": "Partition", "format": "template", "description":
			"its number; by the key when empty"},
		"headers": {"type": "object", "title": "Headers", "format": "template", "description": "name: template",
			"additionalProperties": {"type": ["string", "number", "null"]}}}}`
	intakeSchema = `{"required": ["topic"], "properties": {
		"topic": {"type": "string", "title": "Topic", "minLength": 1, "maxLength": 249, "offers": true, "examples": ["loans"]},
		"group": {"type": "string", "title": "Consumer group", "maxLength": 200, "description":
			"who names the same shares the partitions; the flow's own when empty"},
		"begin": {"type": "string", "title": "Begin", "default": "latest", "examples": ["earliest", "latest", "2026-03-17T06:00:00Z"],
			"description": "where a group that has read nothing begins: earliest, latest or a time"},
		"at-once": {"type": "integer", "title": "Taken at once", "minimum": 1, "maximum": 1000, "default": 64, "description":
			"records of one commit"}}}`
)

// New makes the system. standIn reaches a simulated log by its name; nil where there are
// none.
func New(standIn func(name string) (net.Conn, error)) connect.System {
	door := &reach.Door{Schemes: map[string]string{"stream": "9092", "streams": "9093"}, StandIn: standIn}
	return connect.System{
		Kind: system.Kind{
			Name: Kind, Title: "Partitioned log", Summary: "Brokers that keep records in the partitions of topics, for groups that read them.",
			Sentence: "append to {topic} at {to}[ with the key {key}]",
			Intake:   system.Schema(intakeSchema), Deliver: system.Schema(deliverSchema),
		},
		Notes: []string{
			"Where a group stands is committed behind the commit that stores its records. Records that come again after a " +
				"crash are told by the header Idempotency-Key, where the sender sets one, else by topic, partition, offset and " +
				"time.",
			"Headers: stream-topic, stream-partition, stream-offset, stream-key and stream-timestamp say where a record " +
				"stands; all others are headers of the record, both ways. A key that is no text stands behind base64:.",
			"Each flow reads in a group of its own, unless it names one: those that name the same share the partitions, " +
				"between instances too.",
		},
		Outcomes: outcomes(), Connection: system.Schema(connectionSchema), Check: door.Check,
		Says: func(in connect.Settings, headers map[string]string, body []byte) (connect.Said, error) {
			out := connect.SaidWith("stream-", headers, body)
			out.Topic = cmp.Or(headers["stream-topic"], connect.SettingText(in, "topic"))
			out.Key = headers["stream-key"]
			return out, nil
		},
		Open: func(_ context.Context, c *connect.Connection) (connect.Link, error) {
			return &link{c: c, door: door}, nil
		},
	}
}

// beginning reads where a group begins: a time, or the earliest or latest record.
func beginning(text string) (at time.Time, earliest bool, err error) {
	switch strings.TrimSpace(text) {
	case "", "latest":
		return time.Time{}, false, nil
	case "earliest":
		return time.Time{}, true, nil
	}
	at, err = time.Parse(time.RFC3339, text)
	if err != nil {
		return at, false, fmt.Errorf("begin: %q is neither earliest nor latest, nor a time such as 2026-03-17T06:00:00Z", text)
	}
	return at, false, nil
}

// Package nats is the system of brokers that speak the NATS protocol: messages go to
// subjects, streams keep them, and durable consumers take them from there.
//
// It promises what HTTP does: a message that comes in is acknowledged behind the commit that
// stores it, so that the stream brings it again after a crash, and its id tells that; a
// message that goes out is delivered when a stream has stored it, and its id is the same on
// every try, by which the stream itself tells a repeat. Outcomes are mapped in outcomes.go.
package nats

import (
	"cmp"
	"context"
	"net"

	"readyferry/connect"
	"readyferry/connect/reach"
	"readyferry/core/system"
)

// Kind is the name of the system in documents.
const Kind = "nats"

var connectionSchema = `{"required": ["address"], "properties": {
	"address": {"type": "string", "title": "Address", "default": "nats://", "description":
		"nats://host:4222, natss://host:4222 over TLS, or stand-in://name", "examples": ["natss://broker.example.org:4222"]},
	` + reach.SignInProperty(connect.SignInNone, connect.SignInBasic, connect.SignInBearer, reach.SignInMTLS) + `,
	` + reach.WayProperties + `}}`

const (
	deliverSchema = `{"required": ["subject"], "properties": {
		"subject": {"type": "string", "title": "Subject", "format": "template", "offers": true, "description":
			"words between dots; a stream must take it", "examples": ["desk.returns.${body.branch}"]},
		"headers": {"type": "object", "title": "Headers", "format": "template", "description": "name: template",
			"additionalProperties": {"type": ["string", "number", "null"]}}}}`
	askSchema = `{"required": ["subject"], "properties": {
		"subject": {"type": "string", "title": "Subject", "format": "template", "description":
			"where somebody listens and answers", "examples": ["desk.questions"]},
		"headers": {"type": "object", "title": "Headers", "format": "template", "description": "name: template",
			"additionalProperties": {"type": ["string", "number", "null"]}}}}`
	intakeSchema = `{"required": ["stream"], "properties": {
		"stream": {"type": "string", "title": "Stream", "minLength": 1, "maxLength": 255, "pattern": "^[^ .*>]+$", "offers": true,
			"examples": ["RETURNS"]},
		"consumer": {"type": "string", "title": "Durable consumer", "maxLength": 200, "pattern": "^[^ .*>]*$", "description":
			"its name; made when it is not there, the flow's own when empty; who names the same shares it"},
		"filter": {"type": "string", "title": "Filter", "maxLength": 1000, "description":
			"of subjects, for a consumer that is made: * is one word, > all that follow", "examples": ["desk.returns.>"]},
		"begin": {"type": "string", "title": "Begin", "default": "new", "examples": ["all", "new", "2026-03-17T06:00:00Z"],
			"description": "where a consumer that is made begins: all, new or a time"},
		"at-once": {"type": "integer", "title": "Taken at once", "minimum": 1, "maximum": 1000, "default": 64, "description":
			"messages that are handed over before the first is stored"}}}`
)

// New makes the system. standIn reaches a simulated broker by its name; nil where there
// are none.
func New(standIn func(name string) (net.Conn, error)) connect.System {
	door := &reach.Door{Schemes: map[string]string{"nats": "4222", "natss": "4222"}, StandIn: standIn}
	return connect.System{
		Kind: system.Kind{
			Name: Kind, Title: "NATS", Summary: "A broker whose subjects are kept in streams.",
			Sentence: "publish to the subject {subject} at {to}",
			Intake:   system.Schema(intakeSchema), Deliver: system.Schema(deliverSchema), Ask: system.Schema(askSchema),
		},
		Notes: []string{
			"Messages are acknowledged behind the commit that stores them. What comes again after a crash is told by Nats-Msg-Id, " +
				"where the sender sets one, else by stream, sequence and time.",
			"Headers: nats-subject, nats-stream, nats-sequence, nats-timestamp and nats-redelivered say where a message stands; all " +
				"others are headers of the message, both ways.",
			"A delivery carries the same Nats-Msg-Id on every try, so that the stream keeps a repeat out.",
			"A question needs no stream; an answer that comes late or a second time is kept beside the tries.",
		},
		Outcomes: outcomes(), Connection: system.Schema(connectionSchema), Check: door.Check,
		Says: func(in connect.Settings, headers map[string]string, body []byte) (connect.Said, error) {
			out := connect.SaidWith("nats-", headers, body)
			out.Topic = cmp.Or(headers["nats-subject"], connect.SettingText(in, "filter"))
			return out, nil
		},
		Open: func(_ context.Context, c *connect.Connection) (connect.Link, error) {
			return &link{c: c, door: door}, nil
		},
	}
}

// Package amqp is the system of brokers that speak AMQP 0-9-1. Messages are published to
// exchanges, which route them into queues, and received from queues.
//
// It promises what HTTP does: a message that comes in is acknowledged behind the commit
// that stores it, so that the broker brings it again after a crash, and its message-id
// makes that a duplicate; a message that goes out is delivered when the broker has
// confirmed it, and one that the broker returns because nothing is bound is a dead letter
// that says so. Outcomes are mapped in outcomes.go.
package amqp

import (
	"cmp"
	"context"
	"net"

	"readyferry/connect"
	"readyferry/connect/reach"
	"readyferry/core/flow"
	"readyferry/core/system"
)

// Kind is the name of the system in documents.
const Kind = "amqp"

var connectionSchema = `{"required": ["address"], "properties": {
	"address": {"type": "string", "title": "Address", "default": "amqp://", "description":
		"amqp://host:5672/virtual-host, amqps://host:5671 over TLS, or stand-in://name", "examples": ["amqps://desk.example.org:5671/returns"]},
	` + reach.SignInProperty(connect.SignInNone, connect.SignInBasic, reach.SignInMTLS) + `,
	"heartbeat": {"type": "string", "title": "Heartbeat", "format": "duration", "default": "30s", "description":
		"each side hears from the other at least this often"},
	` + reach.WayProperties + `}}`

const (
	deliverSchema = `{"properties": {
		"exchange": {"type": "string", "title": "Exchange", "format": "template", "maxLength": 255, "description":
			"empty for the one that brings a message into the queue that the routing key names", "examples": ["desk"]},
		"routing-key": {"type": "string", "title": "Routing key", "format": "template", "maxLength": 255, "description":
			"words between dots", "examples": ["returns.${body.branch}"]},
		"transient": {"type": "boolean", "title": "the broker may lose it when it stops"},
		"priority": {"type": "integer", "title": "Priority", "minimum": 0, "maximum": 9, "description":
			"for queues that have priorities"},
		"expires": {"type": "string", "title": "Expires after", "format": "duration", "description":
			"the broker drops it when it has waited so long; never when empty"},
		"headers": {"type": "object", "title": "Headers", "format": "template", "description":
			"name: template; those that begin with amqp- are properties of the protocol",
			"additionalProperties": {"type": ["string", "number", "null"]}}}}`
	askSchema = `{"properties": {
		"exchange": {"type": "string", "title": "Exchange", "format": "template", "maxLength": 255, "description":
			"where the question is published; empty for the queue that the routing key names"},
		"routing-key": {"type": "string", "title": "Routing key", "format": "template", "maxLength": 255, "description":
			"whoever answers does so into its reply-to queue, with its correlation-id", "examples": ["questions.${body.branch}"]},
		"expires": {"type": "string", "title": "Expires after", "format": "duration", "description":
			"the broker drops the question when it has waited so long"},
		"headers": {"type": "object", "title": "Headers", "format": "template", "description": "name: template",
			"additionalProperties": {"type": ["string", "number", "null"]}}}}`
	intakeSchema = `{"required": ["queue"], "properties": {
		"queue": {"type": "string", "title": "Queue", "minLength": 1, "maxLength": 255, "examples": ["returns"]},
		"make": {"type": "boolean", "title": "make the queue, durable, when it is not there"},
		"bind": {"type": "object", "title": "Bind", "additionalProperties": false, "required": ["exchange"], "properties": {
			"exchange": {"type": "string", "title": "Bound to exchange", "maxLength": 255, "description":
				"what is published there comes into the queue; as it is when empty"},
			"pattern": {"type": "string", "title": "Pattern", "maxLength": 255, "description":
				"of routing keys; with a topic exchange * is one word, # any number", "examples": ["returns.#"]}}},
		"at-once": {"type": "integer", "title": "Taken at once", "minimum": 1, "maximum": 1000, "default": 64, "description":
			"messages that the broker hands over before the first is stored (prefetch)"}}}`
)

// New makes the system. standIn reaches a simulated broker by its name; nil where there
// are none.
func New(standIn func(name string) (net.Conn, error)) connect.System {
	door := &reach.Door{Schemes: map[string]string{"amqp": "5672", "amqps": "5671"}, Path: true, StandIn: standIn}
	return connect.System{
		Kind: system.Kind{
			Name: Kind, Title: "AMQP 0-9-1", Summary: "A broker with exchanges and queues that speaks AMQP 0-9-1.",
			Sentence: "publish {routing-key}[ to the exchange {exchange}] at {to}",
			Intake:   system.Schema(intakeSchema), Deliver: system.Schema(deliverSchema), Ask: system.Schema(askSchema),
		},
		Notes: []string{
			"Messages are acknowledged behind the commit that stores them; those that come again after a crash have the same " +
				"message-id, by which they are told. A message without one is taken as often as the broker brings it.",
			"Headers: those that begin with amqp- are properties of the protocol (amqp-exchange, amqp-routing-key, " +
				"amqp-message-id, amqp-correlation-id, amqp-reply-to, amqp-type, amqp-app-id, amqp-priority, amqp-expiration, " +
				"amqp-timestamp, amqp-redelivered), content-type and content-encoding are its own; all others are headers there " +
				"too.",
			"The message-id of a delivery is the same on every try. What is bound to nothing comes back, and is a dead " +
				"letter that says so.",
			"A question names a queue of our own as reply-to and carries a correlation-id; an answer that comes late or a " +
				"second time is kept beside the tries.",
		},
		Outcomes: outcomes(), Connection: system.Schema(connectionSchema),
		Check: func(c *connect.Connection, found connect.Found) {
			door.Check(c, found)
			if text := c.Text("/heartbeat"); text != "" {
				if _, err := flow.Duration(text); err != nil {
					found("/heartbeat", "wrong-value", err.Error(), "write it as 30s or 2m")
				}
			}
		},
		Says: func(in connect.Settings, headers map[string]string, body []byte) (connect.Said, error) {
			out := connect.SaidWith("amqp-", headers, body)
			out.Topic = cmp.Or(headers["amqp-routing-key"], connect.SettingText(in, "queue"))
			out.Exchange = headers["amqp-exchange"]
			return out, nil
		},
		Open: func(_ context.Context, c *connect.Connection) (connect.Link, error) {
			return &link{c: c, door: door}, nil
		},
	}
}

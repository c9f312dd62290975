// Package amqp1 is the system of brokers that speak AMQP 1.0 (OASIS, ISO 19464): messages
// are transferred to targets and received from sources, and each side settles what it has.
//
// It promises what HTTP does: a message that comes in is accepted behind the commit that
// stores it, so that the broker brings it again after a crash, and its message-id makes that
// a duplicate; a message that goes out is delivered when the broker has accepted it.
// Outcomes are mapped in outcomes.go.
package amqp1

import (
	"context"

	"readyferry/connect"
	"readyferry/connect/reach"
	"readyferry/core/system"
)

// Kind is the name of the system in documents.
const Kind = "amqp1"

var connectionSchema = `{"required": ["address"], "properties": {
	"address": {"type": "string", "title": "Address", "default": "amqps://", "description":
		"amqps://host:5671 over TLS, or amqp://host:5672", "examples": ["amqps://bus.example.org:5671"]},
	` + reach.SignInProperty(connect.SignInNone, connect.SignInBasic, reach.SignInMTLS) + `,
	"host-name": {"type": "string", "title": "Host name", "maxLength": 253, "description":
		"that the broker is told, where it keeps several apart; the host of the address when empty"},
	"reply-to": {"type": "string", "title": "Answers come to", "maxLength": 1000, "description":
		"an address of our own alone, for brokers that give none of their own; one that the broker names when empty"},
	` + reach.WayProperties + `}}`

const (
	headersProperty = `"headers": {"type": "object", "title": "Application properties", "format": "template", "description":
			"name: template; those that begin with amqp- are properties of the protocol",
			"additionalProperties": {"type": ["string", "number", "null"]}}`
	deliverSchema = `{"required": ["target"], "properties": {
		"target": {"type": "string", "title": "Target address", "format": "template", "maxLength": 1000, "description":
			"a queue or topic, as the broker writes it", "examples": ["/queue/returns"]},
		"subject": {"type": "string", "title": "Subject", "format": "template", "maxLength": 1000},
		"transient": {"type": "boolean", "title": "the broker may lose it when it stops"},
		"expires": {"type": "string", "title": "Expires after", "format": "duration", "description":
			"the broker drops it when it has waited so long; never when empty"},
		` + headersProperty + `}}`
	askSchema = `{"required": ["target"], "properties": {
		"target": {"type": "string", "title": "Target address", "format": "template", "maxLength": 1000, "description":
			"where the question goes; whoever answers does so to its reply-to, with its correlation-id"},
		"expires": {"type": "string", "title": "Expires after", "format": "duration"},
		` + headersProperty + `}}`
	intakeSchema = `{"required": ["source"], "properties": {
		"source": {"type": "string", "title": "Source address", "minLength": 1, "maxLength": 1000, "description":
			"a queue or subscription, as the broker writes it", "examples": ["/queue/returns"]},
		"at-once": {"type": "integer", "title": "Taken at once", "minimum": 1, "maximum": 1000, "default": 64, "description":
			"messages that the broker hands over before the first is stored (credit)"}}}`
)

// New makes the system. There are no stand-ins for it.
func New() connect.System {
	door := &reach.Door{Schemes: map[string]string{"amqp": "5672", "amqps": "5671"}}
	return connect.System{
		Kind: system.Kind{
			Name: Kind, Title: "AMQP 1.0", Summary: "A broker or bus that speaks AMQP 1.0.",
			Sentence: "transfer to {target} at {to}",
			Intake:   system.Schema(intakeSchema), Deliver: system.Schema(deliverSchema), Ask: system.Schema(askSchema),
		},
		Notes: []string{
			"Messages are accepted behind the commit that stores them; those that come again after a crash have the same message-id, by " +
				"which they are told. A message without one is taken as often as the broker brings it.",
			"Headers: those that begin with amqp- are properties of the protocol (amqp-message-id, amqp-subject, amqp-correlation-id, " +
				"amqp-reply-to, amqp-to, amqp-group-id, amqp-delivery-count), content-type and content-encoding are its own; all others are " +
				"application properties.",
			"The message-id of a delivery is the same on every try. An answer that comes late or a second time is kept beside the tries.",
		},
		Outcomes: outcomes(), Connection: system.Schema(connectionSchema), Check: door.Check,
		Open: func(_ context.Context, c *connect.Connection) (connect.Link, error) {
			return &link{c: c, door: door}, nil
		},
	}
}

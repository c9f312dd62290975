// Package mqtt is the system of brokers that speak MQTT 5 (OASIS). Messages are
// published to topics and received by filters of topics.
//
// It promises what HTTP does: a message that comes in is acknowledged behind the commit
// that stores it, so that the broker brings it again after a crash, and what comes again
// is not taken twice; a message that goes out is delivered when the broker has
// acknowledged it, and what the broker says is mapped in outcomes.go. Each flow that
// receives has a session of its own, which the broker keeps while nobody is there.
package mqtt

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
const Kind = "mqtt"

var connectionSchema = `{"required": ["address"], "properties": {
		"address": {"type": "string", "title": "Address", "default": "mqtt://", "description":
			"mqtt://host:1883, mqtts://host:8883 over TLS, or stand-in://name", "examples": ["mqtts://broker.example.org:8883"]},
		` + reach.SignInProperty(connect.SignInNone, connect.SignInBasic, reach.SignInMTLS) + `,
		"version": {"enum": ["5", "3.1.1"], "title": "Version", "default": "5", "description":
			"of MQTT; 3.1.1 has no properties: no headers, no key by which a repeat is told, no questions"},
		"client-id": {"type": "string", "title": "Client id", "maxLength": 100, "description":
			"what the ids of its clients begin with; readyferry and the connection's name when empty"},
		"keep-alive": {"type": "string", "title": "Keep alive", "format": "duration", "default": "30s", "description":
			"the broker hears from us at least this often"},
		"session": {"type": "string", "title": "Session", "format": "duration", "default": "24h", "description":
			"so long the broker keeps messages while nobody is there to receive them"},
		` + reach.WayProperties + `}}`

const (
	deliverSchema = `{"required": ["topic"], "properties": {
		"topic": {"type": "string", "title": "Topic", "format": "template", "description": "without + and #",
			"examples": ["branches/${body.branch}/returns"]},
		"qos": {"enum": [0, 1, 2], "title": "Quality of service", "default": 1, "titles": {
			"0": "0: sent, not acknowledged", "1": "1: acknowledged", "2": "2: acknowledged once"}, "description":
			"with 0 nobody knows whether the broker has it"},
		"retain": {"type": "boolean", "title": "the broker keeps it for those who subscribe later"},
		"expires": {"type": "string", "title": "Expires after", "format": "duration", "description":
			"the broker drops it when it has waited so long; never when empty"},
		"headers": {"type": "object", "title": "User properties", "format": "template", "description":
			"name: template; content-type, mqtt-response-topic and mqtt-correlation-data are properties of the protocol",
			"additionalProperties": {"type": ["string", "number", "null"]}}}}`
	askSchema = `{"required": ["topic"], "properties": {
		"topic": {"type": "string", "title": "Topic", "format": "template", "description":
			"where the question is published; whoever answers does so at its response topic, with its correlation data",
			"examples": ["desks/${body.branch}/questions"]},
		"qos": {"enum": [1, 2], "title": "Quality of service", "default": 1, "titles": {
			"1": "1: acknowledged", "2": "2: acknowledged once"}},
		"expires": {"type": "string", "title": "Expires after", "format": "duration", "description":
			"the broker drops the question when it has waited so long"},
		"headers": {"type": "object", "title": "User properties", "format": "template", "description": "name: template",
			"additionalProperties": {"type": ["string", "number", "null"]}}}}`
	intakeSchema = `{"required": ["filter"], "properties": {
		"filter": {"type": "string", "title": "Filter", "minLength": 1, "maxLength": 65535,
			"pattern": "^([$]share/[^/+#]+/)?(#|([+]|[^+#/]*)(/([+]|[^+#/]*))*(/#)?)$", "description":
			"of topics: + is one level, # all that follow; $share/group/filter shares it with others",
			"examples": ["branches/+/returns/#"]},
		"qos": {"enum": [0, 1, 2], "title": "Quality of service", "default": 1, "description":
			"the most that is asked for; what is sent with 0 may be lost"},
		"at-once": {"type": "integer", "title": "Taken at once", "minimum": 1, "maximum": 1000, "default": 64, "description":
			"messages that the broker hands over before the first is stored"}}}`
)

// New makes the system. standIn reaches a simulated broker by its name; nil where there
// are none.
func New(standIn func(name string) (net.Conn, error)) connect.System {
	door := &reach.Door{Schemes: map[string]string{"mqtt": "1883", "mqtts": "8883"}, StandIn: standIn}
	return connect.System{
		Kind: system.Kind{
			Name: Kind, Title: "MQTT", Summary: "A broker for MQTT 5 or 3.1.1, as sensors and machines have it: messages by topic.",
			Sentence: "publish to {topic} at {to}[, quality {qos}]",
			Intake:   system.Schema(intakeSchema), Deliver: system.Schema(deliverSchema),
			Ask: system.Schema(askSchema),
		},
		Notes: []string{
			"Messages are acknowledged behind the commit that stores them. What the broker brings again after a crash is not " +
				"taken twice; the user property Idempotency-Key, where the sender sets one, tells any other repeat.",
			"Headers: mqtt-topic, mqtt-qos, mqtt-retained, mqtt-response-topic and mqtt-correlation-data are properties of " +
				"MQTT, content-type is its own; all others are user properties, both ways. Correlation data that is no text " +
				"stands behind base64:.",
			"Each flow has a session of its own, which the broker keeps for so long as the connection says.",
			"A question carries a response topic of its own; an answer that comes late or a second time is kept beside the " +
				"tries.",
		},
		Outcomes: outcomes(), Connection: system.Schema(connectionSchema), Check: func(c *connect.Connection, found connect.Found) {
			door.Check(c, found)
			checkSpans(c, found)
		},
		Says: func(in connect.Settings, headers map[string]string, body []byte) (connect.Said, error) {
			out := connect.SaidWith("mqtt-", headers, body)
			out.Topic = cmp.Or(headers["mqtt-topic"], connect.SettingText(in, "filter"))
			return out, nil
		},
		Open: func(_ context.Context, c *connect.Connection) (connect.Link, error) {
			l := &link{c: c, door: door}
			if c.Text("/version") == "3.1.1" {
				return &older{l}, nil
			}
			return l, nil
		},
	}
}

// checkSpans finds what the schema of connections cannot say.
func checkSpans(c *connect.Connection, found connect.Found) {
	for _, setting := range []string{"/keep-alive", "/session"} {
		if text := c.Text(setting); text != "" {
			if _, err := flow.Duration(text); err != nil {
				found(setting, "wrong-value", err.Error(), "write it as 30s, 10m or 24h")
			}
		}
	}
}

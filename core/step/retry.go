package step

import (
	"fmt"
	"strconv"
	"time"

	"readyferry/core/flow"
	"readyferry/core/message"
	"readyferry/core/retry"
)

// RetrySchema is the JSON Schema of a retry plan, in flows and connections.
const RetrySchema = `{
	"type": "object", "title": "Retry plan", "additionalProperties": false, "description":
		"when to try again and when to give up",
	"properties": {
		"first": {"type": "string", "title": "First pause", "format": "duration", "default": "5s", "description":
			"before the second try"},
		"growth": {"enum": ["constant", "linear", "exponential"], "title": "Growth", "default": "exponential"},
		"factor": {"type": "number", "title": "Factor", "minimum": 1, "maximum": 1000, "default": 2,
			"when": {"growth": ["exponential"]}},
		"cap": {"type": "string", "title": "Longest pause", "format": "duration", "default": "10m"},
		"spread": {"enum": ["none", "equal", "full"], "title": "Spread", "default": "full"},
		"tries": {"type": "integer", "title": "Tries", "minimum": 1, "maximum": 1000, "default": 6},
		"within": {"type": "string", "title": "Within", "format": "duration", "default": "24h", "description":
			"no try begins later after the first"},
		"again": {"type": "array", "items": {"type": "integer", "minimum": 100, "maximum": 599}, "description":
			"statuses that are worth another try"},
		"never": {"type": "array", "items": {"type": "integer", "minimum": 100, "maximum": 599}, "description":
			"statuses after which no try helps"},
		"delivered": {"type": "array", "items": {"type": "integer", "minimum": 100, "maximum": 599}, "description":
			"statuses that count as delivered"}
	}}`

// BadRetry is a setting of a retry plan that cannot be read.
type BadRetry struct{ Setting, Reason string }

// ReadRetry reads a plan that passed RetrySchema.
func ReadRetry(n *message.Node) (*retry.Plan, []BadRetry) {
	p := retry.Default()
	var bad []BadRetry
	span := func(name string, into *time.Duration) {
		v := n.Get(name)
		if v == nil {
			return
		}
		d, err := flow.Duration(v.Text)
		if err != nil {
			bad = append(bad, BadRetry{name, err.Error()})
			return
		}
		*into = d
	}
	span("first", &p.First)
	span("cap", &p.Cap)
	span("within", &p.Within)
	if n.Get("cap") == nil {
		p.Cap = max(p.Cap, p.First)
	}
	if v := n.Get("growth"); v != nil {
		p.Growth = v.Text
	}
	if v := n.Get("spread"); v != nil {
		p.Spread = v.Text
	}
	if v := n.Get("factor"); v != nil {
		f, err := strconv.ParseFloat(v.Text, 64)
		if err != nil {
			bad = append(bad, BadRetry{"factor", fmt.Sprintf("%q is no number", v.Text)})
		}
		p.Factor = f
	}
	if v := n.Get("tries"); v != nil {
		f, err := strconv.ParseFloat(v.Text, 64) // 6.0 is an integer to JSON Schema
		if err != nil {
			bad = append(bad, BadRetry{"tries", fmt.Sprintf("%q is no number", v.Text)})
		}
		p.Tries = int(f)
	}
	codes := func(name string, into *[]int) {
		for _, item := range items(n.Get(name)) {
			if code, err := strconv.Atoi(item.Text); err == nil {
				*into = append(*into, code)
			}
		}
	}
	codes("again", &p.Again)
	codes("never", &p.Never)
	codes("delivered", &p.Delivered)
	return &p, bad
}

func items(n *message.Node) []*message.Node {
	if n == nil {
		return nil
	}
	return n.Items
}

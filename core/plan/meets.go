package plan

import (
	"fmt"
	"slices"
	"strings"

	"readyferry/core/flow"
	"readyferry/core/message"
	"readyferry/core/step"
)

// meeting are the kinds of step in which a message meets others of its flow, or waits for its turn among them.
var meeting = []string{"aggregate", "resequence", "once", "pace"}

// sharing are the kinds of step in which a message meets what other flows have, too: rows of tables, and flows.
var sharing = []string{"pair", "subflow"}

// shared are the kinds of intake that bring what others have, too; spread are those whose messages are brought where
// their values belong. All others have a source of their own.
var shared, spread = []string{"queue", "topic", "subflow"}, []string{"webhook", "load"}

// Shares says in words why the messages of a flow need what is in one place alone, since others have it, too: a
// queue, a table that they write, a flow that they call; "" where they do not.
func (p *Plan) Shares() string {
	switch in := &p.Document.Intake; {
	case slices.Contains(shared, in.Kind):
		return "its intake is of kind " + in.Kind
	case p.Document.Bounds != (flow.Bounds{}):
		return "what it takes in is bounded"
	}
	for _, u := range p.Uses {
		switch u.Kind {
		case step.UseQueue, step.UseTopic, step.UseReplies:
			return fmt.Sprintf("it uses the %s %s", map[string]string{step.UseQueue: "queue", step.UseTopic: "topic",
				step.UseReplies: "queue"}[u.Kind], u.Name)
		case step.UseFlow:
			return "it calls the flow " + u.Name
		}
	}
	return p.has(func(kind string, step *message.Node) string {
		until := step.Get("until")
		switch {
		case slices.Contains(sharing, kind):
			return "it has a step of kind " + kind
		case kind == "hold" && until != nil && until.Kind == message.Map:
			return "it waits for a row of a table"
		}
		return ""
	})
}

// Meets says in words why the messages of a flow meet each other on their way, in a group or a turn that they wait for,
// or in the one source that brings them; "" where each goes its way by itself, so that several machines may work on
// them side by side, each on those of some order values.
func (p *Plan) Meets() string {
	in := &p.Document.Intake
	if !slices.Contains(spread, in.Kind) {
		return "its intake is of kind " + in.Kind
	}
	if p.Once != nil && p.Order != nil && !strings.Contains(in.Once, in.Order) {
		return "its once value does not say of which order value a message is"
	}
	return p.has(func(kind string, _ *message.Node) string {
		if slices.Contains(meeting, kind) {
			return "it has a step of kind " + kind
		}
		return ""
	})
}

// has gives what is said of the first step of which something is said.
func (p *Plan) has(says func(kind string, step *message.Node) string) string {
	for _, part := range []string{"steps", "on-dead-letter"} {
		if said := firstOf(p.Document.Source.Root.Get(part), says); said != "" {
			return said
		}
	}
	return ""
}

// firstOf gives what is said of the first step in a part of a document of which something is said.
func firstOf(n *message.Node, says func(kind string, step *message.Node) string) string {
	if n == nil {
		return ""
	}
	switch n.Kind {
	case message.List:
		for _, one := range n.Items {
			if said := firstOf(one, says); said != "" {
				return said
			}
		}
	case message.Map:
		if kind := n.Get("kind"); kind != nil && n.Get("id") != nil {
			if said := says(kind.Text, n); said != "" {
				return said
			}
		}
		for _, m := range n.Members {
			if said := firstOf(m.Value, says); said != "" {
				return said
			}
		}
	}
	return ""
}

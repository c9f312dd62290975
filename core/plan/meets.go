package plan

import (
	"fmt"
	"slices"
	"strings"

	"readyferry/core/flow"
	"readyferry/core/message"
	"readyferry/core/step"
)

// meeting are the kinds of step in which a message meets others, or waits for what is no message of its own.
var meeting = []string{"aggregate", "resequence", "pair", "once", "hold", "pace", "subflow"}

// Meets says in words why the messages of a flow meet others on their way, in a queue, a group, a table
// that they write, a turn that they wait for; "" where each goes its way by itself, so that several
// machines may work on them side by side, each on those of some order values.
func (p *Plan) Meets() string {
	in := &p.Document.Intake
	switch {
	case in.Kind != "webhook":
		return "its intake is of kind " + in.Kind
	case p.Once != nil && p.Order != nil && !strings.Contains(in.Once, in.Order):
		return "its once value does not say of which order value a message is"
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
	for _, part := range []string{"steps", "on-dead-letter"} {
		if kind := firstMeeting(p.Document.Source.Root.Get(part)); kind != "" {
			return fmt.Sprintf("it has a step of kind %s", kind)
		}
	}
	return ""
}

// firstMeeting gives the kind of the first step in a part of a document in which messages meet.
func firstMeeting(n *message.Node) string {
	if n == nil {
		return ""
	}
	switch n.Kind {
	case message.List:
		for _, one := range n.Items {
			if kind := firstMeeting(one); kind != "" {
				return kind
			}
		}
	case message.Map:
		if kind := n.Get("kind"); kind != nil && n.Get("id") != nil && slices.Contains(meeting, kind.Text) {
			return kind.Text
		}
		for _, m := range n.Members {
			if kind := firstMeeting(m.Value); kind != "" {
				return kind
			}
		}
	}
	return ""
}

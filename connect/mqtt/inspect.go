package mqtt

import (
	"context"
	"fmt"
	"strings"

	"github.com/eclipse/paho.golang/paho"

	"readyferry/connect"
	"readyferry/core/message"
)

// Inspect implements connect.Inspector: it subscribes for a moment, as the flow would.
// Whether something may be published shows when it is: nothing is published for a test.
func (l *link) Inspect(ctx context.Context, u connect.Use) connect.Step {
	return inspect(u, func(filter string) error {
		made, err := l.join(ctx, paho.ClientConfig{ClientID: l.clientID("-test")}, &paho.Connect{
			ClientID: l.clientID("-test"), CleanStart: true,
		}, nil)
		if err != nil {
			return err
		}
		defer func() { _ = made.Disconnect(&paho.Disconnect{}) }()
		return subscribe(ctx, made, filter, 0)
	})
}

// Inspect implements connect.Inspector.
func (l *older) Inspect(ctx context.Context, u connect.Use) connect.Step {
	return inspect(u, func(filter string) error {
		made, err := l.join(ctx, l.of.clientID("-test"), true, func(error) {}, nil, nil)
		if err != nil {
			return err
		}
		defer made.Disconnect(100)
		return l.subscribeOnce(made, filter, 0)
	})
}

func inspect(u connect.Use, subscribes func(filter string) error) connect.Step {
	text := func(name string) string {
		if n := u.Settings.Get(name); n != nil && n.Kind == message.String {
			return n.Text
		}
		return ""
	}
	if topic := text("topic"); !u.Intake {
		if strings.Contains(topic, "${") {
			return connect.Step{OK: true, Detail: u.Flow + ": the topic depends on the message"}
		}
		if err := checkTopic(topic); err != nil {
			return connect.Step{Detail: fmt.Sprintf("%s: %v", u.Flow, err), Repair: "write it without + and #"}
		}
		return connect.Step{OK: true, Detail: fmt.Sprintf("%s: %s is a topic; whether it may be published to shows when it is", u.Flow, topic)}
	}
	if err := subscribes(text("filter")); err != nil {
		return connect.Step{Detail: fmt.Sprintf("%s: %v", u.Flow, err), Repair: "look at the filter, and at what the broker permits the user"}
	}
	return connect.Step{OK: true, Detail: fmt.Sprintf("%s: the filter %s may be subscribed to", u.Flow, text("filter"))}
}

package alarm

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"readyferry/connect"
	core "readyferry/core/alarm"
	"readyferry/core/message"
	"readyferry/core/retry"
	"readyferry/core/want"
	"readyferry/engine/intake"
	"readyferry/engine/journal"
	"readyferry/engine/perform"
	"readyferry/store"
)

// plan is how often a notice is tried: for about a day.
func plan() retry.Plan {
	p := retry.Default()
	p.First, p.Growth, p.Factor, p.Cap, p.Tries, p.Within = 30*time.Second, "exponential", 2, time.Hour, 30, 24*time.Hour
	return p
}

// send tries the notices that are due, each beside the others.
func (a *Alarms) send(now time.Time) error {
	due, err := a.Store.DueNotices(now)
	if err != nil {
		return err
	}
	for i := range due {
		n := &due[i]
		if _, under := a.sending.LoadOrStore(n.ID, true); under {
			continue
		}
		a.Life.Go(func() {
			defer a.sending.Delete(n.ID)
			if err := a.try(n); err != nil && !a.Life.Ending() {
				a.Log.Error("keeping what became of a notice", "notice", n.ID.String(), "error", err)
			}
		})
	}
	return nil
}

// try sends a notice once and keeps what came of it.
func (a *Alarms) try(n *store.Notice) error {
	failed := a.hand(n)
	if failed != nil && a.Life.Ending() {
		return nil // it is tried after the next start
	}
	n.Tries++
	n.Next, n.Done, n.Error = nil, failed == nil, ""
	if failed != nil {
		n.Error = failed.Error()
		p := plan()
		after := min(p.Cap, p.First<<min(n.Tries-1, 10))
		if next := a.Now().Add(after); n.Tries < p.Tries && next.Sub(n.At) < p.Within && !errors.Is(failed, errNever) {
			n.Next = &next
		}
		a.Log.Warn("a notice was not taken", "notice", n.ID.String(), "tries", n.Tries, "again", n.Next != nil)
	}
	return a.Write(context.WithoutCancel(a.context()), func(tx *store.Tx, notice *journal.Notice) error {
		notice.Events[journal.EventAlarms] = true
		return tx.SaveNotice(n)
	})
}

// errNever marks a failure that will not be another one later.
var errNever = errors.New("it will not be tried again")

// hand gives a notice to its receiver.
func (a *Alarms) hand(n *store.Notice) error {
	var to core.Receiver
	var told Told
	if err := errors.Join(json.Unmarshal(n.To, &to), json.Unmarshal(n.Body, &told)); err != nil {
		return fmt.Errorf("%w: %w", errNever, err)
	}
	if to.Flow != "" {
		return a.toFlow(to.Flow, n)
	}
	conn := a.Catalog.Connection(to.Connection)
	if conn == nil {
		return fmt.Errorf("there is no connection named %s", to.Connection)
	}
	ctx, stop := context.WithTimeout(a.context(), conn.TimeLimit+5*time.Second)
	defer stop()
	link, err := a.links.Link(ctx, conn)
	if err != nil {
		return err
	}
	sender, ok := link.(connect.Sender)
	if !ok {
		return fmt.Errorf("%w: nothing can be sent by %s", errNever, to.Connection)
	}
	r := request(conn.Kind, to, &told, n)
	if conn.Retry != nil {
		r.Rules = *conn.Retry
	}
	receipt, err := sender.Send(ctx, r)
	switch {
	case err != nil:
		return err
	case receipt.Outcome == retry.Delivered:
		return nil
	case receipt.Outcome == retry.Never:
		return fmt.Errorf("%w: %s answered %s %s", errNever, to.Connection, receipt.Code, receipt.Words)
	}
	return fmt.Errorf("%s answered %s %s", to.Connection, receipt.Code, receipt.Words)
}

// request writes a notice as a system of a kind takes it: a mail is text, all else JSON.
func request(kind string, to core.Receiver, told *Told, n *store.Notice) connect.Request {
	r := connect.Request{ID: n.ID.String(), Rules: retry.Default()}
	r.Request = want.Request{
		Method:   http.MethodPost,
		Path:     to.Path,
		Format:   "json",
		Body:     n.Body,
		Settings: to.Settings,
		Headers:  []message.Header{{Name: "content-type", Value: "application/json"}},
	}
	if len(r.Settings) == 0 {
		r.Settings = json.RawMessage("{}")
	}
	if kind == "mail" {
		r.Format, r.Body, r.Headers = "text", []byte(told.Text()), nil
		// Its own line breaks would be others' headers.
		subject := strings.Join(strings.Fields(told.Title), " ")
		r.Settings, _ = json.Marshal(map[string]string{"recipients": to.Recipients, "subject": subject})
	}
	return r
}

// toFlow gives a notice to a flow, as a message from where it takes them.
func (a *Alarms) toFlow(name string, n *store.Notice) error {
	f := a.Catalog.Flow(name)
	if f == nil || f.Live == nil || f.Paused {
		return fmt.Errorf("the flow %s takes no messages now", name)
	}
	offered := []perform.Offered{
		{Body: n.Body, Headers: []message.Header{{Name: "content-type", Value: "application/json"}}},
	}
	var err error
	switch in := &f.Live.Document.Intake; in.Kind {
	case "webhook":
		method := in.Methods[0]
		at, _ := a.intake.Find(method, in.Path)
		if at == nil || at.Flow != name {
			return fmt.Errorf("%w: the path of the flow %s has parameters; a notice has none for them", errNever, name)
		}
		header := http.Header{"Content-Type": {"application/json"}, "Idempotency-Key": {n.ID.String()}}
		_, err = a.intake.Accept(
			a.context(),
			at,
			intake.Call{Method: method, Path: in.Path, Header: header, Body: n.Body,
				From: "an alarm", Trusted: true},
		)
	case "queue":
		_, err = a.perform.Put(a.context(), in.Queue, offered)
	case "topic":
		_, err = a.perform.PublishFrom(a.context(), in.Topic, offered)
	default:
		return fmt.Errorf("%w: a flow that begins with %s is sent nothing", errNever, in.Kind)
	}
	return err
}

// Notices lists the newest notices.
func (a *Alarms) Notices(limit int) ([]store.Notice, error) { return a.Store.Notices(limit) }

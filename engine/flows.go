package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"readyferry/connect"
	"readyferry/core/flow"
	"readyferry/core/plan"
	"readyferry/core/step"
	"readyferry/store"
)

// FindingsError says that a document cannot be taken.
type FindingsError struct {
	What     string
	Findings []flow.Finding
}

func (e *FindingsError) Error() string {
	for _, f := range e.Findings {
		if f.Level == flow.Error {
			return e.What + ": " + f.Error()
		}
	}
	return e.What
}

// Read compiles a document as the flow of that name and checks it against what
// else is here: connections, queues and the paths of other flows.
func (e *Engine) Read(name string, document []byte, files map[string][]byte) (*plan.Plan, []flow.Finding) {
	p, findings := e.reader.Read(document, files)
	if findings == nil {
		findings = []flow.Finding{}
	}
	if p == nil {
		return nil, findings
	}
	add := func(level flow.Level, code, stepID, ptr, msg, repair string) {
		at := p.Document.Source.Value(ptr)
		findings = append(findings, flow.Finding{Level: level, Code: code, Step: stepID, Pointer: ptr, Line: at.Line, Column: at.Column, Message: msg, Repair: repair})
	}
	if p.Document.Name != name {
		add(flow.Error, "wrong-name", "", "/name", fmt.Sprintf("the document is of %q, but it stands under %q", p.Document.Name, name), "write name: "+name)
	}
	for _, u := range p.Uses {
		switch u.Kind {
		case step.UseConnection:
			want := connect.KindHTTP
			if strings.HasPrefix(u.Pointer, "/intake") && !u.Poll {
				want = connect.KindCaller
			}
			if u.SQL {
				want = connect.KindSQL
			}
			if c := e.connection(u.Name); c == nil {
				add(flow.Error, "unknown-connection", u.Step, u.Pointer, fmt.Sprintf("there is no connection named %q", u.Name), "make it on the Connections page, or name another")
			} else if c.Kind != want {
				add(flow.Error, "wrong-connection", u.Step, u.Pointer, fmt.Sprintf("the connection %q is of kind %s, and here it must be of kind %s", u.Name, c.Kind, want), "name another connection")
			}
		case step.UseQueue, step.UseTopic:
			e.readBy(p, u, add)
		case step.UseFlow:
			e.calls(name, u, add)
		case step.UseTable:
			e.looksIn(p, u, add)
		}
	}
	if other := e.clash(name, p); other != "" {
		add(flow.Error, "path-taken", "", "/intake/path", fmt.Sprintf("the flow %s answers at the same path and method", other), "choose another path")
	}
	flow.Sort(findings)
	return p, findings
}

// looksIn finds a table that is not there, or has other keys than a step asks for.
func (e *Engine) looksIn(p *plan.Plan, u step.Use, add func(level flow.Level, code, stepID, ptr, msg, repair string)) {
	if p.HasTable(u.Name) && u.Pairs {
		add(flow.Error, "wrong-table", u.Step, u.Pointer, fmt.Sprintf("the table %q is a file of the flow, which nothing changes", u.Name), "make a cross-reference table on the Tables page")
		return
	}
	t, err := p.Tables(e.store.LookIn()).Table(u.Name)
	if err != nil {
		said, repair, _ := strings.Cut(err.Error(), "; ")
		if repair == "" {
			repair = "make it on the Tables page, or name another"
		}
		add(flow.Error, "unknown-table", u.Step, u.Pointer, said, repair)
		return
	}
	if wrong := step.TableFinding(t.Definition(), u); wrong != "" {
		said, repair, _ := strings.Cut(wrong, "; ")
		add(flow.Error, "wrong-key", u.Step, u.Pointer, said, repair)
	}
}

// readBy finds a queue or topic that nobody reads. What is put into such a queue
// becomes a dead letter; a topic keeps it in its log.
func (e *Engine) readBy(p *plan.Plan, u step.Use, add func(level flow.Level, code, stepID, ptr, msg, repair string)) {
	channel, unread, level := u.Name, "messages for it become dead letters", flow.Error
	if u.Kind == step.UseTopic {
		channel, unread, level = topicChannel(u.Name), "what is put there is kept for later readers alone", flow.Warning
	}
	own, ok := sourceOf(&p.Document.Intake)
	asks := []string{}
	if u.Kind == step.UseQueue {
		if e.takesReplies(u.Name) {
			return
		}
		asks = e.asksBy(u.Name, true)
	}
	if len(e.readers(channel, false)) > 0 || ok && own.channel() == channel {
		return
	}
	if drafts := append(e.readers(channel, true), asks...); len(drafts) > 0 {
		add(flow.Warning, u.Kind+"-unread", u.Step, u.Pointer, fmt.Sprintf("only the draft of %s reads the %s %q; until it is published, %s", strings.Join(drafts, ", "), u.Kind, u.Name, unread), "publish that flow first")
		return
	}
	add(level, u.Kind+"-unread", u.Step, u.Pointer, fmt.Sprintf("no flow reads the %s %q", u.Kind, u.Name), "start a flow whose intake reads it, or deliver elsewhere")
}

var anyParameter = regexp.MustCompile(`\{[^}]*\}`)

// clash names a live flow that has the same path and a common method.
func (e *Engine) clash(name string, p *plan.Plan) string {
	shape := func(in *flow.Intake) string { return anyParameter.ReplaceAllString(in.Path, "{}") }
	e.mu.RLock()
	defer e.mu.RUnlock()
	for _, f := range e.flows {
		if f.name == name || f.live == nil {
			continue
		}
		in := &f.live.Document.Intake
		if in.Kind != "webhook" || p.Document.Intake.Kind != "webhook" || shape(in) != shape(&p.Document.Intake) {
			continue
		}
		for _, m := range in.Methods {
			if slices.Contains(p.Document.Intake.Methods, m) {
				return f.name
			}
		}
	}
	return ""
}

// refusing are the findings with which a draft is not even saved: what cannot
// be read again or would be lost.
func refusing(p *plan.Plan, findings []flow.Finding) bool {
	for _, f := range findings {
		if f.Level == flow.Error && (p == nil || f.Code == "wrong-name" || f.Code == "schema") {
			return true
		}
	}
	return false
}

// SaveDraft saves a flow's draft. revision guards against lost edits: when it
// is not nil it must be the present one, 0 for a flow that must not exist yet.
// It gives the new revision and the findings; a *FindingsError tells that the
// document was not saved.
func (e *Engine) SaveDraft(ctx context.Context, name string, document []byte, revision *int64) (int64, []flow.Finding, error) {
	files, err := e.store.Files(name)
	if err != nil {
		return 0, nil, err
	}
	p, findings := e.Read(name, document, files)
	if refusing(p, findings) {
		return 0, findings, &FindingsError{"the document was not saved", findings}
	}
	if strings.HasPrefix(strings.TrimSpace(string(document)), "{") {
		if document, err = flow.Write(p.Document.Source.Root); err != nil {
			return 0, findings, err
		}
	}
	var next int64
	err = e.store.Write(ctx, func(tx *store.Tx) error {
		f, err := tx.Flow(name)
		if err != nil && !errors.Is(err, ErrNotFound) {
			return err
		}
		if revision != nil && *revision != f.Revision {
			return ErrConflict
		}
		f.Name, f.Title, f.UpdatedAt = name, p.Document.Title, e.clock()
		if f.Draft != string(document) {
			f.Draft = string(document)
			f.Revision++
			f.Edits++
		}
		next = f.Revision
		return tx.SaveFlow(&f)
	})
	if err != nil {
		return 0, findings, err
	}
	return next, findings, e.changed()
}

// SaveFile saves a file of a flow's draft, or removes it when body is nil.
// revision guards against lost edits as in SaveDraft. It gives the new revision.
func (e *Engine) SaveFile(ctx context.Context, name, file string, body []byte, revision *int64) (int64, error) {
	var next int64
	err := e.store.Write(ctx, func(tx *store.Tx) error {
		f, err := tx.Flow(name)
		if err != nil {
			return err
		}
		if revision != nil && *revision != f.Revision {
			return ErrConflict
		}
		f.Edits++
		f.Revision++
		f.UpdatedAt, next = e.clock(), f.Revision
		if err := tx.SaveFile(name, file, body); err != nil {
			return err
		}
		return tx.SaveFlow(&f)
	})
	if err != nil {
		return 0, err
	}
	return next, e.changed()
}

// Publish makes the draft the next version and puts it to work. A draft with
// errors is refused with a *FindingsError.
func (e *Engine) Publish(ctx context.Context, name string) (int, []flow.Finding, error) {
	f, err := e.store.Flow(name)
	if err != nil {
		return 0, nil, err
	}
	files, err := e.store.Files(name)
	if err != nil {
		return 0, nil, err
	}
	p, findings := e.Read(name, []byte(f.Draft), files)
	if flow.HasErrors(findings) {
		return 0, findings, &FindingsError{"the draft has errors and was not published", findings}
	}
	text := map[string]string{}
	for k, v := range files {
		text[k] = string(v)
	}
	packed, err := json.Marshal(text)
	if err != nil {
		return 0, nil, err
	}
	v := store.Version{Flow: name, Document: f.Draft, Files: packed, PublishedAt: e.clock()}
	err = e.store.Write(ctx, func(tx *store.Tx) error {
		now, err := tx.Flow(name)
		if err != nil {
			return err
		}
		if now.Revision != f.Revision {
			return ErrConflict
		}
		if err := tx.AddVersion(&v); err != nil {
			return err
		}
		if err := e.subscribe(tx, &p.Document.Intake); err != nil {
			return err
		}
		now.Live, now.Edits = v.N, 0
		return tx.SaveFlow(&now)
	})
	if err != nil {
		return 0, findings, err
	}
	return v.N, findings, e.changed()
}

// Pause stops or resumes the intake of a flow. What is under way goes on.
func (e *Engine) Pause(ctx context.Context, name string, paused bool) error {
	err := e.store.Write(ctx, func(tx *store.Tx) error {
		f, err := tx.Flow(name)
		if err != nil {
			return err
		}
		f.Paused = paused
		return tx.SaveFlow(&f)
	})
	if err != nil {
		return err
	}
	return e.changed()
}

// ErrInUse wraps the refusal to delete a flow that transactions still need.
var ErrInUse = errors.New("it is still in use")

// Delete removes a flow. One whose transactions are under way, wait or are
// dead letters cannot be removed.
func (e *Engine) Delete(ctx context.Context, name string) error {
	totals, err := e.store.Totals()
	if err != nil {
		return err
	}
	for _, c := range totals {
		if c.Flow == name && c.N > 0 && (c.State == store.UnderWay || c.State == store.Waiting || c.State == store.DeadLetter) {
			return fmt.Errorf("%w: %d of its transactions are in the state %s; pause the flow and let them end first", ErrInUse, c.N, c.State)
		}
	}
	err = e.store.Write(ctx, func(tx *store.Tx) error {
		if _, err := tx.Flow(name); err != nil {
			return err
		}
		return tx.DeleteFlow(name)
	})
	if err != nil {
		return err
	}
	return e.changed()
}

// changed reads flows and connections anew and tells everyone.
func (e *Engine) changed() error {
	e.changing.Lock()
	defer e.changing.Unlock()
	if err := e.reload(); err != nil {
		return err
	}
	e.startConsumers()
	if err := e.syncClocks(); err != nil {
		return err
	}
	e.Events.Publish(TopicFlows)
	e.Events.Publish(TopicConnections)
	return nil
}

// IntakeOf gives the intake of a flow: the live version's, or the draft's when
// it was never published; nil when the draft cannot be read.
func (e *Engine) IntakeOf(name string) *flow.Intake {
	f := e.flow(name)
	switch {
	case f == nil:
		return nil
	case f.live != nil:
		return &f.live.Document.Intake
	case f.draft != nil:
		return &f.draft.Document.Intake
	}
	return nil
}

// QueueReaders lists the queues that live flows read, with the flows.
func (e *Engine) QueueReaders() map[string][]string {
	e.mu.RLock()
	defer e.mu.RUnlock()
	out := map[string][]string{}
	for _, f := range e.flows {
		if f.live != nil && f.live.Document.Intake.Kind == "queue" {
			q := f.live.Document.Intake.Queue
			out[q] = append(out[q], f.name)
			slices.Sort(out[q])
		}
	}
	return out
}

// CreateFlow makes a new flow with its files; ErrConflict when it exists.
func (e *Engine) CreateFlow(ctx context.Context, name string, document []byte, files map[string][]byte) error {
	p, findings := e.Read(name, document, files)
	if refusing(p, findings) {
		return &FindingsError{"the flow was not made", findings}
	}
	err := e.store.Write(ctx, func(tx *store.Tx) error {
		if _, err := tx.Flow(name); !errors.Is(err, ErrNotFound) {
			return errors.Join(ErrConflict, err)
		}
		for file, body := range files {
			if err := tx.SaveFile(name, file, body); err != nil {
				return err
			}
		}
		return tx.SaveFlow(&store.Flow{Name: name, Title: p.Document.Title, Draft: string(document), Revision: 1, Edits: 1, UpdatedAt: e.clock()})
	})
	if err != nil {
		return err
	}
	return e.changed()
}

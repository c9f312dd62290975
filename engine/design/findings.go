package design

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"readyferry/connect"
	"readyferry/connect/sql"
	"readyferry/core/flow"
	"readyferry/core/plan"
	"readyferry/core/step"
	"readyferry/core/system"
	"readyferry/engine/catalog"
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
func (g *Designs) Read(name string, document []byte, files map[string][]byte) (*plan.Plan, []flow.Finding) {
	p, findings := g.Catalog.Reader().Read(document, files)
	if findings == nil {
		findings = []flow.Finding{}
	}
	if p == nil {
		g.mend(document, findings)
		return nil, findings
	}
	add := func(level flow.Level, code, stepID, ptr, msg, repair string) {
		at := p.Document.Source.Value(ptr)
		findings = append(
			findings,
			flow.Finding{
				Level:   level,
				Code:    code,
				Step:    stepID,
				Pointer: ptr,
				Line:    at.Line,
				Column:  at.Column,
				Message: msg,
				Repair:  repair,
			},
		)
	}
	if p.Document.Name != name {
		add(
			flow.Error,
			"wrong-name",
			"",
			"/name",
			fmt.Sprintf("the document is of %q, but it stands under %q", p.Document.Name, name),
			"write name: "+name,
		)
	}
	if f := g.Catalog.Flow(name); f != nil && f.Live != nil && f.Live.Rules < p.Rules {
		findings = append(findings, p.Changes...)
	}
	findings = append(findings, g.neverTaken(p)...)
	for _, u := range p.Uses {
		switch u.Kind {
		case step.UseConnection:
			g.reaches(p, u, add)
		case step.UseQueue, step.UseTopic:
			g.readBy(p, u, add)
		case step.UseFlow:
			g.calls(name, u, add)
		case step.UseTable:
			g.looksIn(p, u, add)
		}
	}
	if c := p.Document.Intake.Timing.During; c != "" && g.Catalog.Calendar(c) == nil {
		add(flow.Error, "unknown-calendar", "", "/intake/during", fmt.Sprintf("there is no calendar named %q", c),
			"add it under Alarms, Calendars, or name another")
	}
	if other := g.clash(name, p); other != "" {
		add(
			flow.Error,
			"path-taken",
			"",
			"/intake/path",
			fmt.Sprintf("the flow %s answers at the same path and method", other),
			"choose another path",
		)
	}
	flow.Sort(findings)
	g.mend(document, findings)
	return p, findings
}

// reaches finds a connection that is not there, or is of a kind that does not do
// what it is named for.
func (g *Designs) reaches(p *plan.Plan, u step.Use, add func(level flow.Level, code, stepID, ptr, msg, repair string)) {
	c := g.Catalog.Connection(u.Name)
	if c == nil {
		add(
			flow.Error,
			"unknown-connection",
			u.Step,
			u.Pointer,
			fmt.Sprintf("there is no connection named %q", u.Name),
			"make it on the Connections page, or name another",
		)
		return
	}
	var fit []string
	for _, s := range g.Catalog.Systems().All() {
		if serves(&s, p, u) {
			fit = append(fit, s.Name)
		}
	}
	if !slices.Contains(fit, c.Kind) {
		add(
			flow.Error,
			"wrong-connection",
			u.Step,
			u.Pointer,
			fmt.Sprintf(
				"the connection %q is of kind %s, and here it must be of kind %s",
				u.Name,
				c.Kind,
				strings.Join(fit, " or "),
			),
			"name another connection",
		)
		return
	}
	if u.As != step.AsDeliver && u.As != step.AsAsk || u.SQL {
		return
	}
	says, does := g.Catalog.Systems().Find(c.Kind).Deliver, "a delivery to"
	if u.As == step.AsAsk {
		says, does = g.Catalog.Systems().Find(c.Kind).Ask, "a question to"
	}
	at := u.Pointer[:strings.LastIndexByte(u.Pointer, '/')]
	for _, name := range u.Says {
		if name != "headers" && system.Property(says, name) == nil {
			add(
				flow.Error,
				"unknown-key",
				u.Step,
				at+"/"+name,
				fmt.Sprintf("%s %s, which is of kind %s, has no setting %q", does, u.Name, c.Kind, name),
				"remove it",
			)
		}
	}
	if required := says.Get("required"); required != nil {
		for _, r := range required.Items {
			if !slices.Contains(u.Says, r.Text) {
				add(
					flow.Error,
					"missing-key",
					u.Step,
					at,
					fmt.Sprintf(
						"the key %q is required for %s %s, which is of kind %s",
						r.Text,
						does,
						u.Name,
						c.Kind,
					),
					"add "+r.Text+":",
				)
			}
		}
	}
}

// serves tells whether a kind of system does what a connection is named for.
func serves(s *connect.System, p *plan.Plan, u step.Use) bool {
	switch {
	case u.As == step.AsCaller:
		return s.Open == nil
	case u.As == step.AsIntake:
		return s.Intake != nil && s.Name == p.Document.Intake.Kind
	case u.SQL:
		return s.Name == sql.Kind
	case u.As == step.AsDeliver:
		return s.Deliver != nil
	}
	return s.Ask != nil && s.Name != sql.Kind
}

// looksIn finds a table that is not there, or has other keys than a step asks for.
func (g *Designs) looksIn(p *plan.Plan, u step.Use, add func(level flow.Level, code, stepID, ptr, msg, repair string)) {
	if p.HasTable(u.Name) && u.Pairs {
		add(
			flow.Error,
			"wrong-table",
			u.Step,
			u.Pointer,
			fmt.Sprintf("the table %q is a file of the flow, which nothing changes", u.Name),
			"make a cross-reference table on the Tables page",
		)
		return
	}
	t, err := p.Tables(g.Store.LookIn()).Table(u.Name)
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
func (g *Designs) readBy(p *plan.Plan, u step.Use, add func(level flow.Level, code, stepID, ptr, msg, repair string)) {
	channel, unread, level := u.Name, "messages for it become dead letters", flow.Error
	if u.Kind == step.UseTopic {
		channel, unread, level = catalog.TopicChannel(
			u.Name,
		), "what is put there is kept for later readers alone", flow.Warning
	}
	if u.Outside {
		return
	}
	own, ok := catalog.SourceOf(&p.Document.Intake)
	asks := []string{}
	if u.Kind == step.UseQueue {
		if len(g.Catalog.AsksBy(u.Name, false)) > 0 {
			return
		}
		asks = g.Catalog.AsksBy(u.Name, true)
	}
	if len(g.Catalog.Readers(channel, false)) > 0 || ok && own.Channel() == channel {
		return
	}
	if drafts := append(g.Catalog.Readers(channel, true), asks...); len(drafts) > 0 {
		add(
			flow.Warning,
			u.Kind+"-unread",
			u.Step,
			u.Pointer,
			fmt.Sprintf(
				"only the draft of %s reads the %s %q; until it is published, %s",
				strings.Join(drafts, ", "),
				u.Kind,
				u.Name,
				unread,
			),
			"publish that flow first",
		)
		return
	}
	add(
		level,
		u.Kind+"-unread",
		u.Step,
		u.Pointer,
		fmt.Sprintf("no flow reads the %s %q", u.Kind, u.Name),
		map[string]string{
			step.UseQueue: "start a flow whose intake reads it, deliver elsewhere, or write readers: outside beside queue " +
				"where something else takes its messages",
			step.UseTopic: "start a flow whose intake reads it, or deliver elsewhere",
		}[u.Kind],
	)
}

var anyParameter = regexp.MustCompile(`\{[^}]*\}`)

// clash names a live flow that has the same path and a common method.
func (g *Designs) clash(name string, p *plan.Plan) string {
	shape := func(in *flow.Intake) string { return anyParameter.ReplaceAllString(in.Path, "{}") }
	other := ""
	g.Catalog.Each(func(f *catalog.Flow) {
		if f.Name == name || f.Live == nil {
			return
		}
		in := &f.Live.Document.Intake
		if in.Kind != "webhook" || p.Document.Intake.Kind != "webhook" || shape(in) != shape(&p.Document.Intake) {
			return
		}
		if slices.ContainsFunc(
			in.Methods,
			func(m string) bool { return slices.Contains(p.Document.Intake.Methods, m) },
		) {
			other = f.Name
		}
	})
	return other
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

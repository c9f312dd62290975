package flow

import (
	"fmt"
	"strings"
	"time"
	"unicode/utf8"

	"readyferry/core/format"
	"readyferry/core/format/charset"
	"readyferry/core/message"
)

// Version names the format of a flow document, in its first key.
const Version = "flow/1"

// Document is a flow as it was written.
type Document struct {
	Name, Title, Note string
	Intake            Intake
	Keep              Keep
	Bounds            Bounds
	Weight            int      // at least 1
	Area              string   // by which rights are given; "" for none
	Mask              []string // JSON Pointers of fields whose values only some may see; * stands for every member or item
	Steps             []*Step
	OnDead            []*Step // run once for each dead letter; nil where there are none
	Source            *Source
}

// Intake says how messages enter.
type Intake struct {
	Settings *message.Node // the whole section, for what its system alone knows
	Kind     string        // webhook, queue, topic, subflow, schedule, poll, table or load
	Path     string        // webhook: below /in, with {parameters}
	Methods  []string
	Format   string // name of a format, or auto
	Callers  []string
	// Finished tells that the caller waits for an answer step or the end, for so
	// long as Wait.
	Finished bool
	Wait     time.Duration
	Faults   string // webhook: the version of SOAP in whose faults callers are refused, or ""
	Awaited  bool   // who sends is told what becomes of it
	Queue    string // queue: its name
	Topic    string // topic: its name
	// Subscription is the place in the topic that the flow reads at: by
	// default one of the flow's own name. Flows that name the same share it.
	Subscription string
	Begin        Begin // topic: where a new subscription begins
	InFlight     int   // queue and topic: messages worked on at once
	Waiting      int   // queue and topic: messages that may wait for another try besides
	Limit        int   // largest body, bytes
	Timing       Timing
	Of           string        // poll and table: name of the connection
	Each, Mark   string        // poll: expressions
	First        string        // poll: the mark of the first one
	Table, Key   string        // table: its name, and the column that tells rows apart
	Changed      string        // table: the column with the time of the last change, or ""
	Deleted      bool          // table: rows that are gone are looked for
	Most         int           // table: rows that are read at once
	Late         time.Duration // table: rows that commit so long after others are found, too
	Layout       message.Layout
	Limits       format.Limits
	Strict       bool   // members that stand twice are refused
	Missing      string // "otherwise": a condition over what is missing is false; else it fails
	Once         string // expressions
	OnceFor      time.Duration
	Reference    string
	Order        string
}

// Timing says when a schedule or a poll is due.
type Timing struct {
	Cron, Zone string
	Every      time.Duration // in place of Cron
	Missed     string        // once, each or skip
	During     string        // a calendar: it is due within its times only
}

// DefaultPoll is how often a poll is due whose flow says nothing.
const DefaultPoll = time.Minute

// Begin says where in a topic a new subscription begins to read.
type Begin struct {
	Latest bool      // only what is put from then on
	Time   time.Time // with the first message put then or later; zero: not so
	Offset *int64    // with the message at this offset
}

// Defaults of an intake.
const (
	DefaultLimit    = 1 << 20 // bytes of a body
	DefaultOnceFor  = 24 * time.Hour
	DefaultInFlight = 4
	DefaultWaiting  = 10_000          // messages of a reader that wait for another try
	DefaultLate     = 5 * time.Minute // how long after others a row of a polled table may commit
	DefaultWait     = 30 * time.Second
	MaxWait         = 5 * time.Minute
)

// Step is one row of a flow.
type Step struct {
	ID, Kind, Title, Note string
	When                  string // expression, or ""
	Off                   bool
	Settings              *message.Node // the whole map of the step
	Pointer               string        // where the step stands
}

// Read takes the document apart. The source must have passed the flow's JSON
// Schema; what that cannot say is checked here.
func Read(s *Source) (*Document, []Finding) {
	root := s.Root
	d := &Document{Name: text(root, "name"), Title: text(root, "title"), Note: text(root, "note"), Source: s}
	if d.Title == "" {
		d.Title = d.Name
	}
	var findings []Finding
	d.Intake, findings = readIntake(s)
	findings = append(findings, d.readBounds(s)...)
	if steps := root.Get("steps"); steps != nil {
		d.Steps = Steps(steps, "/steps")
	}
	if steps := root.Get("on-dead-letter").Get("steps"); steps != nil {
		d.OnDead = Steps(steps, "/on-dead-letter/steps")
	}
	return d, findings
}

// readBounds reads how much the flow takes, and how long it keeps it.
func (d *Document) readBounds(s *Source) []Finding {
	var findings []Finding
	read := func(err error, ptr string) {
		if err != nil {
			p := s.Value(ptr)
			findings = append(
				findings,
				Finding{Level: Error, Code: "wrong-value", Pointer: ptr, Line: p.Line, Column: p.Column,
					Message: err.Error()},
			)
		}
	}
	var err error
	d.Keep, err = ReadKeep(s.Root.Get("retain"))
	read(err, "/retain/bytes")
	limits := s.Root.Get("limits")
	d.Bounds.PerSecond = number(limits, "per-second", 0)
	d.Bounds.Bytes, err = readSize(limits, "bytes")
	read(err, "/limits/bytes")
	d.Weight = number(s.Root, "weight", DefaultWeight)
	d.Area, d.Mask = text(s.Root, "area"), texts(s.Root, "mask")
	return findings
}

func readIntake(s *Source) (Intake, []Finding) {
	n := s.Root.Get("intake")
	in := Intake{
		Kind: text(n, "kind"), Path: text(n, "path"), Format: text(n, "format"), Queue: text(n, "queue"),
		Methods: texts(n, "methods"), Callers: texts(n, "callers"),
		Topic: text(n, "topic"), Subscription: text(n, "subscription"),
		Once: text(n, "once"), Reference: text(n, "reference"), Order: text(n, "order"),
		InFlight: number(
			n,
			"in-flight",
			DefaultInFlight,
		), Waiting: number(n, "waiting", DefaultWaiting), Limit: number(n, "limit", DefaultLimit),
		Strict: flag(n, "strict"), OnceFor: DefaultOnceFor, Layout: Layout(n),
		Missing: text(n, "missing"),
		Faults:  strings.TrimPrefix(text(n, "faults"), "soap-"),
		Limits:  format.Limits{Depth: number(n.Get("limits"), "depth", 0), Nodes: number(n.Get("limits"), "values", 0)},
	}
	if in.Format == "" && (in.Kind == "schedule" || in.Kind == "poll" || in.Kind == "table") {
		in.Format = "json"
	}
	if in.Format == "" {
		in.Format = "auto"
	}
	if len(in.Methods) == 0 {
		in.Methods = []string{"POST"}
	}
	if in.Subscription == "" {
		in.Subscription = text(s.Root, "name")
	}
	var findings []Finding
	wrong := func(ptr string, err error, repair string) {
		p := s.Value(ptr)
		findings = append(
			findings,
			Finding{
				Level:   Error,
				Code:    "wrong-value",
				Pointer: ptr,
				Line:    p.Line,
				Column:  p.Column,
				Message: err.Error(),
				Repair:  repair,
			},
		)
	}
	if t := text(n, "once-for"); t != "" {
		d, err := Duration(t)
		if err != nil {
			wrong("/intake/once-for", err, "write it as 30s, 10m or 24h")
		}
		in.OnceFor = d
	}
	in.Finished, in.Wait, in.Awaited = text(n, "answer") == "finished", DefaultWait, in.Kind == "webhook"
	if t := text(n, "wait"); t != "" {
		d, err := Duration(t)
		if err == nil && d > MaxWait {
			err = fmt.Errorf("a caller is kept waiting for at most %s", MaxWait)
		}
		if err != nil {
			wrong("/intake/wait", err, "write it as 30s or 2m")
		}
		in.Wait = d
	}
	if err := charset.Check(text(n, "encoding")); err != nil && !strings.HasPrefix(strings.ToLower(text(n,
		"encoding")), "utf-16") {
		wrong("/intake/encoding", err, "write it as iso-8859-1 or windows-1252")
	}
	in.Settings = n
	in.Of, in.Each, in.Mark, in.First = text(n, "of"), text(n, "each"), text(n, "mark"), scalar(n, "first")
	in.Table, in.Key, in.Changed, in.Deleted, in.Most = text(
		n,
		"table",
	), text(
		n,
		"key",
	), text(
		n,
		"changed",
	), flag(
		n,
		"deleted",
	), number(
		n,
		"most",
		500,
	)
	in.Timing = Timing{
		Cron:   text(n, "cron"),
		Zone:   text(n, "zone"),
		Missed: text(n, "missed"),
		During: text(n, "during"),
	}
	if in.Timing.Missed == "" {
		in.Timing.Missed = "once"
	}
	if t := text(n, "every"); t != "" {
		d, err := Duration(t)
		if err != nil {
			wrong("/intake/every", err, "write it as 30s, 15m or 24h")
		}
		in.Timing.Every = d
	}
	if in.Late = DefaultLate; text(n, "late") != "" {
		d, err := time.ParseDuration(text(n, "late"))
		if err != nil || d < 0 {
			wrong("/intake/late", fmt.Errorf("%q is no span of time", text(n, "late")), "write it as 0s, 30s or 5m")
		}
		in.Late = d
	}
	in.Begin.Latest = text(n, "begin") == "latest"
	if t := text(n.Get("begin"), "time"); t != "" {
		at, err := time.Parse(time.RFC3339, t)
		if err != nil {
			wrong("/intake/begin/time", fmt.Errorf("%q is no point in time", t), "write it as 2026-05-04T09:00:00Z")
		}
		in.Begin.Time = at
	}
	if v := n.Get("begin").Get("offset"); v != nil {
		offset := int64(number(n.Get("begin"), "offset", 0))
		in.Begin.Offset = &offset
	}
	return in, findings
}

// Layout reads the settings of a format that the intake and several steps have.
func Layout(n *message.Node) message.Layout {
	one := func(name string) rune {
		r, _ := utf8.DecodeRuneInString(text(n, name))
		if r == utf8.RuneError {
			return 0
		}
		return r
	}
	return message.Layout{
		Delimiter: one("delimiter"),
		Quote:     one("quote"),
		Header:    flag(n, "header"),
		Charset:   text(n, "encoding"),
		Columns:   columns(n.Get("columns")),
		Lenient:   text(n, "quotes") == "lenient",
		Root:      text(n, "root"),
		Prefixes:  prefixes(n.Get("prefixes")),
	}
}

// By reads the settings of a schema by which a binary format is read and written.
func By(n *message.Node) format.By {
	return format.By{File: text(n, "schema"), Type: text(n, "message-type"), Framing: text(n, "framing"),
		Number: uint32(max(0, number(n, "schema-number", 0)))}
}

// columns reads the layout of text of fixed width.
func columns(n *message.Node) (out []message.Column) {
	if n == nil || n.Kind != message.List {
		return nil
	}
	for _, one := range n.Items {
		c := message.Column{
			Name:  text(one, "name"),
			Width: number(one, "width", 0),
			Right: text(one, "align") == "right",
		}
		c.Fill, _ = utf8.DecodeRuneInString(text(one, "fill"))
		if text(one, "fill") == "" {
			c.Fill = 0
		}
		out = append(out, c)
	}
	return out
}

// prefixes reads the prefixes that names of XML are to have.
func prefixes(n *message.Node) map[string]string {
	if n == nil || n.Kind != message.Map {
		return nil
	}
	out := map[string]string{}
	for _, m := range n.Members {
		out[m.Name] = m.Value.Text
	}
	return out
}

// Steps takes a list of steps apart; nested ones stay in their Settings.
func Steps(list *message.Node, ptr string) []*Step {
	var out []*Step
	for i, n := range list.Items {
		out = append(out, &Step{
			ID: text(n, "id"), Kind: text(n, "kind"), Title: text(n, "title"), Note: text(n, "note"),
			When: scalar(n, "when"), Off: flag(n, "off"), Settings: n, Pointer: fmt.Sprintf("%s/%d", ptr, i),
		})
	}
	return out
}

// Duration reads a span such as 5s, 1m30s or 24h; it must be longer than 0.
func Duration(s string) (time.Duration, error) {
	d, err := time.ParseDuration(s)
	if err != nil {
		return 0, fmt.Errorf("%q is no span of time", s)
	}
	if d <= 0 {
		return 0, fmt.Errorf("%q must be longer than 0", s)
	}
	return d, nil
}

func text(n *message.Node, name string) string {
	if v := n.Get(name); v != nil && v.Kind == message.String {
		return v.Text
	}
	return ""
}

// scalar is text for settings that may be written as a bare boolean or number.
func scalar(n *message.Node, name string) string {
	v := n.Get(name)
	if v == nil || v.Kind == message.Map || v.Kind == message.List {
		return ""
	}
	return v.Text
}

func texts(n *message.Node, name string) []string {
	v := n.Get(name)
	if v == nil {
		return nil
	}
	var out []string
	for _, item := range v.Items {
		out = append(out, item.Text)
	}
	return out
}

func flag(n *message.Node, name string) bool {
	v := n.Get(name)
	return v != nil && v.Kind == message.Bool && v.Text == "true"
}

func number(n *message.Node, name string, otherwise int) int {
	v := n.Get(name)
	if v == nil || v.Kind != message.Number {
		return otherwise
	}
	i := otherwise
	if _, err := fmt.Sscan(v.Text, &i); err != nil {
		return otherwise
	}
	return i
}

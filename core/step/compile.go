package step

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"readyferry/core/expr"
	"readyferry/core/flow"
	"readyferry/core/format"
	"readyferry/core/message"
	"readyferry/core/pointer"
	"readyferry/core/script"
	"readyferry/core/system"
)

// Compiler turns steps into runners and collects what is wrong with them.
type Compiler struct {
	Env      *expr.Env
	Document *flow.Document
	Files    map[string][]byte // the flow's own files, by name
	Systems  system.Kinds      // kinds of outside system besides HTTP
	Sandbox  *script.Sandbox   // runs the scripts of code steps; nil: there are none
	Rules    flow.Rules        // that the version is compiled under
	Findings []flow.Finding
	Changes  []flow.Finding // what does something else under these rules than under those before
	Uses     []Use
	Bodies   bool // an expression reads the body as it stood behind an earlier step

	// outside is the delivery behind which the caller has been answered, or "".
	outside string
	// scatter is the scatter in whose way the step stands, or "".
	scatter string
	dead    bool // the step runs for a dead letter
	// parts is the id of the split around the step, or "".
	parts string
	reads []string // JSON Pointers into the body that the step being compiled reads
	needs []Need
	looks bool // the step being compiled looks up rows of tables that are no files

	find func(name string) (Kind, bool)
	ids  map[string]string // id → pointer
	step *flow.Step        // the one being compiled
}

// NewCompiler makes a compiler for the steps of a document.
func NewCompiler(env *expr.Env, d *flow.Document, files map[string][]byte) *Compiler {
	return &Compiler{
		Env: env, Document: d, Files: files, Rules: flow.RulesNow, find: Find, ids: map[string]string{},
	}
}

// Use is something outside the flow that it names.
type Use struct {
	Kind, Name, Step, Pointer string
	// Of a table: the columns that a lookup asks for (nil: the first key) or that
	// a pair writes, and whether a value in a range is asked for.
	Columns   []string
	At, Pairs bool
	Called    bool // of a table: by lookup() in an expression
	SQL, Poll bool // of a connection: it is asked with SQL, or polled
	Outside   bool // of a queue: it is read from outside of the application
	// As tells what a connection is used for, Says which settings of its system the
	// step or intake gives.
	As   string
	Says []string
}

// The kinds of use.
const (
	UseConnection = "connection"
	UseQueue      = "queue"
	UseTopic      = "topic"
	UseTable      = "table"
	UseReplies    = "replies" // a queue for the replies to an ask
	UseFlow       = "flow"
)

// What a connection is used for.
const (
	AsCaller  = "caller"
	AsDeliver = "deliver"
	AsAsk     = "ask"
	AsPoll    = "poll"
	AsIntake  = "intake"
)

// Block compiles a list of steps.
func (c *Compiler) Block(steps []*flow.Step) *Block {
	b := &Block{}
	for _, s := range steps {
		if s.ID != "" {
			if first, taken := c.ids[s.ID]; taken {
				p := c.Document.Source.Value(first)
				c.at(
					s,
					s.Pointer+"/id",
					flow.Error,
					"duplicate-id",
					fmt.Sprintf("the id %q is taken by the step in line %d", s.ID, p.Line),
					"give one of them another id",
				)
			}
			c.ids[s.ID] = s.Pointer
		}
		if compiled := c.one(s); compiled != nil {
			b.Steps = append(b.Steps, compiled)
		}
	}
	return b
}

func (c *Compiler) one(s *flow.Step) *Compiled {
	out := &Compiled{Step: s}
	if s.Off {
		return out
	}
	kind, ok := c.find(s.Kind)
	if !ok {
		return nil // the schema has said so
	}
	outer, outerReads, outerNeeds, outerLooks := c.step, c.reads, c.needs, c.looks
	c.step, c.reads, c.needs, c.looks = s, nil, nil, false
	defer func() { c.step, c.reads, c.needs, c.looks = outer, outerReads, outerNeeds, outerLooks }()
	before := len(c.Findings)
	if c.scatter != "" && s.Kind == "split" {
		c.Find(
			s.Pointer+"/kind",
			flow.Error,
			"wrong-value",
			"parts answer nobody, so a way of the scatter "+c.scatter+" cannot be split",
			"move the split in front of the scatter or behind it",
		)
	}
	if c.scatter != "" && (s.Kind == "aggregate" || s.Kind == "resequence") {
		c.Find(
			s.Pointer+"/kind",
			flow.Error,
			"wrong-value",
			"a way of the scatter "+c.scatter+" answers within a time, so no step in it can wait for other messages",
			"move the step in front of the scatter or behind it",
		)
	}
	if c.dead && slices.Contains(append(gathers, "split", "answer"), s.Kind) {
		c.Find(
			s.Pointer+"/kind",
			flow.Error,
			"wrong-value",
			"the steps for a dead letter tell somebody about it; none of them can be of kind "+s.Kind,
			"deliver to a queue, and do that in the flow which reads it",
		)
	}
	if s.When != "" {
		out.When = c.Condition(s.Pointer+"/when", s.When)
	}
	out.Runner = kind.compile(c, s)
	out.Else = c.catch(s)
	out.Reads, out.Needs, out.Looks = c.reads, c.needs, c.looks
	for _, f := range c.Findings[before:] {
		if f.Level == flow.Error && f.Step == s.ID {
			out.Runner, out.When = broken(f.Message), nil
			return out
		}
	}
	switch r := out.Runner.(type) {
	case *route:
		out.Ways, out.Every = r.blocks, r.every
	case *split:
		out.Inside = r.block
	case *scatter:
		out.Ways, out.Every = r.blocks, true
	}
	return out
}

// broken is a step that has errors: it can be shown and rehearsed, and fails
// with its first error.
type broken string

func (b broken) Run(*Call) (Result, error) {
	return Result{}, &Failure{Phase: "settings", Class: Flow, Reason: string(b)}
}

func (c *Compiler) at(s *flow.Step, ptr string, level flow.Level, code, msg, repair string) {
	c.found(s, ptr, c.Document.Source.Value(ptr), level, code, msg, repair)
}

func (c *Compiler) found(s *flow.Step, ptr string, p flow.Place, level flow.Level, code, msg, repair string) {
	f := flow.Finding{
		Level:   level,
		Code:    code,
		Pointer: ptr,
		Line:    p.Line,
		Column:  p.Column,
		Message: msg,
		Repair:  repair,
	}
	if s != nil {
		f.Step = s.ID
	}
	c.Findings = append(c.Findings, f)
}

// changed notes that the step being compiled does something else than under older
// rules.
func (c *Compiler) changed(level flow.Level, ptr, code, msg, repair string) {
	before := len(c.Findings)
	c.Find(ptr, level, code, msg, repair)
	c.Changes, c.Findings = append(c.Changes, c.Findings[before:]...), c.Findings[:before]
}

// Find adds a finding about the step being compiled.
func (c *Compiler) Find(ptr string, level flow.Level, code, msg, repair string) {
	c.at(c.step, ptr, level, code, msg, repair)
}

func (c *Compiler) expression(ptr string, err error) {
	var bad *expr.CompileError
	if !errors.As(err, &bad) {
		c.Find(ptr, flow.Error, "expression", err.Error(), "")
		return
	}
	place := c.Document.Source.Within(ptr, bad.Line, bad.Column)
	c.found(c.step, ptr, place, flow.Error, "expression", bad.Message, bad.Repair)
}

// Expression compiles an expression that stands at ptr; nil when it is wrong.
func (c *Compiler) Expression(ptr, source string) *expr.Program {
	p, err := c.Env.Compile(source)
	if err != nil {
		c.expression(ptr, err)
		return nil
	}
	return c.noted(ptr, p)
}

// written is Schema for a document that is written, which must have one.
func (c *Compiler) written(s *flow.Step, name string) message.Schema {
	if by := flow.By(s.Settings); name == format.Avro && by.File == "" {
		c.Find(s.Pointer, flow.Error, "schema", "avro is written by a schema",
			"name a file of the flow: schema: schemas/loan.avsc")
	}
	return c.Schema(s.Settings, s.Pointer, name)
}

// Schema compiles the schema of a binary format that the settings at ptr name; nil for another
// format, and for one that is wrong.
func (c *Compiler) Schema(settings *message.Node, ptr, name string) message.Schema {
	s, err := format.SchemaOf(name, c.Files, flow.By(settings))
	if err != nil {
		if settings.Get("schema") != nil {
			ptr += "/schema"
		}
		c.Find(ptr, flow.Error, "schema", err.Error(),
			"name a file of the flow, such as schemas/loan.avsc or schemas/loan.proto")
	}
	return s
}

// noted keeps what an expression at ptr reads, and where it looks up.
func (c *Compiler) noted(ptr string, p *expr.Program) *expr.Program {
	p.At = ptr
	c.read(ptr, p.Reads)
	c.look(ptr, p.Looks)
	c.differs(ptr, p.Differs)
	return p
}

// look notes in which tables beside the flow the step being compiled looks up.
func (c *Compiler) look(ptr string, looks []expr.Look) {
	for _, l := range looks {
		c.looks = true
		if l.Table != "" {
			use := Use{Kind: UseTable, Name: l.Table, Pointer: ptr, Columns: l.Columns, Called: true}
			if c.step != nil {
				use.Step = c.step.ID
			}
			c.Uses = append(c.Uses, use)
		}
	}
}

// differs says where an expression may come to something else than under older rules.
func (c *Compiler) differs(ptr string, d expr.Differs) {
	if d.Optional != "" {
		c.changed(
			flow.Note,
			ptr,
			"optional-access",
			d.Optional+" is an error now where what stands before .? is null or has no members; in the live version it is absent",
			"write optional.ofNonZeroValue(…) around what may be null",
		)
	}
	if d.Condition {
		c.changed(flow.Note, ptr, "condition",
			"a condition of ? : that is neither true nor false is an error now; in the live version it counts as false",
			"compare it with something")
	}
	if d.MessageID && c.parts != "" {
		c.changed(
			flow.Warning,
			ptr,
			"part-id",
			"message.id is the part's own now; in the live version it is that of the whole",
			"write message.parent for that of the whole",
		)
	}
}

// Intake is the name among bodies of the message as it came in.
const Intake = "intake"

// earlier notes that an expression reads the body behind an earlier step, and checks that there
// is such a step.
func (c *Compiler) earlier(ptr string, p expr.Path) {
	c.Bodies = true
	tokens, err := pointer.Parse(p.Pointer())
	if err != nil || len(tokens) == 0 {
		return
	}
	if c.step == nil {
		c.Find(ptr, flow.Error, "expression", "no step stands before this", "write body")
		return
	}
	name := tokens[0]
	if at, is := c.ids[name]; name == Intake || is && at != c.step.Pointer {
		return
	}
	known := append(slices.Sorted(maps.Keys(c.ids)), Intake)
	known = slices.DeleteFunc(known, func(id string) bool { return id == c.step.ID })
	repair := "it is one of " + strings.Join(known[max(0, len(known)-8):], ", ")
	if near := expr.Nearest(name, known); len(near) > 0 {
		repair = "did you mean " + strings.Join(near, " or ") + "?"
	}
	c.Find(ptr, flow.Error, "expression", fmt.Sprintf("there is no earlier step %q", name), repair)
}

// read notes which parts of the body the step being compiled reads.
func (c *Compiler) read(ptr string, paths []expr.Path) {
	if !c.Env.Local("body") {
		for _, p := range expr.Needed(paths, "body") {
			c.needs = append(c.needs, Need{ptr, p})
		}
	}
	for _, p := range paths {
		if p.Root == "bodies" && !c.Env.Local("bodies") {
			c.earlier(ptr, p)
		}
		if ptr := p.Pointer(); p.Root == "body" && !slices.Contains(c.reads, ptr) {
			c.reads = append(c.reads, ptr)
		}
	}
}

// Condition is Expression for conditions.
func (c *Compiler) Condition(ptr, source string) *expr.Program {
	p, err := c.Env.CompileBool(source)
	if err != nil {
		c.expression(ptr, err)
		return nil
	}
	return c.noted(ptr, p)
}

// Template compiles a template that stands at ptr; nil when it is wrong.
func (c *Compiler) Template(ptr, source string, place expr.Place) *expr.Template {
	t, err := c.Env.CompileTemplate(source, place)
	if err != nil {
		c.expression(ptr, err)
		return nil
	}
	c.read(ptr, t.Reads)
	c.look(ptr, t.Looks)
	for _, d := range t.Differs() {
		c.differs(ptr, d)
	}
	return t
}

// headerTemplate is a header that a step writes; nil template: it is removed.
type headerTemplate struct {
	name  string
	value *expr.Template
}

func (c *Compiler) headers(s *flow.Step) []headerTemplate {
	var out []headerTemplate
	for _, m := range members(s.Settings.Get("headers")) {
		ptr := s.Pointer + "/headers" + pointer.Pointer{m.Name}.String()
		if !headerName(m.Name) {
			c.at(
				s,
				ptr,
				flow.Error,
				"wrong-value",
				fmt.Sprintf("%q is no name of a header", m.Name),
				"use letters, digits and hyphens",
			)
			continue
		}
		if m.Value.Kind == message.Null {
			out = append(out, headerTemplate{m.Name, nil})
			continue
		}
		if t := c.Template(ptr, scalar(m.Value), expr.HeaderValue); t != nil {
			out = append(out, headerTemplate{m.Name, t})
		}
	}
	return out
}

// headerName follows RFC 9110, 5.6.2, without the odder characters of a token.
func headerName(s string) bool {
	for _, c := range []byte(s) {
		if !(c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '-' || c == '_' || c == '.') {
			return false
		}
	}
	return s != ""
}

func fillHeaders(templates []headerTemplate, scope *expr.Scope) ([]message.Header, error) {
	out := make([]message.Header, 0, len(templates))
	for _, h := range templates {
		if h.value == nil {
			continue
		}
		v, err := h.value.Eval(scope)
		if err != nil {
			return nil, fail("headers/"+h.name, err)
		}
		out = append(out, message.Header{Name: h.name, Value: v})
	}
	return out, nil
}

func members(n *message.Node) []message.Member {
	if n == nil {
		return nil
	}
	return n.Members
}

// scalar gives a setting as its text: expressions may be written as bare
// numbers or booleans.
func scalar(n *message.Node) string {
	if n == nil || n.Kind == message.List || n.Kind == message.Map {
		return ""
	}
	return n.Text
}

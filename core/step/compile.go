package step

import (
	"errors"
	"fmt"
	"slices"

	"readyferry/core/expr"
	"readyferry/core/flow"
	"readyferry/core/format"
	"readyferry/core/message"
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
	Called    bool   // of a table: by lookup() in an expression
	SQL, Poll bool   // of a connection: it is asked with SQL, or polled
	Outside   bool   // of a queue: it is read from outside of the application
	Runner    string // of a flow: the runner where it runs; "": here
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

// Package plan turns a flow document into a compiled plan that can be walked:
// it checks the document against the flow's JSON Schema, compiles expressions,
// templates and schemas, and reports what it finds with line and column.
//
// A plan belongs to one version of one flow and never changes, so many walks may
// share it. Compiling is done once; a walk looks up nothing by name. What is found
// wrong is a list of findings, each with its place in the text and, where there is
// one, a repair; a plan with an error among them cannot be published.
//
// Schema gives the JSON Schema of flow documents for editors. It is made of what
// the kinds of step and of outside systems say about themselves.
package plan

import (
	"fmt"
	"regexp"
	"strings"
	"sync"

	"readyferry/core/config"
	"readyferry/core/expr"
	"readyferry/core/flow"
	"readyferry/core/format/csv"
	"readyferry/core/message"
	"readyferry/core/schema"
	"readyferry/core/script"
	"readyferry/core/step"
	"readyferry/core/system"
	"readyferry/core/table"
	"readyferry/core/timing"
)

// Plan is a compiled flow. It is safe for concurrent use and never changes.
type Plan struct {
	Document *flow.Document
	Rules    flow.Rules     // that it was compiled under
	Changes  []flow.Finding // what it would do otherwise under older rules
	Block    *step.Block
	OnDead   *step.Block   // run once for each dead letter; nil where there are none
	Uses     []step.Use    // what the flow names outside itself
	Bodies   bool          // expressions read the body as it stood behind earlier steps
	Config   config.Values // that expressions read

	Once, Reference, Order *expr.Program // nil where the intake has none

	Due  *timing.Schedule // of a schedule or poll
	Poll *Poll            // of an HTTP poll

	tables map[string]func() (table.Table, error) // the flow's own

	unread   sync.Once
	isUnread bool
	named    sync.Once
	names    map[string]struct{} // of Names
}

// Reader reads flow documents. Make one and share it.
type Reader struct {
	env     *expr.Env
	schema  *schema.Schema
	root    *message.Node
	sandbox *script.Sandbox
	systems system.Kinds
	config  config.Values // that drafts see
}

// NewReader makes a reader for flows that know some kinds of outside system. Scripts
// run here, in this process.
func NewReader(systems ...system.Kind) (*Reader, error) { return NewReaderWith(nil, systems...) }

// NewReaderWith is NewReader with something else that runs scripts.
func NewReaderWith(scripts script.Runner, systems ...system.Kind) (*Reader, error) {
	env, err := expr.New()
	if err != nil {
		return nil, err
	}
	root := Schema(systems)
	s, err := schema.CompileOwn(root)
	if err != nil {
		return nil, fmt.Errorf("compiling the flow schema: %w", err)
	}
	sandbox, err := script.NewSandbox()
	if err != nil {
		return nil, err
	}
	sandbox.Runner = scripts
	return &Reader{env: env, schema: s, root: root, sandbox: sandbox, systems: systems}, nil
}

// Env gives the environment that the reader compiles expressions in.
func (r *Reader) Env() *expr.Env { return r.env }

// Schema gives the JSON Schema that documents are checked against.
func (r *Reader) Schema() *message.Node { return r.root }

// Read reads a document under the newest rules, as drafts are.
func (r *Reader) Read(src []byte, files map[string][]byte) (*Plan, []flow.Finding) {
	return r.read(flow.RulesNow, src, files, r.config)
}

// ReadUnder reads a document under the rules that its version was published
// under. files are the flow's own files by name. The plan is nil when the findings hold an error of syntax
// or shape. A plan with other
// errors can be rehearsed while a person is still writing: its wrong steps fail.
func (r *Reader) ReadUnder(rules flow.Rules, src []byte, files map[string][]byte) (*Plan, []flow.Finding) {
	return r.read(rules, src, files, nil)
}

// ReadHere is ReadUnder with the values of config of this place.
func (r *Reader) ReadHere(rules flow.Rules, src []byte, files map[string][]byte) (*Plan, []flow.Finding) {
	return r.read(rules, src, files, r.config)
}

func (r *Reader) read(rules flow.Rules, src []byte, files map[string][]byte, here config.Values) (*Plan,
	[]flow.Finding) {
	source, bad := flow.Parse(src)
	if bad != nil {
		return nil, []flow.Finding{*bad}
	}
	findings := r.shape(source)
	if flow.HasErrors(findings) {
		flow.Sort(findings)
		return nil, findings
	}
	d, more := flow.Read(source)
	findings = append(findings, more...)
	env, err := r.environment(rules, src, files, here)
	if err != nil {
		return nil, []flow.Finding{{Level: flow.Error, Code: "wrong-value", Line: 1, Column: 1, Message: err.Error()}}
	}
	c := step.NewCompiler(env.WithTables(expr.NewTables(files)), d, files)
	c.Sandbox, c.Systems, c.Rules = r.sandbox, r.systems, rules
	p := &Plan{Document: d, Rules: rules, tables: ownTables(files)}
	for _, e := range []struct {
		source, ptr string
		into        **expr.Program
	}{
		{d.Intake.Once, "/intake/once", &p.Once},
		{d.Intake.Reference, "/intake/reference", &p.Reference},
		{d.Intake.Order, "/intake/order", &p.Order},
	} {
		if e.source != "" {
			*e.into = c.Expression(e.ptr, e.source)
		}
	}
	d.Intake.Layout.Schema = c.Schema(d.Source.Root.Get("intake"), "/intake", d.Intake.Format)
	r.intake(c, d)
	p.timing(c, d)
	r.poll(p, c, d)
	c.Env = c.Env.WithKept(true)
	p.Block = c.Block(d.Steps)
	p.OnDead = c.Dead(d.OnDead)
	for _, at := range secrets(d.Source.Root) {
		c.Find(at, flow.Warning, "plain-secret",
			"this looks like a secret in plain text, which is in every version and copy of the flow",
			"put it into the sign-in of the connection, where it is sealed")
	}
	p.Uses, p.Changes, p.Bodies, p.Config = c.Uses, c.Changes, c.Bodies, env.Config()
	findings = append(findings, c.Findings...)
	flow.Sort(findings)
	return p, findings
}

var parameter = regexp.MustCompile(`\{([^}]*)\}`)

func (r *Reader) intake(c *step.Compiler, d *flow.Document) {
	if err := (csv.Options{Delimiter: d.Intake.Layout.Delimiter, Quote: d.Intake.Layout.Quote}).Check(); err != nil {
		c.Find("/intake", flow.Error, "wrong-value", err.Error(), "choose other characters")
	}
	if k, ok := r.systems.Find(d.Intake.Kind); ok && k.Intake != nil {
		use := step.Use{Kind: step.UseConnection, Name: d.Intake.Of, Pointer: "/intake/of", As: step.AsIntake}
		c.Uses = append(c.Uses, use)
		d.Intake.Awaited = system.Property(k.Intake, "answer") != nil
	}
	if d.Intake.Kind != "webhook" {
		return
	}
	seen := map[string]bool{}
	for _, m := range parameter.FindAllStringSubmatch(d.Intake.Path, -1) {
		if seen[m[1]] {
			c.Find(
				"/intake/path",
				flow.Error,
				"wrong-value",
				fmt.Sprintf("the parameter {%s} stands twice in the path", m[1]),
				"give each its own name",
			)
		}
		seen[m[1]] = true
	}
	if len(d.Intake.Callers) == 0 {
		c.Find(
			"/intake",
			flow.Warning,
			"open-webhook",
			"anyone who knows the address may call this webhook",
			"name a connection of kind caller under callers",
		)
	}
	for i, name := range d.Intake.Callers {
		c.Uses = append(
			c.Uses,
			step.Use{
				Kind:    step.UseConnection,
				Name:    name,
				Pointer: fmt.Sprintf("/intake/callers/%d", i),
				As:      step.AsCaller,
			},
		)
	}
}

// shape checks the document against the schema.
func (r *Reader) shape(s *flow.Source) []flow.Finding {
	if s.Root.Kind != message.Map {
		p := s.Value("")
		return []flow.Finding{
			{
				Level:   flow.Error,
				Code:    "wrong-type",
				Line:    p.Line,
				Column:  p.Column,
				Message: "a flow document is a map, not a " + s.Root.Kind.String(),
				Repair:  "begin with readyferry: flow/1",
			},
		}
	}
	failures, err := r.schema.Validate(s.Root)
	if err != nil {
		return []flow.Finding{{Level: flow.Error, Code: "wrong-value", Line: 1, Column: 1, Message: err.Error()}}
	}
	var out []flow.Finding
	for _, f := range failures {
		if !switchedOff(s.Root, f) {
			out = append(out, r.explain(s, f))
		}
	}
	return out
}

func (r *Reader) explain(s *flow.Source, f schema.Failure) flow.Finding {
	out := flow.Finding{Level: flow.Error, Pointer: f.Pointer, Step: stepAt(s.Root, f.Pointer)}
	name := f.Pointer[strings.LastIndexByte(f.Pointer, '/')+1:]
	p := s.Value(f.Pointer)
	switch {
	case f.Unknown != nil:
		p = s.Key(f.Pointer)
		out.Code = "unknown-key"
		out.Message = fmt.Sprintf("the key %q is not known here", f.Unknown[0])
		out.Repair = near(f.Unknown[0], r.known(s.Root, f.Pointer))
	case f.Missing != "":
		out.Code = "missing-key"
		out.Message = fmt.Sprintf("the key %q is required", f.Missing)
		out.Repair = "add " + f.Missing + ":"
	case f.Allowed != nil:
		out.Code = "wrong-value"
		out.Message = fmt.Sprintf("%q cannot be %s", name, shown(s.Root, f.Pointer))
		out.Repair = near(shownText(s.Root, f.Pointer), f.Allowed)
	default:
		out.Code = "wrong-value"
		out.Message = fmt.Sprintf("%q does not fit: %s", name, f.Reason)
		if name == "readyferry" {
			out.Message, out.Repair = "this is not a flow document of a version that is known", "write readyferry: flow/1"
		}
	}
	out.Line, out.Column = p.Line, p.Column
	return out
}

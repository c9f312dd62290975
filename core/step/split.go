package step

import (
	"fmt"
	"strings"

	"readyferry/core/expr"
	"readyferry/core/flow"
	"readyferry/core/format"
	"readyferry/core/format/hl7"
	"readyferry/core/format/xml"
	"readyferry/core/message"
	"readyferry/core/xpath"
)

var splitKind = Kind{
	Name:    "split",
	Summary: "Makes a part of each item of the message; each part has its own journey through the steps inside.",
	Reason: "Use it when one message holds many things that go their own ways: the titles of a hold request, the " +
		"rows of a file, the results of a report. Each part is a transaction of its own: it is tried, repaired " +
		"and resent by itself, and the whole shows how far all are. Inside, part is the item, index counts from " +
		"0, last tells the last one, and body is still the whole message. The steps behind the split go on at once.",
	Example: `{id: per-title, kind: split, each: body.titles, parts: in order, steps: [{id: slip, kind: note, text: '${part.item}'}]}`,
	Properties: `{
		"each": {"type": "string", "description": "expression that gives a list: of a JSON body, or the rows of a CSV body"},
		"elements": {"type": "string", "description": "XPath that finds elements of an XML body"},
		"namespaces": {"type": "object", "additionalProperties": {"type": "string"}, "description":
			"prefix: namespace, for elements; others are those of the document"},
		"segments": {"type": "string", "pattern": "^[A-Z][A-Z0-9]{2}$", "description": "name of the segments of an HL7 body"},
		"lines": {"type": ["string", "boolean"], "description":
			"true for the lines of the body, or an expression that gives a text"},
		"parts": {"default": "independent", "enum": ["independent", "in order"], "description":
			"independent (default): side by side; in order: each begins when the one before it has ended"},
		"when-dead": {"default": "go on", "enum": ["go on", "stop"], "description":
			"when a part is a dead letter: the rest goes on (default), or those that have not begun wait until it is decided"},
		"message": {"default": "whole", "enum": ["whole", "part"], "description":
			"what the steps inside have as body: the whole message (default), or the part"},
		"limit": {"default": 100000, "type": "integer", "minimum": 1, "maximum": 1000000, "description":
			"most parts of one message, 100000 by default; more is a dead letter"},
		"steps": {"$ref": "#/$defs/steps"}
	}`,
	Required: []string{"steps"},
	compile:  compileSplit,
}

// DefaultParts is how many parts one message may have when its step says nothing.
const DefaultParts = 100_000

// xpathSteps bounds one XPath, in nodes looked at.
const xpathSteps = 20_000_000

// Parts is what a split makes of a message.
type Parts struct {
	Items   []*message.Node
	Block   *Block
	InOrder bool // each begins when the one before it has ended
	Stop    bool // a dead one keeps those from beginning that have not

	begin func(st State, item *message.Node) (State, error)
}

// Begin gives the state with which a part begins. The error is a *Failure.
func (p *Parts) Begin(st State, i int, item *message.Node) (State, error) {
	st.Part = &Part{Value: item, Index: i, Last: i == len(p.Items)-1}
	st.Answered = true // nobody waits for what a part says
	return p.begin(st, item)
}

// Part is what a step inside of a split sees of its part.
type Part struct {
	Value *message.Node
	Index int // from 0
	Last  bool
}

type split struct {
	block         *Block
	over          string // each, elements, segments or lines
	expression    *expr.Program
	path          *xpath.Expr
	namespaces    map[string]string
	segments      string
	inOrder, stop bool
	own           bool // the part is the message
	limit         int
}

func compileSplit(c *Compiler, s *flow.Step) Runner {
	r := &split{
		inOrder: scalar(s.Settings.Get("parts")) == "in order", stop: scalar(s.Settings.Get("when-dead")) == "stop",
		own: scalar(s.Settings.Get("message")) == "part", limit: DefaultParts,
	}
	if n := s.Settings.Get("limit"); n != nil {
		_, _ = fmt.Sscan(n.Text, &r.limit)
	}
	var over []string
	for _, name := range []string{"each", "elements", "segments", "lines"} {
		if n := s.Settings.Get(name); n != nil && scalar(n) != "false" {
			over = append(over, name)
			r.source(c, s, name, scalar(n))
		}
	}
	if len(over) != 1 {
		c.Find(
			s.Pointer,
			flow.Error,
			"missing-key",
			"a split says what its parts are, in one way",
			"write one of each, elements, segments or lines",
		)
	}
	if n := s.Settings.Get("namespaces"); n != nil {
		r.namespaces = map[string]string{}
		for _, m := range members(n) {
			r.namespaces[m.Name] = scalar(m.Value)
		}
	}
	c.changed(flow.Note, s.Pointer, "all-turned-away",
		"a message whose parts are all turned away is turned away itself now; in the live version it is delivered",
		"nothing, unless somebody counts on the state")
	outer, before, parts := c.Env, c.outside, c.parts
	defer func() { c.Env, c.outside, c.parts = outer, before, parts }()
	c.outside, c.parts = s.ID, s.ID // what the parts say comes too late for the caller
	var err error
	if c.Env, err = outer.With("part", "index", "last"); err != nil {
		c.Env = outer
		c.Find(s.Pointer, flow.Error, "wrong-value", err.Error(), "")
	}
	r.block = c.Block(flow.Steps(s.Settings.Get("steps"), s.Pointer+"/steps"))
	return r
}

func (r *split) source(c *Compiler, s *flow.Step, name, source string) {
	ptr := s.Pointer + "/" + name
	r.over = name
	switch name {
	case "each":
		r.expression = c.Expression(ptr, source)
	case "lines":
		if source == "true" {
			source = "body"
		}
		r.expression = c.Expression(ptr, source)
	case "segments":
		r.segments = source
	case "elements":
		var err error
		if r.path, err = xpath.Compile(source); err != nil {
			c.Find(ptr, flow.Error, "expression", err.Error(), "write an XPath such as //order/line")
		}
	}
}

func (r *split) Run(c *Call) (Result, error) {
	items, err := r.items(c)
	if err != nil {
		return Result{}, err
	}
	if len(items) > r.limit {
		return Result{}, &Failure{
			Phase: "limit",
			Class: Data,
			Reason: fmt.Sprintf(
				"the message has %d parts, and at most %d are taken; raise limit, or send less at once",
				len(items),
				r.limit,
			),
		}
	}
	return Result{
		State:   c.State,
		Outcome: counted(len(items), "part"),
		Parts:   &Parts{Items: items, Block: r.block, InOrder: r.inOrder, Stop: r.stop, begin: r.begin},
	}, nil
}

func counted(n int, what string) string {
	switch n {
	case 0:
		return "no " + what + "s"
	case 1:
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

// items gives the parts. What is no list is the data's fault.
func (r *split) items(c *Call) ([]*message.Node, error) {
	wrong := func(format string, args ...any) error {
		return &Failure{Phase: r.over, Class: Data, Reason: fmt.Sprintf(format, args...)}
	}
	switch r.over {
	case "each", "lines":
		v, err := r.expression.Eval(c.Scope())
		if err != nil {
			return nil, fail(r.over, err)
		}
		if r.over == "lines" {
			text, ok := v.Scalar()
			if !ok {
				return nil, wrong("%s is a %s, not a text with lines", r.expression.Source, v.Kind)
			}
			return linesOf(text), nil
		}
		switch {
		case v.Kind == message.List:
			return v.Items, nil
		case xml.Of(v) != nil:
			return []*message.Node{v}, nil // one element of XML is no list; it is one part
		}
		return nil, wrong(
			"%s is a %s, not a list; many(%s) takes one value for a list of one",
			r.expression.Source,
			v.Kind,
			r.expression.Source,
		)
	case "segments":
		m := hl7.Of(c.State.Message.Body)
		if m == nil {
			return nil, wrong("the body is %s, not HL7, so it has no segments", c.State.Message.Format)
		}
		return m.Each(r.segments), nil
	}
	doc := xml.Of(c.State.Message.Body)
	if doc == nil {
		return nil, wrong("the body is %s, not XML as it was read, so it has no elements", c.State.Message.Format)
	}
	v, err := r.path.Eval(doc, xpath.Options{Namespaces: r.namespaces, MaxSteps: xpathSteps})
	if err != nil {
		return nil, wrong("%s", err)
	}
	nodes, ok := v.([]*xml.Node)
	if !ok {
		return nil, wrong("%s gives a value, not elements", r.path.Source)
	}
	out := make([]*message.Node, len(nodes))
	for i, n := range nodes {
		if n.Type != xml.Element {
			return nil, wrong("%s finds something that is no element", r.path.Source)
		}
		out[i] = xml.Tree(n)
	}
	return out, nil
}

// linesOf cuts a text; an end at its very end begins no line.
func linesOf(text string) []*message.Node {
	if text == "" {
		return nil
	}
	text = strings.TrimSuffix(strings.TrimSuffix(text, "\n"), "\r")
	all := strings.Split(text, "\n")
	out := make([]*message.Node, len(all))
	for i, l := range all {
		out[i] = message.NewString(strings.TrimSuffix(l, "\r"))
	}
	return out
}

// begin makes the part the message, where the step says so.
func (r *split) begin(st State, item *message.Node) (State, error) {
	if !r.own {
		return st, nil
	}
	name, layout, body := format.JSON, message.Layout{}, item
	switch {
	case r.over == "lines":
		name = format.Text
	case r.over == "segments" && hl7.Of(item) != nil:
		name = format.Text // a segment alone is no message
		body = message.NewString(hl7.Of(item).Segments[0].Raw)
	case xml.Of(item) != nil:
		name, body = format.XML, message.NewMap(message.Member{Name: xml.Of(item).Name(), Value: item})
	case st.Message.Format == format.CSV && r.over == "each":
		name, layout, body = format.CSV, st.Message.Layout, message.NewList(item)
	}
	if err := become(&st.Message, name, layout, body); err != nil {
		return st, &Failure{Phase: "message", Class: Data, Reason: err.Error()}
	}
	return st, nil
}

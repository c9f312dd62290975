package step

import (
	"fmt"
	"strings"
	"time"

	"readyferry/core/expr"
	"readyferry/core/flow"
	"readyferry/core/format"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/group"
	"readyferry/core/message"
	"readyferry/core/want"
)

var aggregateKind = Kind{
	Name:    "aggregate",
	Summary: "Collects messages that belong together; the group goes on as one message.",
	Reason: "Use it when a target wants one message for many: all slips of a branch for the next van, all overdue " +
		"rows of a patron for one letter, a request and its confirmation. A message joins the group of its key " +
		"and waits there; the group closes by count, by a condition, after a quiet time, at an age, or when all " +
		"parts of a split are here. In the steps behind it, group holds key, count, items, openedAt, closedAt and why.",
	Example: `{id: tote, kind: aggregate, key: body.branch, close: {count: 6, age: 20m}, result: list}`,
	Properties: `{
		"key": {"type": "string", "description": "expression; messages of the same value belong together"},
		"item": {"type": "string", "description":
			"expression for what a message brings into the group; body by default, inside of a split part"},
		"close": {"type": "object", "additionalProperties": false, "minProperties": 1, "description":
			"what closes a group, whichever comes first", "properties": {
			"count": {"type": "integer", "minimum": 1, "description": "so many members"},
			"when": {"type": ["string", "boolean"], "description":
				"condition over group (key, count, newest, items) and the newest message"},
			"quiet": {"type": "string", "description": "no other member for so long, such as 30s"},
			"age": {"type": "string", "description": "so long after the first member, such as 20m"},
			"parts": {"type": "boolean", "description": "all parts of the split around it are here or have ended elsewhere"}}},
		"result": {"default": "list", "enum": ["list", "text", "csv", "map"], "description":
			"what the group's body is: the list of its items (default), their texts joined, CSV with a row each, or what the fields say"},
		"separator": {"type": "string", "description": "text between the items of a text, a line break by default"},
		"as": {"default": "json", "enum": ["json", "xml", "csv", "hl7", "form"], "description":
			"format of a map's body, json by default"},
		"header": {"default": true, "type": "boolean", "description": "CSV: write the names of the columns, true by default"},
		"fields": {"$ref": "#/$defs/map-fields"},
		"late": {"default": "new group", "enum": ["new group", "turn away", "add"], "description":
			"a member whose group has closed: opens a new group (default), is turned away, or goes on at once as an addition"},
		"late-for": {"default": "24h", "type": "string", "description":
			"how long a closed group is remembered for that, 24h by default"},
		"unique": {"type": "string", "description":
			"expression; a member whose value is in the group already is turned away"},
		"limit": {"default": 10000, "type": "integer", "minimum": 1, "maximum": 100000, "description":
			"most members of one group, 10000 by default; more are dead letters"},
		"bytes": {"default": 67108864, "type": "integer", "minimum": 1, "maximum": 1073741824, "description":
			"most bytes of the items of one group, 67108864 by default; more are dead letters"},
		"groups": {"default": 100000, "type": "integer", "minimum": 1, "maximum": 10000000, "description":
			"most groups open at once, 100000 by default; what would open another is a dead letter"}
	}`,
	Required: []string{"key", "close"},
	compile:  compileAggregate,
}

// Closed is a group that has closed, as the steps behind it see it.
type Closed struct {
	Key                string
	Items              []*message.Node
	OpenedAt, ClosedAt time.Time
	Why                string // in words
	Late               bool   // an addition to a group that had closed before
}

// Node gives the group as expressions see it.
func (g *Closed) Node() *message.Node {
	stamp := func(t time.Time) *message.Node { return message.NewString(t.UTC().Format(time.RFC3339Nano)) }
	return message.NewMap(
		message.Member{Name: "key", Value: message.NewString(g.Key)},
		message.Member{Name: "count", Value: jsonInt(len(g.Items))},
		message.Member{Name: "items", Value: message.NewList(g.Items...)},
		message.Member{Name: "openedAt", Value: stamp(g.OpenedAt)},
		message.Member{Name: "closedAt", Value: stamp(g.ClosedAt)},
		message.Member{Name: "why", Value: message.NewString(g.Why)},
		message.Member{Name: "late", Value: message.NewBool(g.Late)},
	)
}

// Closer is a runner that goes on with a group.
type Closer interface {
	// Close gives the state behind the step; the error is a *Failure.
	Close(c *Call, g *Closed) (Result, error)
}

type aggregate struct {
	key, item, unique *expr.Program
	rules             group.Rules
	result, separator string
	mapping           *mapping
}

func compileAggregate(c *Compiler, s *flow.Step) Runner {
	r := &aggregate{result: scalar(s.Settings.Get("result")), separator: "\n"}
	r.key = c.Expression(s.Pointer+"/key", scalar(s.Settings.Get("key")))
	item := "body"
	if c.parts != "" {
		item = "part"
	}
	if n := s.Settings.Get("item"); n != nil {
		item = scalar(n)
	}
	r.item = c.Expression(s.Pointer+"/item", item)
	if n := s.Settings.Get("unique"); n != nil {
		r.unique = c.Expression(s.Pointer+"/unique", scalar(n))
	}
	if n := s.Settings.Get("separator"); n != nil {
		r.separator = scalar(n)
	}
	outer := c.Env
	if env, err := outer.With("group"); err == nil {
		c.Env = env // also in the steps behind it
	}
	r.closing(c, s)
	r.lateness(c, s)
	switch r.result {
	case "map":
		if s.Settings.Get("fields") == nil {
			c.Find(s.Pointer, flow.Error, "missing-key", "the fields of the map are missing", "add fields:")
			break
		}
		r.mapping = compileMap(c, s).(*mapping)
	case "":
		r.result = "list"
		fallthrough
	default:
		for _, name := range []string{"fields", "as"} {
			if s.Settings.Get(name) != nil {
				c.Find(
					s.Pointer+"/"+name,
					flow.Warning,
					"no-effect",
					name+" has no effect on a result that is a "+r.result,
					"write result: map",
				)
			}
		}
	}
	return r
}

func (r *aggregate) closing(c *Compiler, s *flow.Step) {
	n, at := s.Settings.Get("close"), s.Pointer+"/close"
	span := func(name string) time.Duration {
		if n.Get(name) == nil {
			return 0
		}
		d, err := flow.Duration(scalar(n.Get(name)))
		if err != nil {
			c.Find(at+"/"+name, flow.Error, "wrong-value", err.Error(), "write it as 30s, 10m or 24h")
		}
		return d
	}
	r.rules = group.Rules{
		Quiet:  span("quiet"),
		Age:    span("age"),
		Limit:  group.DefaultLimit,
		Bytes:  group.DefaultBytes,
		Groups: group.DefaultGroups,
	}
	if v := n.Get("count"); v != nil {
		_, _ = fmt.Sscan(v.Text, &r.rules.Count)
	}
	if scalar(n.Get("parts")) == "true" {
		r.rules.Parts = c.parts
		if c.parts == "" {
			c.Find(
				at+"/parts",
				flow.Error,
				"wrong-value",
				"there is no split around this step whose parts could be here",
				"move it into a split, or close by count or time",
			)
		}
	}
	if v := n.Get("when"); v != nil {
		outer := c.Env
		c.Env = outer.WithKept(false) // a group closes by itself: what it sees must be all that counts
		when := c.Condition(at+"/when", scalar(v))
		if c.Env = outer; when != nil {
			r.rules.Condition = when.Source
			for _, p := range when.Reads {
				r.rules.NeedsItems = r.rules.NeedsItems ||
					p.Root == "group" && (p.Pointer() == "" || strings.HasPrefix(p.Pointer(), "/items"))
			}
			r.rules.When = func(g *group.Group) (bool, error) {
				return when.EvalBool(
					&expr.Scope{
						Body:   g.Newest,
						Now:    g.LastAt,
						Locals: map[string]*message.Node{"group": openNode(g), "part": g.Newest},
					},
				)
			}
		}
	}
	for _, l := range []struct {
		name string
		into *int
	}{{"limit", &r.rules.Limit}, {"groups", &r.rules.Groups}} {
		if v := s.Settings.Get(l.name); v != nil {
			_, _ = fmt.Sscan(v.Text, l.into)
		}
	}
	if v := s.Settings.Get("bytes"); v != nil {
		_, _ = fmt.Sscan(v.Text, &r.rules.Bytes)
	}
	if r.rules.Count > r.rules.Limit {
		c.Find(
			at+"/count",
			flow.Error,
			"wrong-value",
			fmt.Sprintf("a group never comes to %d members, because its limit is %d", r.rules.Count, r.rules.Limit),
			"raise limit, or lower count",
		)
	}
	if n.Get("age") == nil && n.Get("quiet") == nil && scalar(n.Get("parts")) != "true" {
		c.Find(
			at,
			flow.Warning,
			"waits-for-ever",
			"a group to which nothing more comes waits for ever",
			"add age or quiet, so that it closes after a time",
		)
	}
}

func (r *aggregate) lateness(c *Compiler, s *flow.Step) {
	switch scalar(s.Settings.Get("late")) {
	case "turn away":
		r.rules.Late = group.TurnAway
	case "add":
		r.rules.Late = group.Add
	}
	r.rules.LateFor = group.DefaultLate
	if n := s.Settings.Get("late-for"); n != nil {
		var err error
		if r.rules.LateFor, err = flow.Duration(scalar(n)); err != nil {
			c.Find(s.Pointer+"/late-for", flow.Error, "wrong-value", err.Error(), "write it as 30s, 10m or 24h")
		}
		if r.rules.Late == group.NewGroup {
			c.Find(
				s.Pointer+"/late-for",
				flow.Warning,
				"no-effect",
				"late-for has no effect while late members open new groups",
				"write late: turn away or late: add",
			)
		}
	}
}

// openNode gives an open group as its condition sees it.
func openNode(g *group.Group) *message.Node {
	return message.NewMap(
		message.Member{Name: "key", Value: message.NewString(g.Key)},
		message.Member{Name: "count", Value: jsonInt(g.Count)},
		message.Member{Name: "newest", Value: g.Newest},
		message.Member{Name: "items", Value: message.NewList(g.Items...)},
		message.Member{Name: "openedAt", Value: message.NewString(g.OpenedAt.UTC().Format(time.RFC3339Nano))},
	)
}

// RulesOf gives the rules of a compiled step that gathers, or nil.
func RulesOf(s *Compiled) *group.Rules {
	if r, ok := s.Runner.(*aggregate); ok {
		return &r.rules
	}
	return nil
}

func (r *aggregate) Run(c *Call) (Result, error) {
	if c.Effect != nil {
		if c.Effect.Refused != "" {
			return Result{Outcome: "turned away", End: &End{c.Effect.Refused}}, nil
		}
		return Result{State: c.State, Outcome: c.Effect.Said, Joined: true}, nil
	}
	scope := c.Scope()
	key, err := word("key", r.key, scope)
	if err != nil {
		return Result{}, err
	}
	item, err := r.item.Eval(scope)
	if err != nil {
		return Result{}, fail("item", err)
	}
	join := &want.Join{Key: key, Item: item, Rules: &r.rules}
	if r.unique != nil {
		value, err := word("unique", r.unique, scope)
		if err != nil {
			return Result{}, err
		}
		join.Unique = &value
	}
	return Result{State: c.State, Outcome: "waits for its group", Want: join}, nil
}

// word evaluates an expression to a short text by which messages are told apart.
func word(phase string, p *expr.Program, scope *expr.Scope) (string, error) {
	n, err := p.Eval(scope)
	if err != nil {
		return "", fail(phase, err)
	}
	text, ok := n.Scalar()
	switch {
	case !ok || n.Kind == message.Null:
		return "", &Failure{
			Phase:  phase,
			Class:  Data,
			Reason: fmt.Sprintf("%s is a %s, not a text or number", p.Source, n.Kind),
		}
	case len(text) > 500:
		return "", &Failure{Phase: phase, Class: Data, Reason: p.Source + " is longer than 500 bytes"}
	}
	return text, nil
}

// Close makes the group's body of its items.
func (r *aggregate) Close(c *Call, g *Closed) (Result, error) {
	res := Result{State: c.State, Outcome: fmt.Sprintf("%s, %s", counted(len(g.Items), "member"), g.Why)}
	res.State.Group = g
	m := &res.State.Message
	var err error
	switch r.result {
	case "map":
		call := *c
		call.State = res.State
		made, err := r.mapping.Run(&call)
		res.State, res.Fields = made.State, made.Fields
		return res, err
	case "text":
		var texts []string
		for _, n := range g.Items {
			text, ok := n.Scalar()
			if !ok {
				text = strings.TrimSuffix(string(jsonfmt.Encode(n)), "\n")
			}
			texts = append(texts, text)
		}
		err = become(m, format.Text, message.Layout{}, message.NewString(strings.Join(texts, r.separator)))
	case "csv":
		rows := make([]*message.Node, len(g.Items))
		for i, n := range g.Items {
			if rows[i] = n; n.Kind != message.Map && n.Kind != message.List {
				rows[i] = message.NewList(n)
			}
		}
		err = become(m, format.CSV, message.Layout{Header: true}, message.NewList(rows...))
	default:
		err = become(m, format.JSON, message.Layout{}, message.NewList(g.Items...))
	}
	if err != nil {
		return Result{}, &Failure{Phase: "result", Class: Data, Reason: err.Error()}
	}
	return res, nil
}

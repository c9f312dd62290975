package step

import (
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"

	"readyferry/core/expr"
	"readyferry/core/flow"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
	"readyferry/core/pointer"
	"readyferry/core/table"
	"readyferry/core/want"
)

var lookupKind = Kind{
	Name:    "lookup",
	Summary: "Finds a row in a table by its key, and from there a row in the next table, over as many as are needed.",
	Reason: "Use it for what the message does not say and a table does: the branch of a copy, the van run of a " +
		"branch, the tariff for a weight. The transaction keeps the rows that it found, so that one can see " +
		"later what was true then.",
	Example: `{id: run, kind: lookup, in: copies, key: body.item, then: [{in: branches, key: row.branch}, {in: ` +
		`runs, key: {branch: row.code, day: body.day}}], into: run, missing: default, default: {run: "0"}}`,
	Properties: `{
		"in": {"$ref": "#/$defs/table-name"}, "key": {"$ref": "#/$defs/table-key"}, "at": {"$ref": "#/$defs/table-at"},
		"then": {"type": "array", "maxItems": 20, "description": "the next hops; row is the row of the hop before", "items": {
			"type": "object", "additionalProperties": false, "required": ["in"], "properties": {
				"in": {"$ref": "#/$defs/table-name"}, "key": {"$ref": "#/$defs/table-key"}, "at": {"$ref": "#/$defs/table-at"},
				"into": {"type": "string", "pattern": "^[A-Za-z_][A-Za-z0-9_]*$", "description":
					"where the row of this hop stands under vars, too"}}}},
		"into": {"type": "string", "pattern": "^[A-Za-z_][A-Za-z0-9_]*$", "description":
			"the last row stands under vars by this name; the id of the step by default"},
		"missing": {"enum": ["error", "skip", "default"], "default": "error", "description":
			"error (default): a dead letter; skip: nothing is set; default: a row stands in for it"},
		"default": {"type": "object", "description": "the row that stands in; that of the table by default"}
	}`,
	Defs: `{
		"table-name": {"type": "string", "pattern": "^[A-Za-z0-9][A-Za-z0-9._-]*$", "description": "name of the table"},
		"table-key": {"type": ["string", "number", "object"], "description":
			"expression for the key, or {column: expression} for a key of several columns", "if": {"type": "string"},
				"then": {"minLength": 1}, "else": {"minProperties": 1, "additionalProperties": {"type": ["string", "number"]}}},
		"table-at": {"type": ["string", "number"], "description":
			"expression; the value that must lie in the row's range, in a table that has ranges"}
	}`,
	Required: []string{"in"},
	compile:  compileLookup,
}

type hop struct {
	in, setting string
	key         []keyColumn
	at          *expr.Program
	into        string
}

type keyColumn struct {
	name  string // "": the only column of the first key
	value *expr.Program
}

type lookup struct {
	hops    []hop
	missing string
	row     *message.Node // the default, or nil
	id      string
}

func compileLookup(c *Compiler, s *flow.Step) Runner {
	r := &lookup{missing: scalar(s.Settings.Get("missing")), row: s.Settings.Get("default"), id: s.ID}
	if r.missing == "" {
		r.missing = "error"
	}
	if r.row != nil && r.missing != "default" {
		c.Find(
			s.Pointer+"/default",
			flow.Warning,
			"no-effect",
			"the default row has no effect unless missing is default",
			"write missing: default, or remove it",
		)
	}
	into := scalar(s.Settings.Get("into"))
	if into == "" {
		into = s.ID
	}
	outer := c.Env
	defer func() { c.Env = outer }()
	r.hops = append(r.hops, c.hop(s.Settings, s.Pointer, ""))
	if env, err := outer.With("row"); err == nil {
		c.Env = env
	} else {
		c.Find(s.Pointer+"/then", flow.Error, "wrong-value", err.Error(), "")
	}
	if list := s.Settings.Get("then"); list != nil {
		for i, n := range list.Items {
			r.hops = append(r.hops, c.hop(n, fmt.Sprintf("%s/then/%d", s.Pointer, i), fmt.Sprintf("then/%d/", i)))
		}
	}
	r.hops[0].into = ""
	r.hops[len(r.hops)-1].into = into
	return r
}

func (c *Compiler) hop(n *message.Node, ptr, setting string) hop {
	h := hop{in: scalar(n.Get("in")), into: scalar(n.Get("into")), setting: setting}
	use := Use{Kind: UseTable, Name: h.in, Step: c.step.ID, Pointer: ptr + "/in"}
	if key := n.Get("key"); key != nil && key.Kind == message.Map {
		for _, m := range key.Members {
			h.key = append(
				h.key,
				keyColumn{m.Name, c.Expression(ptr+"/key"+pointer.Pointer{m.Name}.String(), scalar(m.Value))},
			)
			use.Columns = append(use.Columns, m.Name)
		}
	} else if key != nil {
		h.key = []keyColumn{{"", c.Expression(ptr+"/key", scalar(key))}}
	} else {
		use.Columns = []string{}
	}
	if at := n.Get("at"); at != nil {
		h.at = c.Expression(ptr+"/at", scalar(at))
		use.At = true
	}
	c.Uses = append(c.Uses, use)
	return h
}

func (r *lookup) Run(c *Call) (Result, error) {
	if c.Effect != nil {
		return r.done(c)
	}
	return Result{
		State:   c.State,
		Outcome: "not yet",
		Want: &want.Look{
			Table: r.hops[0].in,
			Do:    func(t table.Tables) (want.Effect, error) { return r.search(c, t) },
		},
	}, nil
}

// search goes from hop to hop.
func (r *lookup) search(c *Call, tables table.Tables) (want.Effect, error) {
	var out want.Effect
	scope := c.Scope()
	scope.Rows = table.Live(tables)
	for i, h := range r.hops {
		if i > 0 {
			if scope.Locals == nil {
				scope.Locals = map[string]*message.Node{}
			}
			scope.Locals = maps.Clone(scope.Locals)
			scope.Locals["row"] = rowNode(out.Looked[i-1].Row)
		}
		found, err := h.find(scope, tables)
		if err != nil {
			return out, err
		}
		if found.Row == nil && r.missing == "default" {
			row := r.row
			if row == nil {
				t, err := tables.Table(h.in)
				if err != nil {
					return out, err
				}
				row = t.Definition().Default
			}
			if row == nil {
				return out, &Failure{
					Phase: h.setting + "key",
					Class: Flow,
					Reason: fmt.Sprintf(
						"the table %q has no row for %s, and neither the step nor the table has a default row",
						h.in,
						found.Key,
					),
				}
			}
			found.Row, found.Default = jsonfmt.Encode(row), true
		}
		out.Looked = append(out.Looked, found)
		switch {
		case found.Row != nil && found.Default && r.row != nil:
			return out, nil // it is the row that the step asks for, whatever the hop
		case found.Row != nil:
		case r.missing == "skip":
			return out, nil
		default:
			return out, &Failure{
				Phase:  h.setting + "key",
				Class:  Data,
				Reason: fmt.Sprintf("the table %q has no row for %s", h.in, found.Key),
			}
		}
	}
	return out, nil
}

// find looks one row up.
func (h *hop) find(scope *expr.Scope, tables table.Tables) (want.Looked, error) {
	out := want.Looked{Table: h.in}
	q := table.Question{Values: map[string]string{}}
	for _, k := range h.key {
		v, err := h.eval(k.value, scope, "key")
		if err != nil {
			return out, err
		}
		if k.name != "" {
			q.Columns = append(q.Columns, k.name)
		}
		q.Values[k.name] = v
	}
	if h.key == nil {
		q.Columns = []string{}
	}
	if h.at != nil {
		v, err := h.eval(h.at, scope, "at")
		if err != nil {
			return out, err
		}
		q.At = &v
	}
	found, err := table.Look(tables, h.in, q)
	var unfit *table.UnfitError
	if errors.As(err, &unfit) {
		return out, &Failure{Phase: h.setting + unfit.Setting, Class: Flow, Reason: unfit.Reason}
	}
	out.Version, out.Key = found.Version, found.Key
	if found.Row != nil {
		out.Row = jsonfmt.Encode(found.Row)
	}
	return out, err
}

func (h *hop) eval(p *expr.Program, scope *expr.Scope, setting string) (string, error) {
	n, err := p.Eval(scope)
	if err != nil {
		return "", fail(h.setting+setting, err)
	}
	text, ok := n.Scalar()
	if !ok {
		return "", &Failure{
			Phase:  h.setting + setting,
			Class:  Data,
			Reason: fmt.Sprintf("%s is a %s, not a text or number", p.Source, n.Kind),
		}
	}
	return text, nil
}

func rowNode(row json.RawMessage) *message.Node {
	if row == nil {
		return message.NewNull()
	}
	r, err := jsonfmt.Decode(row)
	if err != nil {
		return message.NewNull()
	}
	return r.Root
}

// done goes on with the rows that were found.
func (r *lookup) done(c *Call) (Result, error) {
	if c.Effect.Failed != "" {
		return Result{Outcome: "not found"}, &Failure{Phase: "key", Class: Data, Reason: c.Effect.Failed}
	}
	st, looked := c.State, c.Effect.Looked
	outcome := "found"
	if len(looked) > 1 {
		outcome = fmt.Sprintf("found, %d hops", len(looked))
	}
	keep := func(name string, row json.RawMessage) {
		if st.Vars == nil {
			st.Vars = message.NewMap()
		}
		if name != "" {
			st.Vars = st.Vars.With(name, rowNode(row))
		}
	}
	for i, l := range looked {
		switch {
		case l.Row == nil:
			outcome = "not there, skipped"
			continue
		case l.Default:
			outcome = "default row"
		}
		if i < len(r.hops)-1 {
			keep(r.hops[i].into, l.Row)
		}
	}
	if n := len(looked); n > 0 && looked[n-1].Row != nil {
		keep(r.hops[len(r.hops)-1].into, looked[n-1].Row)
	}
	return Result{State: st, Outcome: outcome}, nil
}

// TableFinding says what is wrong with the use of a table, or "": columns that a
// lookup or pair asks for are checked where the tables are known.
func TableFinding(d *table.Definition, u Use) string {
	if u.Pairs {
		if !d.Cross {
			return fmt.Sprintf("the table %q is no cross-reference table, so flows do not write it", d.Name)
		}
		for _, k := range d.Keys {
			for _, c := range k {
				if !slices.Contains(u.Columns, c) {
					return fmt.Sprintf("a pair in the table %q needs the column %s", d.Name, c)
				}
			}
		}
		return ""
	}
	k, err := d.KeyOf(u.Columns)
	if d.Guessed && u.Columns != nil {
		k, err = 0, nil
	}
	switch {
	case err != nil:
		return err.Error()
	case d.Range != nil && k == 0 && !u.At:
		return fmt.Sprintf(
			"the rows of the table %q apply for a range from %s to %s: say with at for which value",
			d.Name,
			d.Range.From,
			d.Range.To,
		)
	case u.At && (d.Range == nil || k > 0):
		return fmt.Sprintf("the table %q has no ranges for this key, so at has no place here", d.Name)
	}
	return ""
}

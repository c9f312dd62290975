package step

import (
	"errors"
	"fmt"

	"readyferry/core/expr"
	"readyferry/core/flow"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
	"readyferry/core/pointer"
	"readyferry/core/table"
	"readyferry/core/want"
)

var pairKind = Kind{
	Name:    "pair",
	Summary: "Writes into a cross-reference table which key of one system belongs to which key of another.",
	Reason: "Use it when a target has answered with its own key for the record: the next message about the record " +
		"finds the key by a lookup and becomes an update. The row is written in the same database transaction as " +
		"the step, and one that conflicts with another is reported.",
	Example: `{id: link, kind: pair, in: patron-keys, row: {card: body.card, member: replies.create.body.id}}`,
	Properties: `{
		"in": {"$ref": "#/$defs/table-name"},
		"row": {"type": "object", "minProperties": 2, "description": "column: expression; both keys must be there",
			"additionalProperties": {"type": ["string", "number", "boolean"]}},
		"conflict": {"default": "error", "enum": ["error", "keep", "replace"], "description":
			"when one of the keys is paired otherwise: error (default): a dead letter; keep the old pair; replace it"},
		"into": {"type": "string", "pattern": "^[A-Za-z_][A-Za-z0-9_]*$", "description":
			"the row that stands afterwards, under vars by this name"}
	}`,
	Required: []string{"in", "row"},
	compile:  compilePair,
}

type pairing struct {
	in, into, conflict string
	columns            []struct {
		name  string
		value *expr.Program
	}
}

func compilePair(c *Compiler, s *flow.Step) Runner {
	r := &pairing{
		in:       scalar(s.Settings.Get("in")),
		into:     scalar(s.Settings.Get("into")),
		conflict: scalar(s.Settings.Get("conflict")),
	}
	use := Use{Kind: UseTable, Name: r.in, Step: s.ID, Pointer: s.Pointer + "/in", Pairs: true}
	for _, m := range members(s.Settings.Get("row")) {
		r.columns = append(r.columns, struct {
			name  string
			value *expr.Program
		}{m.Name, c.Expression(s.Pointer+"/row"+pointer.Pointer{m.Name}.String(), scalar(m.Value))})
		use.Columns = append(use.Columns, m.Name)
	}
	c.Uses = append(c.Uses, use)
	return r
}

func (r *pairing) Run(c *Call) (Result, error) {
	if c.Effect != nil {
		if c.Effect.Failed != "" {
			return Result{Outcome: "conflict"}, &Failure{Phase: "row", Class: Data, Reason: c.Effect.Failed}
		}
		st := c.State
		if r.into != "" && len(c.Effect.Looked) > 0 {
			if st.Vars == nil {
				st.Vars = message.NewMap()
			}
			st.Vars = st.Vars.With(r.into, rowNode(c.Effect.Looked[0].Row))
		}
		return Result{State: st, Outcome: c.Effect.Said}, nil
	}
	row := message.NewMap()
	for _, col := range r.columns {
		n, err := col.value.Eval(c.Scope())
		if err != nil {
			return Result{}, fail("row/"+col.name, err)
		}
		if _, ok := n.Scalar(); !ok && n.Kind != message.Null {
			return Result{}, &Failure{
				Phase:  "row/" + col.name,
				Class:  Data,
				Reason: fmt.Sprintf("%s is a %s, not a text or number", col.value.Source, n.Kind),
			}
		}
		row = row.With(col.name, n)
	}
	return Result{
		State:   c.State,
		Outcome: "not yet",
		Want: &want.Pair{
			Table:  r.in,
			Decide: func(t table.Tables) (table.Table, table.Pairing, want.Effect, error) { return r.decide(t, row) },
		},
	}, nil
}

// decide says what writing the pair comes to. An error that is a *Failure ends
// the message.
func (r *pairing) decide(tables table.Tables, row *message.Node) (table.Table, table.Pairing, want.Effect, error) {
	t, err := tables.Table(r.in)
	if errors.Is(err, table.ErrNoTable) {
		return nil, table.Pairing{}, want.Effect{}, &Failure{Phase: "in", Class: Flow, Reason: err.Error()}
	}
	if err == nil {
		t, err = table.Crossed(t)
	}
	if err != nil {
		return nil, table.Pairing{}, want.Effect{}, err
	}
	out, err := table.Pair(t, row, r.conflict)
	if err != nil {
		return nil, out, want.Effect{}, &Failure{Phase: "row", Class: Data, Reason: err.Error()}
	}
	return t, out, want.Effect{
		Said:   out.Said,
		Looked: []want.Looked{{Table: r.in, Version: t.Version(), Key: out.Said, Row: jsonfmt.Encode(out.Row)}},
	}, nil
}

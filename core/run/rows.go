package run

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
	"readyferry/core/step"
	"readyferry/core/table"
	"readyferry/core/want"
)

// A lookup() in the settings of a step asks for rows of tables that change while flows run.
// A walk is pure, so it cannot look: it stops at the step and wants the rows. Whoever drives
// it does the step once with the tables at hand, only to see which rows it asks for, and
// records them as an effect of their own, under the path of the step and a number. The walk
// over that effect finds each row where it was recorded. A step whose answer from outside is
// what it looks up with (an ask, say) wants rows a second time, under the next number.

// rowsPath is where the rows that a step asked for the nth time are recorded.
func rowsPath(path string, n int) string { return fmt.Sprintf("%s@rows%d", path, n) }

// rows are those that a step has asked for. It implements expr.Rows.
type rows struct {
	known []want.Looked
	at    map[string]int // where each stands in known
	times int            // how often it wanted some
	lacks bool           // it asked for one that is not known
}

// add takes rows that were found.
func (r *rows) add(found ...want.Looked) {
	if r.at == nil {
		r.at = make(map[string]int, len(found))
	}
	for _, l := range found {
		r.at[l.Table+" "+l.Asked] = len(r.known)
		r.known = append(r.known, l)
	}
}

// rowsFor gives a step the rows that were recorded for it.
func (w *walker) rowsFor(path string) *rows {
	r := &rows{}
	for {
		e, ok := w.in.Effects[rowsPath(path, r.times+1)]
		if !ok {
			return r
		}
		r.add(e.Looked...)
		r.times++
	}
}

// Row implements expr.Rows.
func (r *rows) Row(name string, key *message.Node) (*message.Node, error) {
	asked := string(jsonfmt.Encode(key))
	if i, known := r.at[name+" "+asked]; known {
		return rowOf(&r.known[i])
	}
	r.lacks = true
	return nil, errors.New("the row is not looked up yet")
}

func rowOf(l *want.Looked) (*message.Node, error) {
	if l.Problem != "" {
		return nil, errors.New(l.Problem)
	}
	if l.Row == nil {
		return nil, nil
	}
	d, err := jsonfmt.Decode(l.Row)
	if err != nil {
		return nil, err
	}
	return d.Root, nil
}

// looked gives the rows that a step found or wrote, for people.
func looked(c *step.Call) (all []want.Looked) {
	if c.Effect != nil {
		all = c.Effect.Looked
	}
	if r, ok := c.Rows.(*rows); ok {
		return slices.Concat(r.known, all)
	}
	return all
}

// with does something with the settings of a step. Where they ask for rows that are not known
// it has them looked up and does it again; what it did before does not count. false: the walk
// waits for the rows. An error is that of looking.
func (w *walker) with(s *step.Compiled, c *step.Call, do func(c *step.Call)) (known bool, err error) {
	r, looks := c.Rows.(*rows)
	for {
		do(c)
		if !looks || !r.lacks {
			return true, nil
		}
		w.watch.Take()
		r.lacks = false
		if known, err = w.look(s, c, r, do); err != nil || !known {
			return false, err
		}
	}
}

// look has rows looked up, or wants them.
func (w *walker) look(s *step.Compiled, c *step.Call, r *rows, do func(c *step.Call)) (known bool, err error) {
	asked := want.Asked{
		Want: &want.Rows{Do: func(t table.Tables) (want.Effect, error) { return find(c, r, do, t) }},
		Path: rowsPath(c.Path+w.suffix, r.times+1), Step: s.ID, StepKind: s.Kind, Soft: w.soft > 0 || s.Else != nil,
	}
	if w.in.StandIn != nil {
		switch reply, ok := w.in.StandIn(asked); {
		case ok && reply.Fail != nil:
			return false, reply.Fail
		case ok:
			r.add(reply.Effect.Looked...)
			return true, nil
		}
	}
	w.result.Wants = append(w.result.Wants, asked)
	return false, nil
}

// run does a step over what is known; false: the walk waits for rows of tables.
func (w *walker) run(s *step.Compiled, c *step.Call) (step.Result, bool, error) {
	if c.Rows == nil { // most steps: nothing is made for what they do not need
		res, err := s.Runner.Run(c)
		return res, true, err
	}
	return w.runWith(s, c)
}

func (w *walker) runWith(s *step.Compiled, c *step.Call) (res step.Result, known bool, err error) {
	known, looking := w.with(s, c, func(c *step.Call) { res, err = s.Runner.Run(c) })
	return res, known || looking != nil, errors.Join(err, looking)
}

// holds evaluates a step's when, as run does the step.
func (w *walker) holds(s *step.Compiled, c *step.Call) (bool, bool, error) {
	if c.Rows == nil {
		holds, err := s.When.EvalBool(c.Scope())
		return holds, true, err
	}
	return w.holdsWith(s, c)
}

func (w *walker) holdsWith(s *step.Compiled, c *step.Call) (holds, known bool, err error) {
	known, looking := w.with(s, c, func(c *step.Call) { holds, err = s.When.EvalBool(c.Scope()) })
	return holds, known || looking != nil, errors.Join(err, looking)
}

// unknown ends a walk that waits for rows of tables.
func (w *walker) unknown(e Entry, st *step.State, began time.Duration) progress {
	e.Outcome, e.State = "not yet", Waiting
	w.trace(e, *st, st, began)
	return blocked
}

// finding looks rows up in the tables as they are, and keeps what it came to.
type finding struct {
	tables table.Tables
	known  *rows
	found  []want.Looked
	err    error // that is no fault of the flow or the message
}

// find does what a step does to see which rows it asks for; what else it comes to is of no
// account, since the walk over what was found does it again.
func find(call *step.Call, known *rows, do func(c *step.Call), t table.Tables) (want.Effect, error) {
	f := &finding{tables: t, known: &rows{known: slices.Clip(known.known), at: maps.Clone(known.at)}}
	c := *call
	c.Rows, c.Watch = f, nil
	c.Memory = message.NewMemory("the work on one message", walkMemory)
	do(&c)
	if f.err == nil && len(f.found) == 0 {
		f.err = fmt.Errorf("step %s: the row that it lacks is not asked for again", call.Path)
	}
	return want.Effect{Looked: f.found}, f.err
}

// Row implements expr.Rows.
func (f *finding) Row(name string, key *message.Node) (*message.Node, error) {
	if row, err := f.known.Row(name, key); !f.known.lacks {
		return row, err
	}
	f.known.lacks = false
	out := want.Looked{Table: name, Asked: string(jsonfmt.Encode(key))}
	if err := f.look(&out, name, key); err != nil {
		f.err = errors.Join(f.err, err)
		return nil, err
	}
	f.found = append(f.found, out)
	f.known.add(out)
	return rowOf(&out)
}

// look finds one row, or says what is wrong with asking for it.
func (f *finding) look(out *want.Looked, name string, key *message.Node) error {
	q, err := table.QuestionOf(name, key)
	var found table.Found
	if err == nil {
		found, err = table.Look(f.tables, name, q)
	}
	out.Version, out.Key = found.Version, found.Key
	if found.Row != nil {
		out.Row = jsonfmt.Encode(found.Row)
	}
	var unfit *table.UnfitError
	if !errors.As(err, &unfit) {
		return err
	}
	if out.Problem = unfit.Reason; unfit.Setting == "at" {
		out.Problem += ", in a step of kind lookup"
	}
	return nil
}

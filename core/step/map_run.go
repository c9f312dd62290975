package step

import (
	"fmt"
	"maps"
	"math"
	"math/big"
	"slices"
	"strconv"
	"strings"

	"readyferry/core/expr"
	"readyferry/core/format"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
)

// mapRun is one run of a map.
type mapRun struct {
	r        *mapping
	trace    bool
	fields   []Field
	loops    []looped // around the field, the outermost first
	set, all int
	first    error
}

func (r *mapping) Run(c *Call) (Result, error) {
	scope := c.Scope()
	b, err := r.begin(c)
	if err != nil {
		return Result{}, err
	}
	run := &mapRun{r: r, trace: c.Trace}
	run.write(b, r.fields, scope)
	res := Result{State: c.State, Fields: run.fields, Outcome: fmt.Sprintf("%d of %d set", run.set, run.all)}
	if err := become(&res.State.Message, r.as, r.layout, b.tree()); err != nil && run.first == nil {
		run.first = &Failure{Phase: "as " + r.as, Class: Data, Reason: err.Error()}
		res.State = c.State
	} else if err != nil {
		res.State = c.State
	}
	return res, run.first
}

func (r *mapping) begin(c *Call) (builder, error) {
	m := &c.State.Message
	switch {
	case r.start == "example":
		return newBuilder(r.as, r.example, &m.Layout, true), nil
	case r.start != "body":
		return newBuilder(r.as, nil, &m.Layout, false), nil
	case r.as != format.JSON && m.Format != r.as:
		return nil, &Failure{
			Phase: "start",
			Class: Flow,
			Reason: fmt.Sprintf(
				"the map starts from the body as %s, but the body is %s; convert it before, or start from nothing",
				r.as,
				m.Format,
			),
		}
	}
	return newBuilder(r.as, m.Body, &m.Layout, false), nil
}

// write writes fields; what fails is noted, and the rest still shown.
func (run *mapRun) write(b builder, fields []mapField, scope *expr.Scope) {
	for i := range fields {
		f := &fields[i]
		if f.when != nil && !run.holds(f, scope) {
			if run.first != nil && !run.trace {
				return
			}
			continue
		}
		switch {
		case f.each != nil:
			run.loop(b, f, scope)
			continue
		case f.from == nil:
			run.write(b, f.fields, scope)
			continue
		}
		run.all++
		detail := Field{To: f.source, At: run.at(f), Reads: run.reads(f.from), Outcome: "set"}
		v, err := f.value(scope)
		switch {
		case err != nil:
			run.fail(&detail, f, fail("fields/"+f.position+" "+f.source, err))
		case v == nil:
			detail.Outcome = "skipped"
		default:
			err := scope.Memory.TakeNode(v) // it is written where it is put, however often it stands there
			if err == nil {
				err = b.set(f.to, v, f.raw)
			}
			if err != nil {
				run.fail(
					&detail,
					f,
					&Failure{Phase: "fields/" + f.position + " " + f.source, Class: Flow, Reason: err.Error()},
				)
				break
			}
			run.set++
			if run.trace {
				detail.Value = string(jsonfmt.Encode(v))
			}
		}
		run.note(detail)
		if run.first != nil && !run.trace {
			return
		}
	}
}

// holds tells whether the condition of a field, loop or group does.
func (run *mapRun) holds(f *mapField, scope *expr.Scope) bool {
	detail := Field{To: f.source, At: run.at(f), Reads: run.reads(f.when), Outcome: "skipped"}
	if f.each != nil {
		detail.To += "[]"
	}
	holds, err := f.when.EvalBool(scope)
	switch {
	case err != nil:
		run.fail(&detail, f, fail("fields/"+f.position+" when", err))
	case holds:
		return true
	}
	if f.from != nil || f.each != nil {
		run.note(detail)
	}
	return false
}

// shownFields is how many fields are told one by one: a loop may have many.
const shownFields = 500

func (run *mapRun) note(d Field) {
	if run.trace && len(run.fields) < shownFields {
		run.fields = append(run.fields, d)
	}
}

func (run *mapRun) fail(d *Field, _ *mapField, err error) {
	d.Outcome, d.Error = "failed", err.(*Failure).Reason
	if run.first == nil {
		run.first = err
	}
}

// value gives the value of a field; nil when it is skipped.
func (f *mapField) value(scope *expr.Scope) (*message.Node, error) {
	v, err := f.from.Eval(scope)
	empty := err == nil && f.readsHL7 && f.missing != "" && f.missing != "error" && v.Kind == message.String &&
		v.Text == ""
	if !empty && (err == nil || !expr.IsMissing(err)) {
		return v, err
	}
	switch f.missing {
	case "skip":
		return nil, nil
	case "empty":
		return message.NewString(""), nil
	case "default":
		return f.other.Eval(scope)
	}
	return nil, err
}

func (run *mapRun) loop(b builder, f *mapField, scope *expr.Scope) {
	detail := Field{To: f.source + "[]", Reads: run.reads(f.each)}
	list, err := f.each.Eval(scope)
	items := []*message.Node{}
	switch {
	case err != nil && expr.IsMissing(err) && f.missing == "skip":
	case err != nil:
		run.fail(&detail, f, fail("fields/"+f.position+" each", err))
		run.note(detail)
		return
	case list.Kind == message.List:
		items = list.Items
	case list.Kind != message.Null:
		items = []*message.Node{list} // one element of XML is no list; it is one item
	}
	taken, err := f.taken(items, scope)
	if err != nil {
		run.fail(&detail, f, fail("fields/"+f.position, err))
		run.note(detail)
		return
	}
	built := make([]builder, 0, len(taken))
	outer := run.loops
	defer func() { run.loops = outer }()
	for row, inner := range taken {
		if run.trace {
			run.loops = append(slices.Clip(outer), run.entered(f, inner.nth, row, list.Kind != message.List))
		}
		item := b.item(f.to)
		run.write(item, f.fields, inner.scope)
		run.loops = outer
		if run.first != nil && !run.trace {
			return
		}
		built = append(built, item)
	}
	if err := b.put(f.to, built); err != nil {
		run.fail(&detail, f, &Failure{Phase: "fields/" + f.position, Class: Flow, Reason: err.Error()})
		run.note(detail)
	}
}

// item is one that a loop takes.
type item struct {
	scope *expr.Scope
	nth   int // of the list, from 0
}

// taken gives the items that a loop takes, in its order. index counts those.
func (f *mapField) taken(items []*message.Node, scope *expr.Scope) ([]item, error) {
	var out []item
	var keys []*message.Node
	for i, v := range items {
		inner := *scope
		inner.Locals = maps.Clone(scope.Locals)
		if inner.Locals == nil {
			inner.Locals = map[string]*message.Node{}
		}
		inner.Locals[f.name], inner.Locals["index"] = v, jsonInt(i)
		if f.where != nil {
			if holds, err := f.where.EvalBool(&inner); err != nil || !holds {
				if err != nil {
					return nil, fmt.Errorf("where, item %d: %w", i+1, err)
				}
				continue
			}
		}
		if f.sort != nil {
			key, err := f.sort.Eval(&inner)
			if err != nil {
				return nil, fmt.Errorf("sort, item %d: %w", i+1, err)
			}
			keys = append(keys, key)
		}
		out = append(out, item{&inner, i})
	}
	if f.sort != nil {
		if err := sortBy(out, keys, f.descending); err != nil {
			return nil, err
		}
	}
	for i, inner := range out {
		inner.scope.Locals["index"] = jsonInt(i)
	}
	return out, nil
}

// sortBy puts items in the order of their keys, which are all numbers or all texts; those
// that are equal stay as they came.
func sortBy(items []item, keys []*message.Node, descending bool) error {
	numbers := make([]*big.Rat, len(keys))
	for i, k := range keys {
		if k.Kind != keys[0].Kind || k.Kind != message.Number && k.Kind != message.String {
			return fmt.Errorf("sort: items are put in order by numbers or by texts, and item %d has a %s", i+1, k.Kind)
		}
		if k.Kind == message.Number {
			numbers[i] = exactly(k.Text)
		}
	}
	order := make([]int, len(keys))
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int {
		c := strings.Compare(keys[a].Text, keys[b].Text)
		if numbers[a] != nil && numbers[b] != nil {
			c = numbers[a].Cmp(numbers[b])
		}
		if descending {
			return -c
		}
		return c
	})
	sorted := make([]item, len(items))
	for i, at := range order {
		sorted[i] = items[at]
	}
	copy(items, sorted)
	return nil
}

// exactly gives the value of a number. One with an exponent, which could have a million
// digits, is compared as the nearest that 64 bits hold.
func exactly(text string) *big.Rat {
	if !strings.ContainsAny(text, "eE") && len(text) < 200 {
		r, _ := new(big.Rat).SetString(text)
		return r
	}
	f, _ := strconv.ParseFloat(text, 64)
	return new(big.Rat).SetFloat64(max(-math.MaxFloat64, min(f, math.MaxFloat64)))
}

func bodyReads(p *expr.Program) []string {
	out := []string{}
	for _, r := range p.Reads {
		if ptr := r.Pointer(); r.Root == "body" && !slices.Contains(out, ptr) {
			out = append(out, ptr)
		}
	}
	return out
}

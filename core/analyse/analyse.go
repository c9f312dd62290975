// Package analyse says of the ways of a route what no sample may show: that one can never be
// taken, that two fit the same message, that a message fits none.
//
// It decides exactly, for conditions that compare what stands at paths of a message with
// fixed values: ==, !=, <, <=, >, >=, in a list, has, startsWith, and true or false as they
// stand, put together with &&, ||, ! and ?:. Of such conditions it matters only between which
// of the fixed values a value lies. So there are finitely many messages that differ, and all
// of them are tried: each way is asked with its own condition, as it is asked when a message
// is live. Whatever is claimed comes with one of these messages as its proof.
//
// What is not of that form is not decided, and said to be so; nothing is guessed.
package analyse

import (
	"fmt"
	"slices"

	"readyferry/core/expr"
	"readyferry/core/message"
)

// Way is a way of a route, and when it is taken.
type Way struct{ Name, When string }

// Kind is what is claimed of a way.
type Kind string

// The kinds of claims.
const (
	// Impossible is a way that fits no message.
	Impossible Kind = "impossible"
	// Shadowed is a way that fits messages all of which earlier ways take.
	Shadowed Kind = "shadowed"
	// Overlap is a message that two ways fit, of which the earlier takes it.
	Overlap Kind = "overlap"
	// Gap is a message that no way fits.
	Gap Kind = "gap"
)

// Claim is something that holds of a route.
type Claim struct {
	Kind Kind
	Way  string   // of which it is claimed; "" for a gap
	By   []string // the earlier ways
	// Proof is a message that shows it; nil where there is none, as for what is impossible.
	Proof *Proof
}

// Proof is a message that was made up to show something.
type Proof struct{ Body, Headers, Params, Query, Vars *message.Node }

// Undecided is a way of which nothing is claimed.
type Undecided struct{ Way, Why string }

// Result is what is known of a route.
type Result struct {
	Claims    []Claim
	Undecided []Undecided
}

// Most is how many messages are tried for one route; where more differ, it is not decided.
const Most = 1 << 14

// The answers of a condition.
const (
	no byte = iota
	yes
	fails
)

// Rules are what a route does besides asking its ways in their order.
type Rules struct {
	First   bool // the first one that fits is taken, and not every one
	Lenient bool // a condition over what is not there is false, and no failure
}

// Route analyses the ways of a route. The expressions must compile in env; of those that do
// not nothing is claimed.
func Route(env *expr.Env, ways []Way, rules Rules) Result {
	var out Result
	var known []int // ways that can be decided
	programs, all := make([]*expr.Program, len(ways)), &paths{}
	for i, w := range ways {
		own := &paths{}
		p, err := env.CompileBool(w.When)
		if err == nil {
			err = own.of(env, w.When)
		}
		if err != nil {
			out.Undecided = append(out.Undecided, Undecided{w.Name, err.Error()})
			continue
		}
		programs[i] = p
		all.join(own)
		known = append(known, i)
	}
	messages, err := all.messages(Most)
	if err != nil {
		for _, i := range known {
			out.Undecided = append(out.Undecided, Undecided{ways[i].Name, err.Error()})
		}
		return out
	}
	t := &table{ways: ways, known: known, first: rules.First}
	for _, m := range messages {
		t.messages = append(t.messages, m)
		t.answers = append(t.answers, answers(programs, known, m, rules.Lenient))
	}
	out.Claims = t.claims(len(known) == len(ways))
	return out
}

func answers(programs []*expr.Program, known []int, m *Proof, lenient bool) []byte {
	row := make([]byte, len(programs))
	scope := expr.Scope{Body: m.Body, Headers: m.Headers, Params: m.Params, Query: m.Query, Vars: m.Vars}
	for _, i := range known {
		switch fits, err := programs[i].EvalBool(&scope); {
		case err != nil && !(lenient && expr.IsMissing(err)):
			row[i] = fails
		case fits:
			row[i] = yes
		}
	}
	return row
}

// table holds what each way answers to each message.
type table struct {
	ways     []Way
	known    []int
	first    bool
	messages []*Proof
	answers  [][]byte
}

func (t *table) claims(whole bool) (out []Claim) {
	for at, i := range t.known {
		c, never := t.never(at, i)
		if never {
			out = append(out, c)
			continue
		}
		if !t.first {
			continue
		}
		for _, j := range t.known[:at] {
			if m := t.find(func(row []byte) bool { return row[i] == yes && row[j] == yes && t.clear(row, j) }); m != nil {
				out = append(out, Claim{Overlap, t.ways[i].Name, []string{t.ways[j].Name}, m})
			}
		}
	}
	if whole {
		none := func(row []byte) bool { return !slices.Contains(row, yes) && !slices.Contains(row, fails) }
		if m := t.find(none); m != nil {
			out = append(out, Claim{Gap, "", nil, m})
		}
	}
	return out
}

// never tells whether a way is never taken.
func (t *table) never(at, i int) (Claim, bool) {
	var proof *Proof
	by := map[int]bool{}
	for k, row := range t.answers {
		if row[i] != yes {
			continue
		}
		if !t.first {
			return Claim{}, false
		}
		taker := -1
		for _, j := range t.known[:at] {
			if row[j] != no {
				taker = j
				break
			}
		}
		if taker < 0 {
			return Claim{}, false
		}
		if row[taker] == yes {
			by[taker] = true
			if proof == nil {
				proof = t.messages[k]
			}
		}
	}
	if len(by) == 0 {
		return Claim{Impossible, t.ways[i].Name, nil, nil}, true
	}
	c := Claim{Shadowed, t.ways[i].Name, nil, proof}
	for _, j := range t.known[:at] {
		if by[j] && t.covers(j, i) { // it alone is why
			c.By, c.Proof = []string{t.ways[j].Name}, t.find(func(row []byte) bool { return row[i] == yes })
			return c, true
		}
	}
	for _, j := range t.known[:at] {
		if by[j] {
			c.By = append(c.By, t.ways[j].Name)
		}
	}
	return c, true
}

// covers tells whether a way fits every message that another one fits.
func (t *table) covers(j, i int) bool {
	return !slices.ContainsFunc(t.answers, func(row []byte) bool { return row[i] == yes && row[j] != yes })
}

// clear tells whether nothing before a way takes the message of a row, or fails over it.
func (t *table) clear(row []byte, j int) bool {
	for _, k := range t.known {
		if k < j && row[k] != no {
			return false
		}
	}
	return true
}

func (t *table) find(shows func(row []byte) bool) *Proof {
	for k, row := range t.answers {
		if shows(row) {
			return t.messages[k]
		}
	}
	return nil
}

// undecided says why a condition is not decided.
func undecided(format string, a ...any) error { return fmt.Errorf(format, a...) }

// Fitting makes up messages that fit a condition, at most so many; none where there is none.
// The error says why it cannot be decided.
func Fitting(env *expr.Env, condition string, most int) ([]*Proof, error) {
	p, err := env.CompileBool(condition)
	if err != nil {
		return nil, err
	}
	own := &paths{}
	if err := own.of(env, condition); err != nil {
		return nil, err
	}
	messages, err := own.messages(Most)
	if err != nil {
		return nil, err
	}
	var out []*Proof
	for _, m := range messages {
		if len(out) == most {
			break
		}
		if answers([]*expr.Program{p}, []int{0}, m, false)[0] == yes {
			out = append(out, m)
		}
	}
	return out, nil
}

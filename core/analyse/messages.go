package analyse

import (
	"math"
	"math/big"
	"slices"
	"strconv"
	"strings"

	"readyferry/core/message"
)

// exactly is how large a whole number may be for all ways of comparing it to agree.
const exactly = 1 << 53

func numbered(f float64, n int64) (fixed, bool) {
	return fixed{kind: number, text: strconv.FormatInt(n, 10)}, math.Abs(f) < exactly
}

func floating(f float64) (fixed, bool) {
	if math.IsNaN(f) || math.IsInf(f, 0) || math.Abs(f) >= exactly {
		return fixed{}, false
	}
	return fixed{kind: number, text: strconv.FormatFloat(f, 'f', -1, 64)}, true
}

// values gives what may stand at a place, one for each part of all values over which no
// condition can tell two apart. The first is nil: nothing stands there.
func (p *place) values() []*message.Node {
	out := []*message.Node{nil}
	var numbers []*big.Rat
	var texts []string
	truth := false
	for _, f := range p.fixed {
		switch f.kind {
		case null:
			out = append(out, message.NewNull())
		case boolean:
			truth = true
		case number:
			if n, ok := new(big.Rat).SetString(f.text); ok {
				numbers = append(numbers, n)
			}
		case text:
			texts = append(texts, f.text)
		}
	}
	if truth {
		out = append(out, message.NewBool(true), message.NewBool(false))
	}
	out = append(out, between(numbers)...)
	if len(p.heads) > 0 || len(texts) > 0 {
		out = append(out, around(texts, p.heads, p.order)...)
	}
	if len(out) == 1 { // it is only asked whether something is there
		out = append(out, message.NewString("x"))
	}
	return out
}

// between gives numbers, one between any two of them, and one on each side.
func between(all []*big.Rat) (out []*message.Node) {
	if len(all) == 0 {
		return nil
	}
	slices.SortFunc(all, (*big.Rat).Cmp)
	one, two := big.NewRat(1, 1), big.NewRat(2, 1)
	add := func(n *big.Rat) { out = append(out, message.NewNumber(decimal(n))) }
	add(new(big.Rat).Sub(all[0], one))
	for i, n := range all {
		add(n)
		next := new(big.Rat).Add(n, two)
		if i+1 < len(all) {
			next = all[i+1]
		}
		add(new(big.Rat).Quo(new(big.Rat).Add(n, next), two))
	}
	return out
}

// decimal writes a number that ends behind its point, as those between such do.
func decimal(n *big.Rat) string {
	if n.IsInt() {
		return n.Num().String()
	}
	return strings.TrimRight(n.FloatString(1100), "0")
}

// around gives texts. A condition tells two apart only where one of the compared ones, or the
// beginning or end of those that begin in the same way, lies between them, or is one of them.
func around(texts, heads []string, order bool) (out []*message.Node) {
	limits := slices.Clone(texts)
	for _, h := range heads {
		limits = append(limits, h)
		if end, ok := behind(h); ok {
			limits = append(limits, end)
		}
	}
	slices.Sort(limits)
	limits = slices.Compact(limits)
	for _, l := range limits {
		out = append(out, message.NewString(l))
	}
	if !order && len(heads) == 0 {
		return append(out, message.NewString(other(limits)))
	}
	if len(limits) > 0 && limits[0] != "" {
		out = append(out, message.NewString(""))
	}
	for i, l := range limits {
		for _, more := range []string{" ", "0", "a", "~", "\x00"} {
			if i+1 == len(limits) || l+more < limits[i+1] {
				out = append(out, message.NewString(l+more))
				break
			}
		}
	}
	return out
}

// behind gives the first text behind all that begin with a head.
func behind(head string) (string, bool) {
	runes := []rune(head)
	for i := len(runes) - 1; i >= 0; i-- {
		if next := runes[i] + 1; next <= 0x10FFFF && (next < 0xD800 || next > 0xDFFF) {
			return string(runes[:i]) + string(next), true
		}
	}
	return "", false // of the empty head, and of the last letter there is
}

// other gives a text that is none of these.
func other(all []string) string {
	for name := "other"; ; name += "*" {
		if !slices.Contains(all, name) {
			return name
		}
	}
}

// messages makes up one message for each that conditions over these places can tell apart.
func (ps *paths) messages(most int) ([]*Proof, error) {
	slices.SortFunc(ps.all, func(a, b *place) int {
		return slices.Compare(append([]string{a.root}, a.names...), append([]string{b.root}, b.names...))
	})
	values := make([][]*message.Node, len(ps.all))
	above := make([]int, len(ps.all)) // the place that a place stands in, or -1
	n := 1
	for i, p := range ps.all {
		values[i], above[i] = p.values(), -1
		for j := range i {
			q := ps.all[j]
			if q.root == p.root && len(q.names) < len(p.names) && slices.Equal(q.names, p.names[:len(q.names)]) {
				if len(q.fixed)+len(q.heads) > 0 {
					return nil, undecided("%s is compared, and so is %s in it", q, p)
				}
				above[i] = j
				values[j] = []*message.Node{nil, message.NewMap()}
			}
		}
	}
	for i := range values {
		if n *= len(values[i]); n > most {
			return nil, undecided("more than %d different messages would have to be tried", most)
		}
	}
	var out []*Proof
	chosen := make([]*message.Node, len(values))
	var choose func(i int)
	choose = func(i int) {
		if i == len(values) {
			out = append(out, ps.message(chosen))
			return
		}
		for _, v := range values[i] {
			if above[i] >= 0 && chosen[above[i]] == nil && v != nil {
				continue // nothing stands in what is not there
			}
			chosen[i] = v
			choose(i + 1)
		}
	}
	choose(0)
	return out, nil
}

func (ps *paths) message(chosen []*message.Node) *Proof {
	all := map[string]*message.Node{}
	for _, root := range roots {
		all[root] = message.NewMap()
	}
	for i, p := range ps.all {
		if chosen[i] != nil {
			all[p.root] = with(all[p.root], p.names, chosen[i])
		}
	}
	return &Proof{all["body"], all["headers"], all["params"], all["query"], all["vars"]}
}

// with puts a value into a tree of maps.
func with(n *message.Node, names []string, v *message.Node) *message.Node {
	if len(names) > 1 {
		inside := n.Get(names[0])
		if inside == nil {
			inside = message.NewMap()
		}
		v = with(inside, names[1:], v)
	}
	return n.With(names[0], v)
}

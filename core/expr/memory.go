package expr

import (
	"strings"
	"unicode/utf8"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/functions"
	"cel.dev/cel-go/common/operators"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"
	"cel.dev/cel-go/interpreter"

	"readyferry/core/message"
)

// What an expression builds is part of its cost. CEL counts steps; what a step
// makes may be of any size, and may share its parts, so that a list of a thousand
// lists of a thousand lists is small in memory and a billion values when it is
// written. So each evaluation has a Memory, and every place at which a value comes
// into being takes from it before the value is used: texts by their length,
// lists and maps by all that stands in them. The few functions whose result can be
// much larger than what they are given are asked for its size before they run.

// EvalMemory is what one evaluation may build, in bytes.
const EvalMemory = 64 << 20

// memoryName is how a running expression finds its Memory.
const memoryName = "@memory"

// Limits of single functions, which they would otherwise not know.
const (
	maxRange     = 1_000_000 // numbers of lists.range()
	maxPrecision = 100       // digits behind the point in format()
)

// passing are the calls that hand on a value that is there already.
var passing = map[string]bool{
	operators.Index: true, operators.OptIndex: true, operators.OptSelect: true, operators.Conditional: true,
	"orValue": true, "or": true, "value": true, "many": true, lookupName: true,
	"optional.of": true, "optional.ofNonZeroValue": true, "first": true, "last": true,
}

// foreseen are the calls whose result may be much larger than their arguments: for
// each how large it will be, in bytes.
var foreseen = map[string]func(args []ref.Val) int64{
	"replace": replaced, "join": joined,
}

// weighing lets what an expression builds be counted.
func (env *Env) weighing(i interpreter.InterpretableV2) (interpreter.InterpretableV2, error) {
	switch i := i.(type) {
	case interpreter.InterpretableConstructor:
		return weighedConstructor{i}, nil
	case interpreter.InterpretableCall:
		name := i.Function()
		size := foreseen[name]
		impl := env.impls[i.OverloadID()]
		switch {
		case size != nil && impl != nil:
			return &foreseenCall{i, size, impl}, nil
		case name == operators.Add && len(i.Args()) == 2:
			return addition{i}, nil
		case !passing[name]:
			return weighedCall{i}, nil
		}
	}
	return i, nil
}

// memoryOf gives the Memory of a running expression; nil where nobody counts.
func memoryOf(f *interpreter.ExecutionFrame) *message.Memory {
	v, _ := f.ResolveName(memoryName)
	m, _ := v.(*message.Memory)
	return m
}

// weighedConstructor is a list or map that is written in an expression.
type weighedConstructor struct {
	interpreter.InterpretableConstructor
}

func (c weighedConstructor) Exec(f *interpreter.ExecutionFrame) ref.Val {
	return taken(memoryOf(f), c.InterpretableConstructor.Exec(f))
}

// weighedCall is a call whose result counts once it is there: it is at most some
// times as large as what was given.
type weighedCall struct{ interpreter.InterpretableCall }

func (c weighedCall) Exec(f *interpreter.ExecutionFrame) ref.Val {
	return taken(memoryOf(f), c.InterpretableCall.Exec(f))
}

// addition adds two values. A loop adds one item after the other to its result, so
// of lists only what is added counts, not what is there; of texts the whole, as it
// is copied.
type addition struct{ interpreter.InterpretableCall }

func (c addition) Exec(f *interpreter.ExecutionFrame) ref.Val {
	a := c.Args()[0].Exec(f)
	b := c.Args()[1].Exec(f)
	for _, v := range []ref.Val{a, b} {
		if types.IsUnknownOrError(v) {
			return v
		}
	}
	m := memoryOf(f)
	switch a.(type) {
	case types.String, types.Bytes:
		if v := taken(m, a); types.IsError(v) {
			return v
		}
	}
	switch b.(type) {
	case types.String, types.Bytes, traits.Lister:
		if v := taken(m, b); types.IsError(v) {
			return v
		}
	}
	if adder, ok := a.(traits.Adder); ok {
		return adder.Add(b)
	}
	return types.MaybeNoSuchOverloadErr(a)
}

// foreseenCall is a call whose result counts before it is made.
type foreseenCall struct {
	interpreter.InterpretableCall
	size func(args []ref.Val) int64
	impl functions.FunctionOp
}

func (c *foreseenCall) Exec(f *interpreter.ExecutionFrame) ref.Val {
	args := make([]ref.Val, len(c.Args()))
	given := make([]interpreter.InterpretableV2, len(args))
	for i, a := range c.Args() {
		args[i] = a.Exec(f)
		given[i] = interpreter.NewConstValue(a.ID(), args[i])
	}
	if err := memoryOf(f).Take(c.size(args)); err != nil {
		return types.WrapErr(err)
	}
	return interpreter.NewCall(c.ID(), c.Function(), c.OverloadID(), given, c.impl).Exec(f)
}

// taken counts a value, and gives it or the error that there is no room for it.
func taken(m *message.Memory, v ref.Val) ref.Val {
	if m == nil {
		return v
	}
	left := m.Left()
	weighValue(v, &left)
	if err := m.Take(m.Left() - left); err != nil {
		return types.WrapErr(err)
	}
	return v
}

// weighValue takes the weight of a value off left, and stops below zero. Values
// that take no place of their own weigh nothing.
func weighValue(v ref.Val, left *int64) {
	switch v := v.(type) {
	case types.String:
		*left -= int64(len(v))
	case types.Bytes:
		*left -= int64(len(v))
	case mapValue:
		weighNode(v.n, left)
	case *types.Optional:
		if v.HasValue() {
			weighValue(v.GetValue(), left)
		}
	case traits.Mapper:
		for it := v.Iterator(); it.HasNext() == types.True && *left >= 0; {
			key := it.Next()
			*left -= 64
			weighValue(key, left)
			weighValue(v.Get(key), left)
		}
	case traits.Lister:
		if items, ok := v.Value().([]*message.Node); ok {
			for _, n := range items {
				if weighNode(n, left); *left < 0 {
					return
				}
			}
			return
		}
		for it := v.Iterator(); it.HasNext() == types.True && *left >= 0; {
			*left -= 64
			weighValue(it.Next(), left)
		}
	}
}

func weighNode(n *message.Node, left *int64) {
	m := message.NewMemory("", max(0, *left))
	if m.TakeNode(n) != nil {
		*left = -1
		return
	}
	*left = m.Left()
}

// replaced tells how long a text is in which others were put.
func replaced(a []ref.Val) int64 {
	if len(a) < 3 {
		return 0
	}
	in, okIn := a[0].(types.String)
	old, okOld := a[1].(types.String)
	put, okPut := a[2].(types.String)
	if !okIn || !okOld || !okPut {
		return 0
	}
	times := int64(utf8.RuneCountInString(string(in)) + 1) // an empty text stands between all characters
	if old != "" {
		times = int64(strings.Count(string(in), string(old)))
	}
	if len(a) > 3 {
		if most, ok := a[3].(types.Int); ok && most >= 0 {
			times = min(times, int64(most))
		}
	}
	return int64(len(in)) + times*int64(len(put))
}

// joined tells how long a list of texts is as one.
func joined(a []ref.Val) int64 {
	l, ok := a[0].(traits.Lister)
	if !ok {
		return 0
	}
	size := int64(0)
	n, _ := l.Size().(types.Int)
	if len(a) > 1 {
		between, _ := a[1].(types.String)
		size = int64(n) * int64(len(between))
	}
	if size > EvalMemory {
		return size
	}
	for it := l.Iterator(); it.HasNext() == types.True; {
		s, _ := it.Next().(types.String)
		size += int64(len(s))
	}
	return size
}

// implementations gives the functions of an environment by the ids of their overloads.
func implementations(env *cel.Env) (map[string]functions.FunctionOp, error) {
	out := map[string]functions.FunctionOp{}
	for name := range foreseen {
		bound, err := env.Functions()[name].Bindings()
		if err != nil {
			return nil, err
		}
		for _, o := range bound {
			switch {
			case o.Unary != nil:
				out[o.Operator] = func(a ...ref.Val) ref.Val { return o.Unary(a[0]) }
			case o.Binary != nil:
				out[o.Operator] = func(a ...ref.Val) ref.Val { return o.Binary(a[0], a[1]) }
			case o.Function != nil:
				out[o.Operator] = o.Function
			}
		}
	}
	return out, nil
}

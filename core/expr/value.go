package expr

import (
	"fmt"
	"math"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"time"

	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"
	"cel.dev/cel-go/ext"
	"cel.dev/cel-go/interpreter"

	"readyferry/core/message"
)

// adapter lets CEL see document nodes as its own values, without copying them.
// With exact, numbers are decimals that keep every digit.
type adapter struct{ exact bool }

// exactRoot is a node whose numbers decimal() reads.
type exactRoot struct{ n *message.Node }

func (a adapter) NativeToValue(v any) ref.Val {
	var n *message.Node
	switch x := v.(type) {
	case *message.Node:
		n = x
	case exactRoot:
		return adapter{true}.NativeToValue(x.n)
	default:
		return types.DefaultTypeAdapter.NativeToValue(v)
	}
	switch n.Kind {
	case message.Null:
		return types.NullValue
	case message.Bool:
		return types.Bool(n.Text == "true")
	case message.Number:
		if a.exact {
			d, err := toDecimal(types.String(n.Text))
			if err != nil {
				return types.WrapErr(err)
			}
			return d
		}
		return number(n.Text)
	case message.String:
		return types.String(n.Text)
	case message.Bytes:
		return types.Bytes(n.Text)
	case message.List:
		return types.NewDynamicList(a, n.Items)
	}
	return mapValue{n, a}
}

// sortedMap is a map that an expression wrote. It is gone through by the order
// of its keys, because CEL's own has none and the same run must decide the same.
type sortedMap struct {
	traits.Mapper
	keys []ref.Val
}

// orderMaps lets every map that an expression writes be a sortedMap.
func orderMaps(i interpreter.InterpretableV2) (interpreter.InterpretableV2, error) {
	if c, ok := i.(interpreter.InterpretableConstructor); ok && c.Type() == types.MapType {
		return orderedMap{c}, nil
	}
	return i, nil
}

type orderedMap struct {
	interpreter.InterpretableConstructor
}

func (o orderedMap) Exec(f *interpreter.ExecutionFrame) ref.Val {
	return sorted(o.InterpretableConstructor.Exec(f))
}

func sorted(v ref.Val) ref.Val {
	m, ok := v.(traits.Mapper)
	if !ok {
		return v
	}
	var keys []ref.Val
	for it := m.Iterator(); it.HasNext() == types.True; {
		keys = append(keys, it.Next())
	}
	slices.SortFunc(keys, func(a, b ref.Val) int {
		if c, ok := a.(traits.Comparer); ok {
			if i, ok := c.Compare(b).(types.Int); ok {
				return int(i)
			}
		}
		return strings.Compare(a.Type().TypeName(), b.Type().TypeName())
	})
	return sortedMap{m, keys}
}

func (m sortedMap) IsZeroValue() bool         { return len(m.keys) == 0 }
func (m sortedMap) Iterator() traits.Iterator { return &keyIterator{keys: m.keys} }

type keyIterator struct {
	nameIterator
	keys []ref.Val
}

func (i *keyIterator) HasNext() ref.Val { return types.Bool(i.at < len(i.keys)) }
func (i *keyIterator) Next() ref.Val {
	i.at++
	return i.keys[i.at-1]
}

// number gives an int where the literal is one and fits, a uint where only
// that holds it, else a double.
func number(literal string) ref.Val {
	if !strings.ContainsAny(literal, ".eE") {
		if i, err := strconv.ParseInt(literal, 10, 64); err == nil {
			return types.Int(i)
		}
		if u, err := strconv.ParseUint(literal, 10, 64); err == nil {
			return types.Uint(u)
		}
	}
	f, _ := strconv.ParseFloat(literal, 64) // out of range gives an infinity, as IEEE 754 has it
	return types.Double(f)
}

// mapValue is a Map node as a CEL map.
type mapValue struct {
	n *message.Node
	a adapter
}

func (m mapValue) Type() ref.Type    { return types.MapType }
func (m mapValue) Value() any        { return m.n }
func (m mapValue) IsZeroValue() bool { return len(m.n.Members) == 0 }
func (m mapValue) Size() ref.Val     { return types.Int(len(m.n.Members)) }

func (m mapValue) ConvertToNative(t reflect.Type) (any, error) {
	if reflect.TypeOf(m.n).AssignableTo(t) {
		return m.n, nil
	}
	return nil, fmt.Errorf("a map cannot become %s", t)
}

func (m mapValue) ConvertToType(t ref.Type) ref.Val {
	switch t {
	case types.MapType:
		return m
	case types.TypeType:
		return types.MapType
	}
	return types.NewErr("type conversion error from map to %s", t.TypeName())
}

func (m mapValue) Equal(other ref.Val) ref.Val {
	o, ok := other.(traits.Mapper)
	if !ok || o.Size() != m.Size() {
		return types.False
	}
	for _, member := range m.n.Members {
		v, found := o.Find(types.String(member.Name))
		if !found || types.Equal(m.a.NativeToValue(member.Value), v) != types.True {
			return types.False
		}
	}
	return types.True
}

func (m mapValue) Find(key ref.Val) (ref.Val, bool) {
	name, ok := key.(types.String)
	if !ok {
		if types.IsUnknownOrError(key) {
			return key, false
		}
		return nil, false
	}
	if v := m.n.Get(string(name)); v != nil {
		return m.a.NativeToValue(v), true
	}
	return nil, false
}

func (m mapValue) Contains(key ref.Val) ref.Val {
	_, found := m.Find(key)
	return types.Bool(found)
}

func (m mapValue) Get(key ref.Val) ref.Val {
	if v, found := m.Find(key); found {
		return v
	}
	return types.NewErr("no such key: %v", key)
}

func (m mapValue) Iterator() traits.Iterator { return &nameIterator{m: m} }

// nameIterator iterates over member names in document order.
type nameIterator struct {
	m  mapValue
	at int
}

func (i *nameIterator) HasNext() ref.Val { return types.Bool(i.at < len(i.m.n.Members)) }
func (i *nameIterator) Next() ref.Val {
	i.at++
	return types.String(i.m.n.Members[i.at-1].Name)
}
func (i *nameIterator) Type() ref.Type        { return types.IteratorType }
func (i *nameIterator) Value() any            { return nil }
func (i *nameIterator) Equal(ref.Val) ref.Val { return types.False }
func (i *nameIterator) ConvertToType(ref.Type) ref.Val {
	return types.NewErr("an iterator has no other type")
}
func (i *nameIterator) ConvertToNative(reflect.Type) (any, error) {
	return nil, fmt.Errorf("an iterator stays one")
}

// toNode turns a CEL result into a node. Values that came from a document are
// that document's own nodes. ok is false for an optional that holds nothing.
func toNode(v ref.Val) (n *message.Node, ok bool, err error) {
	switch x := v.(type) {
	case types.Null:
		return message.NewNull(), true, nil
	case types.Bool:
		return message.NewBool(bool(x)), true, nil
	case types.Int:
		return message.NewNumber(strconv.FormatInt(int64(x), 10)), true, nil
	case types.Uint:
		return message.NewNumber(strconv.FormatUint(uint64(x), 10)), true, nil
	case types.Double:
		if math.IsNaN(float64(x)) || math.IsInf(float64(x), 0) {
			return nil, false, fmt.Errorf("the result is %s, which no document can hold", FormatDouble(float64(x)))
		}
		return message.NewNumber(FormatDouble(float64(x))), true, nil
	case types.String:
		return message.NewString(string(x)), true, nil
	case types.Bytes:
		return message.NewBytes([]byte(x)), true, nil
	case exactDecimal:
		return message.NewNumber(x.d.String()), true, nil
	case types.Timestamp:
		return message.NewString(x.Time.UTC().Format(time.RFC3339Nano)), true, nil
	case types.Duration:
		return message.NewString(string(x.ConvertToType(types.StringType).(types.String))), true, nil
	case *types.Optional:
		if !x.HasValue() {
			return nil, false, nil
		}
		return toNode(x.GetValue())
	case mapValue:
		return x.n, true, nil
	case traits.Mapper:
		return mapNode(x)
	case traits.Lister:
		if items, ok := x.Value().([]*message.Node); ok {
			return message.NewList(items...), true, nil
		}
		list := &message.Node{Kind: message.List, Offset: -1}
		for it := x.Iterator(); it.HasNext() == types.True; {
			item, ok, err := toNode(it.Next())
			if err != nil {
				return nil, false, err
			}
			if !ok {
				item = message.NewNull()
			}
			list.Items = append(list.Items, item)
		}
		return list, true, nil
	case ref.Type:
		return message.NewString(x.TypeName()), true, nil
	case ext.IP, ext.CIDR:
		return message.NewString(string(x.ConvertToType(types.StringType).(types.String))), true, nil
	}
	return nil, false, fmt.Errorf("a %s is no value of a document", v.Type().TypeName())
}

// mapNode writes a computed map. Its members are sorted by name, because CEL
// gives them in no order and the same run must give the same bytes.
func mapNode(m traits.Mapper) (*message.Node, bool, error) {
	out := &message.Node{Kind: message.Map, Offset: -1}
	for it := m.Iterator(); it.HasNext() == types.True; {
		key := it.Next()
		v, ok, err := toNode(m.Get(key))
		if err != nil {
			return nil, false, err
		}
		if !ok {
			continue
		}
		name, isText := key.ConvertToType(types.StringType).(types.String)
		if !isText {
			return nil, false, fmt.Errorf("a %s cannot name a member", key.Type().TypeName())
		}
		out.Members = append(out.Members, message.Member{Name: string(name), Value: v})
	}
	sortMembers(out.Members)
	out.Seal()
	return out, true, nil
}

// FormatDouble writes a double in the shortest form that reads back the same,
// as JSON numbers are usually written; NaN, Infinity and -Infinity by name.
func FormatDouble(f float64) string {
	switch {
	case math.IsNaN(f):
		return "NaN"
	case math.IsInf(f, 1):
		return "Infinity"
	case math.IsInf(f, -1):
		return "-Infinity"
	}
	if abs := math.Abs(f); abs != 0 && (abs < 1e-6 || abs >= 1e21) {
		return strconv.FormatFloat(f, 'e', -1, 64)
	}
	return strconv.FormatFloat(f, 'f', -1, 64)
}

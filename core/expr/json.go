package expr

import (
	"encoding/base64"
	"math"
	"strings"

	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"

	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
)

// EvalJSON evaluates and gives the value as JSON text for people and programs:
// integers in full, bytes as base64, NaN and infinities as strings, an empty
// optional as null.
func (p *Program) EvalJSON(s *Scope) (string, error) {
	if _, computed := p.exact.(leafNode); !computed {
		if n, ok, err := p.exact.eval(s, p.activation(s)); err == nil && ok {
			return string(jsonfmt.Encode(n)), nil
		}
	}
	v, err := p.EvalRaw(s)
	if err != nil {
		return "", err
	}
	n, err := shown(v)
	if err != nil {
		return "", err
	}
	return string(jsonfmt.Encode(n)), nil
}

// shown is toNode without refusals: for looking, not for a document.
func shown(v ref.Val) (*message.Node, error) {
	switch x := v.(type) {
	case types.Double:
		f := float64(x)
		if math.IsNaN(f) || math.IsInf(f, 0) {
			return message.NewString(FormatDouble(f)), nil
		}
		text := FormatDouble(f)
		if !strings.ContainsAny(text, ".e") {
			text += ".0" // so that a double is told from an int
		}
		return message.NewNumber(text), nil
	case types.Bytes:
		return message.NewString(base64.StdEncoding.EncodeToString(x)), nil
	case *types.Optional:
		if !x.HasValue() {
			return message.NewNull(), nil
		}
		return shown(x.GetValue())
	case mapValue:
		return x.n, nil
	case traits.Mapper:
		out := &message.Node{Kind: message.Map, Offset: -1}
		for it := x.Iterator(); it.HasNext() == types.True; {
			key := it.Next()
			n, err := shown(x.Get(key))
			if err != nil {
				return nil, err
			}
			name, ok := key.ConvertToType(types.StringType).(types.String)
			if !ok {
				continue
			}
			out.Members = append(out.Members, message.Member{Name: string(name), Value: n})
		}
		sortMembers(out.Members)
		out.Seal()
		return out, nil
	case traits.Lister:
		out := message.NewList()
		for it := x.Iterator(); it.HasNext() == types.True; {
			n, err := shown(it.Next())
			if err != nil {
				return nil, err
			}
			out.Items = append(out.Items, n)
		}
		return out, nil
	}
	n, ok, err := toNode(v)
	if err != nil || !ok {
		return message.NewNull(), err
	}
	return n, nil
}

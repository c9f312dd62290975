package expr

import (
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"slices"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"
	"github.com/google/uuid"

	jsonfmt "readyferry/core/format/json"
)

// Names that own functions read; users cannot write them.
const (
	nowName  = "@now"
	seedName = "@seed"
	uuidName = "@uuid"
)

// Example is an expression with its value as JSON, over the body given.
type Example struct {
	Expression string            `json:"expression"`
	Body       string            `json:"body,omitempty"`   // "" for none
	Format     string            `json:"format,omitempty"` // of the body, JSON when ""
	Tables     map[string]string `json:"tables,omitempty"` // CSV by name, for lookup
	Value      string            `json:"value"`            // JSON; "" where it differs from run to run
}

// Function is an own function: what is not in CEL and its extensions.
type Function struct {
	Name      string    `json:"name"`
	Signature string    `json:"signature"`
	Text      string    `json:"text"`
	Examples  []Example `json:"examples"`

	options []cel.EnvOption
}

// Functions lists the own functions, for help and completion.
func Functions() []Function {
	return slices.Concat(
		coreFunctions,
		pointerFunctions,
		xmlFunctions,
		hl7Functions,
		digestFunctions,
		foldingFunctions,
		textFunctions,
		timeFunctions,
		decimalFunctions,
		tableFunctions,
	)
}

// nodes makes CEL values of document nodes.
var nodes = adapter{}

// coreFunctions work on any value.
var coreFunctions = []Function{
	{
		Name: "now", Signature: "now() → timestamp",
		Text:     "The time at which the transaction was received, the same in every step and on every replay.",
		Examples: []Example{{Expression: "now().getFullYear() >= 2026", Value: "true"}},
		options: []cel.EnvOption{cel.Macros(cel.GlobalMacro("now", 0,
			func(f cel.MacroExprFactory, _ ast.Expr, _ []ast.Expr) (ast.Expr, *common.Error) {
				return f.NewIdent(nowName), nil
			}))},
	},
	{
		Name: "uuid", Signature: "uuid() → string",
		Text: "A UUID made from the transaction's id, the step and the place of the call: unique among transactions, the same on every replay.",
		Examples: []Example{
			{Expression: "uuid().size()", Value: "36"},
			{Expression: "uuid() == uuid()", Value: "false"},
		},
		options: []cel.EnvOption{
			cel.Macros(cel.GlobalMacro("uuid", 0,
				func(f cel.MacroExprFactory, _ ast.Expr, _ []ast.Expr) (ast.Expr, *common.Error) {
					seed := f.NewIdent(seedName)
					return f.NewCall(uuidName, seed, f.NewLiteral(types.Int(seed.ID()))), nil
				})),
			cel.Function(
				uuidName,
				cel.Overload("uuid_seed_place", []*cel.Type{cel.StringType, cel.IntType}, cel.StringType,
					cel.BinaryBinding(func(seed, place ref.Val) ref.Val {
						return types.String(DerivedUUID(string(seed.(types.String)), int64(place.(types.Int))))
					})),
			),
		},
	},
	{
		Name: "many", Signature: "many(x) → list",
		Text: "Always a list: a list stays one, one value becomes a list of it, null or an empty optional becomes an empty list.",
		Examples: []Example{
			{Expression: "many(body.item)", Body: `{"item": 5}`, Value: "[5]"},
			{Expression: "many(body.item)", Body: `{"item": [5, 6]}`, Value: "[5,6]"},
			{Expression: "many(body.?item)", Body: `{}`, Value: "[]"},
		},
		options: []cel.EnvOption{
			cel.Function("many", cel.Overload("many_dyn", []*cel.Type{cel.DynType}, cel.ListType(cel.DynType),
				cel.UnaryBinding(func(v ref.Val) ref.Val {
					if o, ok := v.(*types.Optional); ok {
						if !o.HasValue() {
							return types.NewRefValList(types.DefaultTypeAdapter, nil)
						}
						v = o.GetValue()
					}
					if _, ok := v.(traits.Lister); ok {
						return v
					}
					if v == types.NullValue {
						return types.NewRefValList(types.DefaultTypeAdapter, nil)
					}
					return types.NewRefValList(types.DefaultTypeAdapter, []ref.Val{v})
				}))),
		},
	},
	{
		Name: "json", Signature: "json(x) → string",
		Text: "The value as compact JSON text.",
		Examples: []Example{
			{Expression: "json(body.titles)", Body: `{"titles": ["A", {"b": 0.10}]}`, Value: `"[\"A\",{\"b\":0.10}]"`},
		},
		options: []cel.EnvOption{cel.Function("json", cel.Overload("json_dyn", []*cel.Type{cel.DynType}, cel.StringType,
			cel.UnaryBinding(func(v ref.Val) ref.Val {
				n, ok, err := toNode(v)
				if err != nil {
					return types.NewErr("json: %v", err)
				}
				if !ok {
					return types.String("null")
				}
				return types.String(jsonfmt.Encode(n))
			})))},
	},
	{
		Name: "parseJson", Signature: "parseJson(string) → any",
		Text:     "Reads a text as JSON. A text that is not JSON is an error that says where.",
		Examples: []Example{{Expression: "parseJson(body.inner).n + 1", Body: `{"inner": "{\"n\": 41}"}`, Value: "42"}},
		options: []cel.EnvOption{
			cel.Function("parseJson", cel.Overload("parse_json_string", []*cel.Type{cel.StringType}, cel.DynType,
				cel.UnaryBinding(func(v ref.Val) ref.Val {
					r, err := jsonfmt.Decode([]byte(v.(types.String)))
					if err != nil {
						return types.NewErr("parseJson: %v", err)
					}
					return nodes.NativeToValue(r.Root)
				}))),
		},
	},
}

// DerivedUUID makes a UUID version 8 (RFC 9562, 5.8) from a seed and a place:
// the first 122 free bits of SHA-256 over both.
func DerivedUUID(seed string, place int64) string {
	h := sha256.New()
	fmt.Fprintf(h, "%d:%s", len(seed), seed)
	var b [8]byte
	binary.BigEndian.PutUint64(b[:], uint64(place))
	h.Write(b[:])
	var id uuid.UUID
	copy(id[:], h.Sum(nil))
	id[6] = id[6]&0x0F | 0x80
	id[8] = id[8]&0x3F | 0x80
	return id.String()
}

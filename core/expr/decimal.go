package expr

import (
	"fmt"
	"reflect"
	"strings"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/operators"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"
	"github.com/shopspring/decimal"
)

// decimalType is the type of exact decimals.
var decimalType = types.NewObjectType(
	"decimal",
	traits.AdderType|traits.SubtractorType|traits.MultiplierType|traits.DividerType|traits.NegatorType|traits.ComparerType,
)

// maxDigits keeps a product of products from filling the memory.
const maxDigits = 1000

// exactDecimal is a decimal as a CEL value.
type exactDecimal struct{ d decimal.Decimal }

func (x exactDecimal) Type() ref.Type { return decimalType }
func (x exactDecimal) Value() any     { return x.d }

func (x exactDecimal) ConvertToNative(t reflect.Type) (any, error) {
	return nil, fmt.Errorf("a decimal cannot become %s", t)
}

func (x exactDecimal) ConvertToType(t ref.Type) ref.Val {
	switch t {
	case types.StringType:
		return types.String(x.d.String())
	case types.DoubleType:
		f, _ := x.d.Float64()
		return types.Double(f)
	case types.IntType:
		if i := x.d.Truncate(0); i.BigInt().IsInt64() {
			return types.Int(i.IntPart())
		}
		return types.NewErr("integer overflow")
	case types.TypeType:
		return decimalType
	}
	return types.NewErr("type conversion error from decimal to %s", t.TypeName())
}

func (x exactDecimal) Equal(other ref.Val) ref.Val {
	y, err := toDecimal(other)
	return types.Bool(err == nil && x.d.Equal(y.d))
}

func (x exactDecimal) with(other ref.Val, f func(a, b decimal.Decimal) decimal.Decimal) ref.Val {
	y, err := toDecimal(other)
	if err != nil {
		return types.WrapErr(err)
	}
	out := f(x.d, y.d)
	if out.NumDigits() > maxDigits || int(out.Exponent()) < -maxDigits {
		return types.NewErr("the decimal has more than %d digits", maxDigits)
	}
	return exactDecimal{out}
}

func (x exactDecimal) Add(o ref.Val) ref.Val      { return x.with(o, decimal.Decimal.Add) }
func (x exactDecimal) Subtract(o ref.Val) ref.Val { return x.with(o, decimal.Decimal.Sub) }
func (x exactDecimal) Multiply(o ref.Val) ref.Val { return x.with(o, decimal.Decimal.Mul) }
func (x exactDecimal) Negate() ref.Val            { return exactDecimal{x.d.Neg()} }

func (x exactDecimal) Divide(o ref.Val) ref.Val {
	if y, err := toDecimal(o); err == nil && y.d.IsZero() {
		return types.NewErr("division by zero")
	}
	return x.with(o, func(a, b decimal.Decimal) decimal.Decimal { return a.DivRound(b, 28) })
}

func (x exactDecimal) Compare(o ref.Val) ref.Val {
	y, err := toDecimal(o)
	if err != nil {
		return types.WrapErr(err)
	}
	return types.Int(x.d.Cmp(y.d))
}

// toDecimal takes decimals, whole numbers, texts, and doubles by the shortest
// digits that mean them.
func toDecimal(v ref.Val) (exactDecimal, error) {
	text := ""
	switch x := v.(type) {
	case exactDecimal:
		return x, nil
	case types.Int, types.Uint:
		text = fmt.Sprint(x.Value())
	case types.Double:
		text = FormatDouble(float64(x))
	case types.String:
		text = strings.TrimSpace(string(x))
	default:
		return exactDecimal{}, fmt.Errorf("a %s is no decimal number", v.Type().TypeName())
	}
	if i := strings.IndexAny(text, "eE"); len(text) > maxDigits || i >= 0 && len(text)-i > 5 {
		return exactDecimal{}, fmt.Errorf("%.20s… has more than %d digits", text, maxDigits)
	}
	d, err := decimal.NewFromString(text)
	if err != nil || d.NumDigits() > maxDigits || d.Exponent() > maxDigits || d.Exponent() < -maxDigits {
		return exactDecimal{}, fmt.Errorf("%q is no decimal number of at most %d digits", text, maxDigits)
	}
	return exactDecimal{d}, nil
}

// decimalFunctions are for money.
var decimalFunctions = []Function{
	{
		Name: "decimal", Signature: "decimal(x) → decimal",
		Text: "An exact decimal from a text or number, for money: + − * / and comparisons are exact (a quotient to " +
			"28 places). A number of the message is taken with its digits. Begin with a decimal: decimal(body.price) * 3.",
		Examples: []Example{
			{
				Expression: `decimal("0.1") + decimal("0.2")`,
				Value:      "0.3",
			}, {Expression: "decimal(body.price) * 3", Body: `{"price": 12345678901234567890.10}`,
				Value: "37037036703703703670.3"},
			{Expression: `decimal("10") / 4 > decimal("2.4")`, Value: "true"},
		},
		options: []cel.EnvOption{
			convertDecimal("string", types.StringType),
			convertDecimal("int", types.IntType),
			convertDecimal("double", types.DoubleType),
			cel.Macros(cel.GlobalMacro("decimal", 1, exactArgument)),
			cel.Function(
				"decimal",
				cel.Overload(
					"decimal_any",
					[]*cel.Type{cel.DynType},
					cel.DynType,
					cel.UnaryBinding(func(v ref.Val) ref.Val {
						d, err := toDecimal(v)
						if err != nil {
							return types.NewErr("decimal: %v", err)
						}
						return d
					}),
				),
			),
		},
	},
	decimalPlaces(
		"round",
		"a decimal rounded to places behind the point, a half away from zero",
		func(d decimal.Decimal, places int32) ref.Val { return exactDecimal{d.Round(places)} },
		Example{Expression: `round(decimal("2.345"), 2)`, Value: "2.35"},
	),
	decimalPlaces(
		"fixed",
		"a text with just so many places behind the point, a half away from zero",
		func(d decimal.Decimal, places int32) ref.Val { return types.String(d.StringFixed(places)) },
		Example{Expression: `fixed(body.price, 2)`, Body: `{"price": 7}`, Value: `"7.00"`},
	),
}

func decimalPlaces(name, text string, f func(decimal.Decimal, int32) ref.Val, example Example) Function {
	return Function{
		Name: name, Signature: name + "(x, places)", Text: strings.ToUpper(text[:1]) + text[1:] +
			". x is a decimal, a number or a text.", Examples: []Example{example},
		options: []cel.EnvOption{
			cel.Function(
				name,
				cel.Overload(
					name+"_places",
					[]*cel.Type{cel.DynType, cel.IntType},
					cel.DynType,
					cel.BinaryBinding(func(v, places ref.Val) ref.Val {
						d, err := toDecimal(v)
						if err != nil {
							return types.NewErr("%s: %v", name, err)
						}
						n := int64(places.(types.Int))
						if n < 0 || n > 100 {
							return types.NewErr("%s: places must be between 0 and 100, not %d", name, n)
						}
						return f(d.d, int32(n))
					}),
				),
			),
		},
	}
}

// convertDecimal lets CEL's own conversions take decimals.
func convertDecimal(name string, to *types.Type) cel.EnvOption {
	return cel.Function(
		name,
		cel.Overload(
			name+"_decimal",
			[]*cel.Type{decimalType},
			to,
			cel.UnaryBinding(func(v ref.Val) ref.Val { return v.ConvertToType(to) }),
		),
	)
}

// exactArgument lets decimal(body.price) see the digits of the number: the path
// begins at a twin of its root whose numbers are exact.
func exactArgument(f cel.MacroExprFactory, _ ast.Expr, args []ast.Expr) (ast.Expr, *common.Error) {
	if e, ok := twin(f, args[0]); ok {
		return f.NewCall("decimal", e), nil
	}
	return nil, nil // as it is
}

// twinMark stands before the name of a root whose numbers are exact.
const twinMark = "@exact "

func twin(f cel.MacroExprFactory, e ast.Expr) (ast.Expr, bool) {
	switch e.Kind() {
	case ast.IdentKind:
		return f.NewIdent(twinMark + e.AsIdent()), isRoot(e.AsIdent())
	case ast.SelectKind:
		s := e.AsSelect()
		inner, ok := twin(f, s.Operand())
		return f.NewSelect(inner, s.FieldName()), ok && !s.IsTestOnly()
	case ast.CallKind:
		c := e.AsCall()
		switch c.FunctionName() {
		case operators.Index, operators.OptIndex, operators.OptSelect:
			inner, ok := twin(f, c.Args()[0])
			return f.NewCall(c.FunctionName(), inner, f.Copy(c.Args()[1])), ok
		}
	}
	return f.NewLiteral(types.NullValue), false
}

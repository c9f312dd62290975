package expr

import (
	"fmt"
	"strings"
	"time"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"

	"readyferry/core/format/hl7"
	"readyferry/core/message"
)

const ackName = "@hl7Ack"

// hl7Functions look into messages of HL7 version 2, and answer them.
var hl7Functions = []Function{
	{
		Name: "hl7", Signature: `hl7(message, "PID-5.1") → any`,
		Text: "Reads a place of an HL7 v2 message: segment, field, component and sub-component count from 1; OBX[2]-5 " +
			"is the second OBX, PID-3[2] the second repetition, [*] all of them; OBR[2]/OBX-5 is the first OBX " +
			"behind the second OBR. What is empty is an empty text, the null \"\" is null. A segment that is not " +
			"there is an error.",
		Examples: []Example{
			{
				Expression: `hl7(body, "PID-5.1") + ", " + hl7(body, "PID-5.2")`,
				Format:     "hl7",
				Body:       "MSH|^~\\&|A\rPID|1||7||Jones^Ann",
				Value:      `"Jones, Ann"`,
			},
			{
				Expression: `hl7(body, "OBX[*]-3.1")`,
				Format:     "hl7",
				Body:       "MSH|^~\\&|A\rOBX|1||GLU^x\rOBX|2||NA^y",
				Value:      `["GLU","NA"]`,
			},
		},
		options: []cel.EnvOption{
			cel.Function(
				"hl7",
				cel.Overload(
					"hl7_node_string",
					[]*cel.Type{cel.DynType, cel.StringType},
					cel.DynType,
					cel.BinaryBinding(evalHL7),
				),
			),
		},
	},
	{
		Name: "hl7Raw", Signature: `hl7Raw(message, "OBX-5") → string`,
		Text: "Reads a place as hl7() does, but as it stands there: with its separators and escape sequences. In a field " +
			"that is raw it goes to another message as it is.",
		Examples: []Example{
			{
				Expression: `hl7Raw(body, "OBX-5")`,
				Format:     "hl7",
				Body:       "MSH|^~\\&|A\rOBX|1|FT|||two\\.br\\lines",
				Value:      `"two\\.br\\lines"`,
			},
		},
		options: []cel.EnvOption{cel.Function("hl7Raw", cel.Overload("hl7_raw", []*cel.Type{cel.DynType, cel.StringType},
			cel.StringType, cel.BinaryBinding(func(node, path ref.Val) ref.Val {
				return atPlace("hl7Raw", node, path, func(m *hl7.Message, p hl7.Path) (ref.Val, error) {
					text, err := m.Raw(p)
					return types.String(text), err
				})
			})))},
	},
	{
		Name: "hl7Groups", Signature: `hl7Groups(message, "OBR") → list`,
		Text: "Cuts an HL7 v2 message into groups: each begins with a segment of that name and reaches to the next " +
			"one. hl7() reads a group like a message.",
		Examples: []Example{
			{
				Expression: `hl7Groups(body, "OBR").map(g, hl7(g, "OBX-5"))`,
				Format:     "hl7",
				Body:       "MSH|^~\\&|A\rOBR|1\rOBX|1||||5\rOBR|2\rOBX|1||||7",
				Value:      `["5","7"]`,
			},
		},
		options: []cel.EnvOption{
			cel.Function(
				"hl7Groups",
				cel.Overload("hl7_groups", []*cel.Type{cel.DynType, cel.StringType}, cel.ListType(cel.DynType),
					cel.BinaryBinding(func(n, name ref.Val) ref.Val {
						m, err := hl7Of(n)
						if err != nil {
							return types.NewErr("hl7Groups: %v", err)
						}
						return types.NewDynamicList(nodes, m.Groups(string(name.(types.String))))
					})),
			),
		},
	},
	{
		Name: "hl7Ack", Signature: `hl7Ack(message, "AA"[, text]) → string`,
		Text: "The acknowledgement of an HL7 v2 message: AA accepted, AE error, AR refused. Sender and receiver " +
			"change places, MSA-2 names the message; its own control id is made like uuid().",
		Examples: []Example{
			{
				Expression: `hl7Ack(body, "AE", "no bed").contains("MSA|AE|M1|no bed")`,
				Format:     "hl7",
				Body:       "MSH|^~\\&|A|B|C|D|2026||ADT^A01|M1|P|2.5.1",
				Value:      "true",
			},
		},
		options: []cel.EnvOption{
			cel.Macros(ackMacro(2), ackMacro(3)),
			cel.Function(
				ackName,
				cel.Overload(
					"hl7_ack",
					[]*cel.Type{
						cel.TimestampType,
						cel.StringType,
						cel.IntType,
						cel.DynType,
						cel.StringType,
						cel.StringType,
					},
					cel.StringType,
					cel.FunctionBinding(evalAck),
				),
			),
		},
	},
	{
		Name: "hl7Time", Signature: "hl7Time(string) → string",
		Text: "A time as HL7 v2 writes it (YYYY[MM[DD[HH[MM[SS[.S…]]]]]][+ZZZZ]) as ISO 8601, with the same " +
			"precision. A text that is no such time is an error.",
		Examples: []Example{
			{Expression: `hl7Time("20171023134421-0600")`, Value: `"2017-10-23T13:44:21-06:00"`},
			{Expression: `hl7Time("196506")`, Value: `"1965-06"`},
		},
		options: []cel.EnvOption{
			cel.Function(
				"hl7Time",
				cel.Overload(
					"hl7_time",
					[]*cel.Type{cel.StringType},
					cel.StringType,
					cel.UnaryBinding(func(v ref.Val) ref.Val {
						s, err := hl7.ISO(string(v.(types.String)))
						if err != nil {
							return types.NewErr("hl7Time: %v", err)
						}
						return types.String(s)
					}),
				),
			),
		},
	},
}

func hl7Of(v ref.Val) (*hl7.Message, error) {
	n, ok, err := toNode(v)
	if err != nil {
		return nil, err
	}
	if !ok {
		return nil, ErrMissing
	}
	if n.Kind != message.Map {
		return nil, fmt.Errorf("a %s is no HL7 message; give the body, or one of body.messages", n.Kind)
	}
	return hl7.From(n)
}

// atPlace reads a place of a message. The error of a place that is not there stays what it is,
// so that a map may go on without it.
func atPlace(function string, node, path ref.Val, read func(*hl7.Message, hl7.Path) (ref.Val, error)) ref.Val {
	p, err := hl7.ParsePath(string(path.(types.String)))
	if err != nil {
		return types.NewErr("%s: %v", function, err)
	}
	m, err := hl7Of(node)
	if err != nil {
		return types.NewErr("%s: %v", function, err)
	}
	v, err := read(m, p)
	if err != nil {
		return types.WrapErr(err)
	}
	return v
}

func evalHL7(node, path ref.Val) ref.Val {
	return atPlace("hl7", node, path, func(m *hl7.Message, p hl7.Path) (ref.Val, error) {
		n, err := m.Get(p)
		if err != nil {
			return nil, err
		}
		return nodes.NativeToValue(n), nil
	})
}

func ackMacro(args int) cel.Macro {
	return cel.GlobalMacro(
		"hl7Ack",
		args,
		func(f cel.MacroExprFactory, _ ast.Expr, a []ast.Expr) (ast.Expr, *common.Error) {
			seed := f.NewIdent(seedName)
			text := f.NewLiteral(types.String(""))
			if len(a) == 3 {
				text = a[2]
			}
			return f.NewCall(
				ackName,
				f.NewIdent(nowName),
				seed,
				f.NewLiteral(types.Int(seed.ID())),
				a[0],
				a[1],
				text,
			), nil
		},
	)
}

func evalAck(a ...ref.Val) ref.Val {
	m, err := hl7Of(a[3])
	if err != nil {
		return types.NewErr("hl7Ack: %v", err)
	}
	id := strings.ReplaceAll(DerivedUUID(string(a[1].(types.String)), int64(a[2].(types.Int))), "-", "")[:20]
	now, _ := a[0].Value().(time.Time)
	ack, err := hl7.Ack(m, string(a[4].(types.String)), string(a[5].(types.String)), id, now)
	if err != nil {
		return types.NewErr("hl7Ack: %v", err)
	}
	raw, err := hl7.Encode(ack, nil)
	if err != nil {
		return types.NewErr("hl7Ack: %v", err)
	}
	return types.String(raw)
}

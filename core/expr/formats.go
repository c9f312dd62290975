package expr

import (
	"crypto/hmac"
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/hex"
	"fmt"
	"hash"
	"strings"
	"time"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"

	"readyferry/core/format/hl7"
	"readyferry/core/format/xml"
	"readyferry/core/message"
	"readyferry/core/xpath"
)

const ackName = "@hl7Ack"

// xpathSteps bounds one evaluation of an XPath, in nodes looked at.
const xpathSteps = 2_000_000

// formatFunctions look into documents of other formats than JSON.
var formatFunctions = []Function{
	{
		Name: "xpath", Signature: `xpath(node, "…"[, {"prefix": "namespace"}]) → any`,
		Text: "Evaluates an XPath 1.0 expression at an element or a whole document. A set of nodes gives the list of " +
			"its texts; other results are a number, a text or a boolean. Prefixes are those of the document unless " +
			"others are given.",
		Examples: []Example{
			{
				Expression: `xpath(body, "//line[@sku='b']/@qty")`,
				Format:     "xml",
				Body:       `<order><line sku="a" qty="2"/><line sku="b" qty="1"/></order>`,
				Value:      `["1"]`,
			},
			{
				Expression: `xpath(body, "count(/order/line)")`,
				Format:     "xml",
				Body:       `<order><line/><line/></order>`,
				Value:      "2.0",
			},
			{
				Expression: `xpath(body.order, "string(p:to)", {"p": "urn:x"})`,
				Format:     "xml",
				Body:       `<order xmlns:q="urn:x"><q:to>MARL</q:to></order>`,
				Value:      `"MARL"`,
			},
		},
		options: []cel.EnvOption{cel.Function(
			"xpath",
			cel.Overload(
				"xpath_node_string",
				[]*cel.Type{cel.DynType, cel.StringType},
				cel.DynType,
				cel.BinaryBinding(func(n, e ref.Val) ref.Val { return evalXPath(n, e, nil) }),
			),
			cel.Overload(
				"xpath_node_string_map",
				[]*cel.Type{cel.DynType, cel.StringType, cel.MapType(cel.StringType, cel.StringType)},
				cel.DynType,
				cel.FunctionBinding(func(a ...ref.Val) ref.Val { return evalXPath(a[0], a[1], a[2]) }),
			),
		)},
	},
	{
		Name: "text", Signature: "text(x) → string",
		Text: "The text of a value: of an element of XML with attributes what stands between its tags, of other scalars as " +
			"they are written, of null and of what has no text nothing.",
		Examples: []Example{
			{Expression: `text(body.order.id)`, Format: "xml", Body: `<order><id scheme="local">HR-20811</id></order>`,
				Value: `"HR-20811"`},
			{Expression: `text(12.50)`, Value: `"12.5"`},
			{Expression: `text(null)`, Value: `""`},
		},
		options: []cel.EnvOption{cel.Function("text", cel.Overload("text_any", []*cel.Type{cel.DynType}, cel.StringType,
			cel.UnaryBinding(func(v ref.Val) ref.Val {
				return onNode("text", v, func(n *message.Node) (*message.Node, error) {
					if n.Kind == message.Map {
						if n = n.Get("#text"); n == nil {
							return message.NewString(""), nil
						}
					}
					text, is := n.Scalar()
					if !is {
						return nil, fmt.Errorf("a %s has no text of its own", n.Kind)
					}
					return message.NewString(text), nil
				})
			})))},
	},
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
				p, err := hl7.ParsePath(string(path.(types.String)))
				if err != nil {
					return types.NewErr("hl7Raw: %v", err)
				}
				m, err := hl7Of(node)
				if err != nil {
					return types.NewErr("hl7Raw: %v", err)
				}
				text, err := m.Raw(p)
				if err != nil {
					return types.WrapErr(err)
				}
				return types.String(text)
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
	{
		Name: "hash", Signature: `hash(x, "sha256") → string`,
		Text: "The digest of a text or of bytes in hexadecimal: sha256, sha512, sha1 or md5. The last two are for " +
			"systems that ask for them; they are broken as protection.",
		Examples: []Example{
			{
				Expression: `hash("abc", "sha256")`,
				Value:      `"ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad"`,
			},
		},
		options: []cel.EnvOption{
			cel.Function(
				"hash",
				cel.Overload(
					"hash_any",
					[]*cel.Type{cel.DynType, cel.StringType},
					cel.StringType,
					cel.BinaryBinding(func(v, algorithm ref.Val) ref.Val {
						h, raw, err := digest(v, algorithm)
						if err != nil {
							return types.NewErr("hash: %v", err)
						}
						d := h()
						d.Write(raw)
						return types.String(hex.EncodeToString(d.Sum(nil)))
					}),
				),
			),
		},
	},
	{
		Name: "hmac", Signature: `hmac(x, key, "sha256") → string`,
		Text: "The keyed digest (RFC 2104) of a text or of bytes in hexadecimal, with the algorithms of hash.",
		Examples: []Example{
			{
				Expression: `hmac("what do ya want for nothing?", "Jefe", "sha256")`,
				Value:      `"5bdcc146bf60754e6a042426089575c75a003f089d2739839dec58b964ec3843"`,
			},
		},
		options: []cel.EnvOption{
			cel.Function(
				"hmac",
				cel.Overload(
					"hmac_any",
					[]*cel.Type{cel.DynType, cel.DynType, cel.StringType},
					cel.StringType,
					cel.FunctionBinding(func(a ...ref.Val) ref.Val {
						h, raw, err := digest(a[0], a[2])
						key, keyErr := rawOf(a[1])
						if err == nil {
							err = keyErr
						}
						if err != nil {
							return types.NewErr("hmac: %v", err)
						}
						d := hmac.New(h, key)
						d.Write(raw)
						return types.String(hex.EncodeToString(d.Sum(nil)))
					}),
				),
			),
		},
	},
}

func rawOf(v ref.Val) ([]byte, error) {
	switch x := v.(type) {
	case types.String:
		return []byte(x), nil
	case types.Bytes:
		return x, nil
	}
	return nil, fmt.Errorf("a text or bytes are expected, not a %s", v.Type().TypeName())
}

func digest(v, algorithm ref.Val) (func() hash.Hash, []byte, error) {
	raw, err := rawOf(v)
	if err != nil {
		return nil, nil, err
	}
	switch name := string(algorithm.(types.String)); name {
	case "sha256":
		return sha256.New, raw, nil
	case "sha512":
		return sha512.New, raw, nil
	case "sha1":
		return sha1.New, raw, nil
	case "md5":
		return md5.New, raw, nil
	default:
		return nil, nil, fmt.Errorf("%q is no algorithm; there are sha256, sha512, sha1 and md5", name)
	}
}

// xmlOf gives the place in a document that a value stands for. A computed value
// becomes a document of its own, by the rules of writing XML.
func xmlOf(v ref.Val) (*xml.Node, error) {
	n, ok, err := toNode(v)
	if err != nil {
		return nil, err
	}
	if !ok {
		return nil, ErrMissing
	}
	if x := xml.Of(n); x != nil {
		return x, nil
	}
	if n.Kind != message.Map {
		return nil, fmt.Errorf(
			"a %s is no element; give the body, or an element with attributes or elements in it",
			n.Kind,
		)
	}
	raw, err := xml.Encode(n, "")
	if err != nil {
		return nil, err
	}
	return xml.Parse(raw, xml.Limits{})
}

func evalXPath(node, source, namespaces ref.Val) ref.Val {
	e, err := xpath.Compile(string(source.(types.String)))
	if err != nil {
		return types.NewErr("xpath: %v", err)
	}
	at, err := xmlOf(node)
	if err != nil {
		return types.NewErr("xpath: %v", err)
	}
	o := xpath.Options{MaxSteps: xpathSteps}
	if m, ok := namespaces.(traits.Mapper); ok {
		o.Namespaces = map[string]string{}
		for it := m.Iterator(); it.HasNext() == types.True; {
			prefix := it.Next()
			o.Namespaces[fmt.Sprint(prefix.Value())] = fmt.Sprint(m.Get(prefix).Value())
		}
	}
	v, err := e.Eval(at, o)
	if err != nil {
		return types.NewErr("xpath: %v", err)
	}
	switch x := v.(type) {
	case bool:
		return types.Bool(x)
	case float64:
		return types.Double(x)
	case string:
		return types.String(x)
	}
	list := []ref.Val{}
	for _, n := range v.([]*xml.Node) {
		list = append(list, types.String(xpath.StringValue(n)))
	}
	return types.NewRefValList(types.DefaultTypeAdapter, list)
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

func evalHL7(node, path ref.Val) ref.Val {
	p, err := hl7.ParsePath(string(path.(types.String)))
	if err != nil {
		return types.NewErr("hl7: %v", err)
	}
	m, err := hl7Of(node)
	if err != nil {
		return types.NewErr("hl7: %v", err)
	}
	n, err := m.Get(p)
	if err != nil {
		return types.WrapErr(err)
	}
	return nodes.NativeToValue(n)
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

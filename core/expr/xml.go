package expr

import (
	"fmt"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"

	"readyferry/core/format/xml"
	"readyferry/core/message"
	"readyferry/core/xpath"
)

// xpathSteps bounds one evaluation of an XPath, in nodes looked at.
const xpathSteps = 2_000_000

// xmlFunctions look into documents of XML.
var xmlFunctions = []Function{
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

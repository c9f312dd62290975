package expr

import (
	"strings"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"

	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
	"readyferry/core/pointer"
)

// pointerFunctions address and change documents by the RFCs of JSON.
var pointerFunctions = []Function{
	{
		Name: "jsonPointer", Signature: `jsonPointer(x, "/a/0") → any`,
		Text: "The value at a JSON Pointer (RFC 6901), also in its form for the end of a URI, as in #/c%25d. One that leads nowhere is an error.",
		Examples: []Example{
			{Expression: `jsonPointer(body, "/m~0n/1")`, Body: `{"m~n": [1, 2]}`, Value: "2"},
			{Expression: `jsonPointer(body, "#/c%25d")`, Body: `{"c%d": 3}`, Value: "3"},
		},
		options: []cel.EnvOption{
			cel.Function(
				"jsonPointer",
				cel.Overload("json_pointer", []*cel.Type{cel.DynType, cel.StringType}, cel.DynType,
					cel.BinaryBinding(func(v, ptr ref.Val) ref.Val {
						return onNode("jsonPointer", v, func(n *message.Node) (*message.Node, error) {
							text, parse := string(ptr.(types.String)), pointer.Parse
							if strings.HasPrefix(text, "#") {
								parse = pointer.ParseFragment
							}
							p, err := parse(text)
							if err != nil {
								return nil, err
							}
							return p.Get(n)
						})
					})),
			),
		},
	},
	{
		Name: "jsonPatch", Signature: "jsonPatch(x, operations) → any",
		Text: "A document with a JSON Patch (RFC 6902) applied: all of its operations, or an error that names the first that cannot be.",
		Examples: []Example{
			{
				Expression: `jsonPatch(body, [{"op": "replace", "path": "/a", "value": 2}, {"op": "remove", "path": "/b"}])`,
				Body:       `{"a": 1, "b": 0, "c": 3}`,
				Value:      `{"a":2,"c":3}`,
			},
		},
		options: []cel.EnvOption{
			cel.Function("jsonPatch", cel.Overload("json_patch", []*cel.Type{cel.DynType, cel.DynType}, cel.DynType,
				cel.BinaryBinding(func(v, patch ref.Val) ref.Val {
					return onNode("jsonPatch", v, func(n *message.Node) (*message.Node, error) {
						operations, _, err := toNode(patch)
						if err != nil || operations == nil {
							return nil, err
						}
						p, err := pointer.ParsePatch(jsonfmt.Encode(operations))
						if err != nil {
							return nil, err
						}
						return p.Apply(n)
					})
				}))),
		},
	},
	{
		Name: "mergePatch", Signature: "mergePatch(x, patch) → any",
		Text: "A document with a JSON Merge Patch (RFC 7396) applied: members of the patch replace those of the " +
			"document, null takes them away, maps are merged.",
		Examples: []Example{
			{
				Expression: `mergePatch(body, {"a": null, "b": {"c": 2}})`,
				Body:       `{"a": 1, "b": {"c": 1, "d": 4}}`,
				Value:      `{"b":{"c":2,"d":4}}`,
			},
		},
		options: []cel.EnvOption{
			cel.Function("mergePatch", cel.Overload("merge_patch", []*cel.Type{cel.DynType, cel.DynType}, cel.DynType,
				cel.BinaryBinding(func(v, patch ref.Val) ref.Val {
					return onNode("mergePatch", v, func(n *message.Node) (*message.Node, error) {
						p, _, err := toNode(patch)
						if err != nil || p == nil {
							return nil, err
						}
						return pointer.Merge(n, p), nil
					})
				}))),
		},
	},
}

// onNode lets a function work on a document's node.
func onNode(name string, v ref.Val, f func(*message.Node) (*message.Node, error)) ref.Val {
	n, ok, err := toNode(v)
	if err == nil && !ok {
		err = ErrMissing
	}
	if err == nil {
		n, err = f(n)
	}
	if err != nil {
		return types.NewErr("%s: %v", name, err)
	}
	if n == nil {
		return types.NewErr("%s: there is no patch", name)
	}
	return nodes.NativeToValue(n)
}

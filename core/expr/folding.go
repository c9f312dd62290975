package expr

import (
	"bytes"
	"compress/gzip"
	"errors"
	"fmt"
	"io"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
)

// foldingFunctions make contents smaller, and what they were again.
var foldingFunctions = []Function{
	{
		Name: "gzip", Signature: `gzip(x) → bytes`,
		Text: "A text or bytes folded by gzip (RFC 1952). It holds no name and no time: the same content is the same bytes.",
		Examples: []Example{
			{Expression: `string(gunzip(gzip("to Marlow Road")))`, Value: `"to Marlow Road"`},
		},
		options: []cel.EnvOption{
			cel.Function(
				"gzip",
				cel.Overload("gzip_any", []*cel.Type{cel.DynType}, cel.BytesType, cel.UnaryBinding(fold)),
			),
		},
	},
	{
		Name: "gunzip", Signature: `gunzip(bytes) → bytes`,
		Text: "What gzip has folded, as bytes; string() makes a text of them. What is no gzip, or unfolds to more than " +
			"an expression may build, is an error.",
		Examples: []Example{
			{
				Expression: `string(gunzip(base64.decode("H4sIAAAAAAAA/8tIzcnJBwCGphA2BQAAAA==")))`,
				Value:      `"hello"`,
			},
		},
		options: []cel.EnvOption{
			cel.Function(
				"gunzip",
				cel.Overload("gunzip_any", []*cel.Type{cel.DynType}, cel.BytesType, cel.UnaryBinding(unfold)),
			),
		},
	},
}

func fold(v ref.Val) ref.Val {
	raw, err := rawOf(v)
	if err != nil {
		return types.NewErr("gzip: %v", err)
	}
	var out bytes.Buffer
	w := gzip.NewWriter(&out)
	_, err = w.Write(raw)
	if err = errors.Join(err, w.Close()); err != nil {
		return types.NewErr("gzip: %v", err)
	}
	return types.Bytes(out.Bytes())
}

func unfold(v ref.Val) ref.Val {
	raw, err := rawOf(v)
	if err != nil {
		return types.NewErr("gunzip: %v", err)
	}
	r, err := gzip.NewReader(bytes.NewReader(raw))
	var out []byte
	if err == nil {
		out, err = io.ReadAll(io.LimitReader(r, EvalMemory+1))
	}
	switch {
	case err != nil:
		err = fmt.Errorf("it is no gzip: %w", err)
	case len(out) > EvalMemory:
		err = fmt.Errorf("it unfolds to more than %d MiB", EvalMemory>>20)
	}
	if err != nil {
		return types.NewErr("gunzip: %v", err)
	}
	return types.Bytes(out)
}

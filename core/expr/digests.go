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

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
)

// digestFunctions tell whether a content is what it was, and whose it is.
var digestFunctions = []Function{
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

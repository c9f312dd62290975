package expr

import (
	"strings"
	"testing"

	"cel.dev/cel-go/common/types"

	"readyferry/core/message"
)

// What is no gzip is told, and what unfolds to too much is not unfolded.
func TestGunzipHasABound(t *testing.T) {
	env, err := New()
	if err != nil {
		t.Fatal(err)
	}
	for body, want := range map[string]string{
		"no gzip": "it is no gzip",
		string(fold(types.String(strings.Repeat("\x00", EvalMemory+1))).(types.Bytes)): "unfolds to more than",
		string(fold(types.String("ab")).(types.Bytes))[:20]:                            "it is no gzip",
	} {
		p, err := env.Compile("gunzip(body)")
		if err != nil {
			t.Fatal(err)
		}
		if _, err := p.Eval(&Scope{Body: message.NewBytes([]byte(body))}); err == nil ||
			!strings.Contains(err.Error(), want) {
			t.Errorf("%.20q: %v, want %s", body, err, want)
		}
	}
}

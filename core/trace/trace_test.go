package trace

import (
	"encoding/hex"
	"encoding/json"
	"os"
	"testing"
)

// The cases are the propagation tests of go.opentelemetry.io/otel v1.47.0 (testdata/LICENSE), and
// the examples of W3C Trace Context. Where they are marked as disputed, other readers differ.
func TestRead(t *testing.T) {
	text, err := os.ReadFile("testdata/cases.json")
	if err != nil {
		t.Fatal(err)
	}
	var all struct {
		Cases []struct {
			Name     string
			Headers  map[string]string
			Valid    bool
			Disputed bool
			TraceID  string `json:"trace_id"`
			ParentID string `json:"parent_id"`
		}
	}
	if err := json.Unmarshal(text, &all); err != nil {
		t.Fatal(err)
	}
	n := 0
	for _, c := range all.Cases {
		if c.Disputed {
			continue
		}
		n++
		id, span, ok := Read(c.Headers["traceparent"])
		if ok != c.Valid {
			t.Errorf("%s: %q is read: %v, not %v", c.Name, c.Headers["traceparent"], ok, c.Valid)
		}
		if ok && c.TraceID != "" && (hex.EncodeToString(id[:]) != c.TraceID || hex.EncodeToString(span[:]) != c.ParentID) {
			t.Errorf("%s: %x %x", c.Name, id, span)
		}
		if ok {
			if again, other, ok := Read(Write(id, span)); !ok || again != id || other != span {
				t.Errorf("%s is not read again as it is written", c.Name)
			}
		}
	}
	if n < 15 {
		t.Fatalf("only %d cases", n)
	}
}

package expr

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"math"
	"os"
	"sort"
	"strconv"
	"strings"
	"testing"

	jsonfmt "readyferry/core/format/json"
)

type celCase struct {
	GoPasses string `json:"cel_go_v0_33_2"`
	Expr     string
	File, ID string
	NeedsPB  bool `json:"needs_protobuf_types"`
	Test     map[string]json.RawMessage
}

// Suite files about protocol buffers and about extensions that flows do not have.
var foreign = map[string]bool{
	"proto2": true, "proto3": true, "proto2_ext": true, "enums": true, "block_ext": true, "wrappers": true,
	"dynamic": true,
}

// Source: the conformance tests of the CEL specification (cel.dev/expr,
// testdata/cel-conformance.json, see SOURCE.md there): those that CEL's Go
// module passes, that need no protocol buffers, and no variables of their own.
func TestConformance(t *testing.T) {
	b, err := os.ReadFile("testdata/cel-conformance.json")
	if err != nil {
		t.Fatal(err)
	}
	var f struct{ Cases []celCase }
	if err := json.Unmarshal(b, &f); err != nil {
		t.Fatal(err)
	}
	e := env(t)
	ran := 0
	for _, c := range f.Cases {
		if c.GoPasses != "pass" || c.NeedsPB || foreign[c.File] {
			continue
		}
		own := false
		for _, part := range []string{"bindings", "typeEnv", "container", "disableMacros", "checkOnly", "typedResult",
			"unknown", "anyEvalErrors"} {
			_, has := c.Test[part]
			own = own || has
		}
		if own {
			continue
		}
		ran++
		_, unchecked := c.Test["disableCheck"]
		got, err := evalJSON(e, c.Expr, unchecked)
		if _, wantsError := c.Test["evalError"]; wantsError {
			if err == nil {
				t.Errorf("%s: %s gives %s, want an error", c.ID, c.Expr, got)
			}
			continue
		}
		want := "true"
		if v, has := c.Test["value"]; has {
			if want, err = expected(v); err != nil {
				t.Errorf("%s: %v", c.ID, err)
				continue
			}
		}
		if got == "-0.0" && want == "0.0" {
			continue // the suite compares by value, and IEEE 754 has them equal
		}
		if err != nil || got != want {
			t.Errorf("%s: %s gives %s %v, want %s", c.ID, c.Expr, got, err, want)
		}
	}
	t.Logf("%d cases ran", ran)
	if ran < 250 {
		t.Errorf("only %d cases ran", ran)
	}
}

func evalJSON(e *Env, source string, unchecked bool) (string, error) {
	compile := e.Compile
	if unchecked {
		compile = e.CompileUnchecked
	}
	p, err := compile(source)
	if err != nil {
		return "", err
	}
	return p.EvalJSON(&Scope{})
}

// expected writes a value of the suite as EvalJSON would.
func expected(raw json.RawMessage) (string, error) {
	var v map[string]json.RawMessage
	if err := json.Unmarshal(raw, &v); err != nil {
		return "", err
	}
	for kind, value := range v {
		text := strings.Trim(string(value), `"`)
		switch kind {
		case "nullValue":
			return "null", nil
		case "boolValue":
			return text, nil
		case "int64Value", "uint64Value":
			return text, nil
		case "doubleValue":
			if text == "NaN" || text == "Infinity" || text == "-Infinity" {
				return strconv.Quote(text), nil
			}
			d, err := strconv.ParseFloat(text, 64)
			if err != nil {
				return "", err
			}
			s := FormatDouble(d)
			if !strings.ContainsAny(s, ".e") || math.IsInf(d, 0) {
				s += ".0"
			}
			return s, nil
		case "stringValue":
			var s string
			err := json.Unmarshal(value, &s)
			b := string(jsonString(s))
			return b, err
		case "bytesValue":
			raw, err := base64.StdEncoding.DecodeString(text)
			return strconv.Quote(base64.StdEncoding.EncodeToString(raw)), err
		case "typeValue":
			return strconv.Quote(text), nil
		case "listValue":
			var l struct{ Values []json.RawMessage }
			if err := json.Unmarshal(value, &l); err != nil {
				return "", err
			}
			parts := make([]string, len(l.Values))
			for i, item := range l.Values {
				s, err := expected(item)
				if err != nil {
					return "", err
				}
				parts[i] = s
			}
			return "[" + strings.Join(parts, ",") + "]", nil
		case "mapValue":
			var m struct {
				Entries []struct{ Key, Value json.RawMessage }
			}
			if err := json.Unmarshal(value, &m); err != nil {
				return "", err
			}
			parts := make([]string, len(m.Entries))
			for i, entry := range m.Entries {
				k, err := expected(entry.Key)
				if err != nil {
					return "", err
				}
				if !strings.HasPrefix(k, `"`) {
					k = strconv.Quote(k)
				}
				s, err := expected(entry.Value)
				if err != nil {
					return "", err
				}
				parts[i] = k + ":" + s
			}
			sort.Strings(parts)
			return "{" + strings.Join(parts, ",") + "}", nil
		case "objectValue":
			var o map[string]any
			if err := json.Unmarshal(value, &o); err != nil {
				return "", err
			}
			if s, ok := o["value"].(string); ok { // a timestamp or duration
				return strconv.Quote(s), nil
			}
		}
	}
	return "", fmt.Errorf("the value %s is not understood", raw)
}

func jsonString(s string) []byte { return jsonfmt.AppendString(nil, s) }

package schema

import (
	"encoding/json"
	"os"
	"strings"
	"testing"

	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
)

func tree(t *testing.T, src []byte) *message.Node {
	t.Helper()
	r, err := jsonfmt.Decode(src)
	if err != nil {
		t.Fatalf("%s: %v", src, err)
	}
	return r.Root
}

// Source: the official JSON Schema test suite, draft 2020-12, required part
// (testdata/draft2020-12.json, see SOURCE.md there). Cases that need a remote
// schema are left out: this product never fetches one.
func TestOfficialSuite(t *testing.T) {
	b, err := os.ReadFile("testdata/draft2020-12.json")
	if err != nil {
		t.Fatal(err)
	}
	var f struct {
		Cases []struct {
			ID, Group, Description string
			Schema, Data           json.RawMessage
			Valid                  bool
		}
	}
	if err := json.Unmarshal(b, &f); err != nil {
		t.Fatal(err)
	}
	ran, remote := 0, 0
	for _, c := range f.Cases {
		if strings.Contains(string(c.Schema), "http://localhost:1234") || strings.Contains(c.ID, "vocabulary") {
			remote++
			continue
		}
		// Formats are asserted here, which the suite's required part leaves open.
		if strings.HasPrefix(c.ID, "format/") {
			continue
		}
		s, err := Compile(tree(t, c.Schema), nil)
		if err != nil {
			t.Errorf("%s (%s): %v", c.ID, c.Group, err)
			continue
		}
		failures, err := s.Validate(tree(t, c.Data))
		if err != nil || (len(failures) == 0) != c.Valid {
			t.Errorf("%s (%s, %s): %v %v, want valid %v", c.ID, c.Group, c.Description, failures, err, c.Valid)
		}
		ran++
	}
	t.Logf("%d cases ran, %d need a remote schema", ran, remote)
	if ran < 250 {
		t.Errorf("only %d of %d cases ran", ran, len(f.Cases))
	}
}

func TestFailuresNameEveryPlace(t *testing.T) {
	s, err := Compile(tree(t, []byte(`{
		"type": "object", "required": ["a", "b"], "additionalProperties": false,
		"properties": {"a": {"type": "integer", "minimum": 3}, "b": {"enum": ["x", "y"]}, "c": {"format": "date"},
			"list": {"items": {"type": "string"}}, "one": {"oneOf": [{"type": "string"}, {"type": "integer"}]}}}`)), nil)
	if err != nil {
		t.Fatal(err)
	}
	for doc, want := range map[string][]string{
		`{"a": 3, "b": "x"}`:                      nil,
		`{}`:                                      {"/a is required", "/b is required"},
		`{"a": 1, "b": "z", "q": 1}`:              {"/a minimum", "/b value must be one of", "/q is not expected here"},
		`{"a": 3, "b": "x", "c": "yesterday"}`:    {"/c 'yesterday' is not valid date"},
		`{"a": 3, "b": "x", "list": ["k", 1, 2]}`: {"/list/1 got number, want string", "/list/2 got number, want string"},
		`{"a": 3, "b": "x", "one": true}`:         {"/one fits none of the alternatives: got boolean, want string; or got boolean, want integer"},
		`[]`:                                      {" got array, want object"},
		`{"a": 1e999999, "b": "x"}`:               {"error: the number 1e999999… is too large to validate"},
		`{"a": 12345678901234567890123456789, "b":"x"}`: nil,
	} {
		failures, err := s.Validate(tree(t, []byte(doc)))
		var got []string
		for _, f := range failures {
			got = append(got, f.Pointer+" "+f.Reason)
		}
		if err != nil {
			got = append(got, "error: "+err.Error())
		}
		ok := len(got) == len(want)
		for i := range want {
			ok = ok && strings.HasPrefix(got[i], want[i])
		}
		if !ok {
			t.Errorf("%s:\n got %q\nwant %q", doc, got, want)
		}
	}
}

func TestNothingIsFetched(t *testing.T) {
	for src, want := range map[string]string{
		`{"$ref": "https://example.invalid/s.json"}`: "nothing is fetched",
		`{"$ref": "file:///etc/passwd"}`:             "nothing is fetched",
		`{"$ref": "../../etc/passwd"}`:               `the flow has no file`,
		`{"$ref": "bad.json"}`:                       `file "bad.json": JSON, line 1, column 2`,
		`{"type": "strng"}`:                          `it is no valid JSON Schema`,
		`{"pattern": "("}`:                           "",
	} {
		_, err := Compile(tree(t, []byte(src)), map[string][]byte{"bad.json": []byte("{")})
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", src, err, want)
		}
	}
}

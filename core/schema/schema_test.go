package schema

import (
	"encoding/json"
	"io/fs"
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

// Source: the official JSON Schema test suite, drafts 2020-12 and 7, required
// part, and the extra tests of a published validator (see testdata/SOURCE.md).
// Remote schemas of the suite stand in as files of the flow: nothing is fetched.
func TestOfficialSuites(t *testing.T) {
	files := map[string][]byte{}
	if err := fs.WalkDir(os.DirFS("testdata"), "remotes", func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		files[name], err = os.ReadFile("testdata/" + name)
		return err
	}); err != nil {
		t.Fatal(err)
	}
	for _, suite := range []struct {
		file, dialect string
		least         int
	}{{"draft2020-12", "", 250}, {"draft7", "http://json-schema.org/draft-07/schema#", 150}, {"extra-2020-12", "", 5}} {
		b, err := os.ReadFile("testdata/" + suite.file + ".json")
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
		ran := 0
		for _, c := range f.Cases {
			// Formats are asserted here, which the suite's required part leaves open.
			if strings.HasPrefix(c.ID, "format/") {
				continue
			}
			root := tree(t, c.Schema)
			if suite.dialect != "" && root.Kind == message.Map && root.Get("$schema") == nil {
				root = root.With("$schema", message.NewString(suite.dialect))
			}
			s, err := Compile(root, files)
			if err != nil {
				t.Errorf("%s %s (%s): %v", suite.file, c.ID, c.Group, err)
				continue
			}
			failures, err := s.Validate(tree(t, c.Data))
			if err != nil || (len(failures) == 0) != c.Valid {
				t.Errorf(
					"%s %s (%s, %s): %v %v, want valid %v",
					suite.file,
					c.ID,
					c.Group,
					c.Description,
					failures,
					err,
					c.Valid,
				)
			}
			ran++
		}
		t.Logf("%s: %d cases ran", suite.file, ran)
		if ran < suite.least {
			t.Errorf("%s: only %d of %d cases ran", suite.file, ran, len(f.Cases))
		}
	}
}

// References reach the flow's own files, by name and by the $id that they say.
func TestReferencesReachOwnFiles(t *testing.T) {
	files := map[string][]byte{
		"a.json":     []byte(`{"type":"integer"}`),
		"sub/b.json": []byte(`{"$id":"https://larkfield.invalid/b","$ref":"c.json"}`),
		"c.json":     []byte(`{"$id":"https://larkfield.invalid/c.json","type":"string"}`),
	}
	s, err := Compile(
		tree(t, []byte(`{"properties":{"a":{"$ref":"a.json"},"b":{"$ref":"https://larkfield.invalid/b"}}}`)),
		files,
	)
	if err != nil {
		t.Fatal(err)
	}
	if f, err := s.Validate(tree(t, []byte(`{"a":"x","b":1}`))); err != nil || len(f) != 2 {
		t.Errorf("%v %v", f, err)
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
		`{"a": 3, "b": "x", "c": "yesterday"}`:    {`/c "yesterday" is no valid date`},
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

package cloudevents

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"os"
	"strings"
	"testing"

	"readyferry/core/message"
)

// Source: events written by the CloudEvents SDK, and the HTTP binding and JSON format of
// CloudEvents 1.0, from memory; testdata/cases.json says which is which.
func TestPublishedEvents(t *testing.T) {
	raw, err := os.ReadFile("testdata/cases.json")
	if err != nil {
		t.Fatal(err)
	}
	var f struct {
		Cases []struct {
			Mode, Body, Note string
			Headers          map[string]string
			Attributes       map[string]any
			Valid            *bool
			Text             *string          `json:"data_utf8"`
			JSON             json.RawMessage  `json:"data_json"`
			Base64           *string          `json:"data_base64"`
			Events           []map[string]any `json:"events"`
			Distinct         int
		}
	}
	if err := json.Unmarshal(raw, &f); err != nil || len(f.Cases) == 0 {
		t.Fatal(err)
	}
	for i, c := range f.Cases {
		if c.Mode == "pair" {
			seen := map[string]bool{}
			for _, e := range c.Events {
				e["specversion"], e["type"] = "1.0", "t"
				body, _ := json.Marshal(e)
				out, err := Read([]message.Header{{Name: "Content-Type", Value: Structured}}, body)
				if err != nil {
					t.Fatal(err)
				}
				seen[out[0].Key] = true
			}
			if len(seen) != c.Distinct {
				t.Errorf("%d: %d events, want %d", i, len(seen), c.Distinct)
			}
			continue
		}
		var headers []message.Header
		for name, value := range c.Headers {
			headers = append(headers, message.Header{Name: name, Value: value})
		}
		out, err := Read(headers, []byte(c.Body))
		if c.Valid != nil && !*c.Valid {
			if err == nil {
				t.Errorf("%d, %s: it is taken", i, c.Note)
			}
			continue
		}
		if err != nil {
			t.Errorf("%d, %s: %v", i, c.Note, err)
			continue
		}
		if !Is(headers) || len(out) != 1 {
			t.Errorf("%d: it is not seen to be an event", i)
		}
		for name, want := range c.Attributes {
			named := "ce-" + name
			if name == "datacontenttype" {
				named = "content-type"
			}
			text, _ := json.Marshal(want)
			wanted := strings.Trim(string(text), `"`)
			if s, is := want.(string); is {
				wanted = s
			}
			if v := header(out[0].Headers, named); v != wanted {
				t.Errorf("%d: %s is %q, want %q", i, named, v, wanted)
			}
		}
		switch {
		case c.Text != nil && string(out[0].Body) != *c.Text:
			t.Errorf("%d: data %q, want %q", i, out[0].Body, *c.Text)
		case c.Base64 != nil:
			if want, _ := base64.StdEncoding.DecodeString(*c.Base64); !bytes.Equal(out[0].Body, want) {
				t.Errorf("%d: data %q", i, out[0].Body)
			}
		case c.JSON != nil:
			var a, b any
			_ = json.Unmarshal(out[0].Body, &a)
			_ = json.Unmarshal(c.JSON, &b)
			x, _ := json.Marshal(a)
			if y, _ := json.Marshal(b); !bytes.Equal(x, y) {
				t.Errorf("%d: data %s, want %s", i, x, y)
			}
		}
	}
}

func TestBatchesAndWhatIsNone(t *testing.T) {
	batch := []message.Header{{Name: "Content-Type", Value: Batch + "; charset=utf-8"}}
	out, err := Read(batch, []byte(`[{"specversion":"1.0","id":"1","source":"/s","type":"t","data":{"n":1}},
		{"specversion":"1.0","id":"2","source":"/s","type":"t","datacontenttype":"text/plain","data":"hi","count":3,"on":true,"gone":null}]`))
	if err != nil || len(out) != 2 || string(out[0].Body) != `{"n":1}` || string(out[1].Body) != "hi" ||
		header(out[1].Headers, "ce-count") != "3" || header(out[1].Headers, "ce-on") != "true" {
		t.Errorf("%+v %v", out, err)
	}
	for _, bad := range []string{`{}`, `[{}]`, `[1]`, `nothing`, `[{"specversion":"1.0","id":"1","source":"/s","type":"t","x":{}}]`,
		`[{"specversion":"1.0","id":"1","source":"/s","type":"t","data":1,"data_base64":"YQ=="}]`} {
		if _, err := Read(batch, []byte(bad)); err == nil {
			t.Errorf("%s is taken", bad)
		}
	}
	if Is([]message.Header{{Name: "Content-Type", Value: "application/json"}}) {
		t.Error("any JSON is an event")
	}
	e, err := Read([]message.Header{{Name: "Ce-Specversion", Value: "1.0"}, {Name: "ce-id", Value: "1"}, {Name: "ce-source", Value: "/s"},
		{Name: "ce-type", Value: "t"}, {Name: "x-other", Value: "kept"}, {Name: "Content-Type", Value: "text/plain"}}, []byte("x"))
	if err != nil || header(e[0].Headers, "x-other") != "kept" || header(e[0].Headers, "content-type") != "text/plain" {
		t.Errorf("%+v %v", e, err)
	}
}

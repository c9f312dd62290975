package api

import (
	"encoding/json"
	"testing"
)

// The browser draws forms from what is told here, so each setting has a name for
// people, and a secret says that it is one.
func TestSystemsTellWhatMayBeSaidToThem(t *testing.T) {
	w := start(t)
	type schema struct {
		Properties map[string]struct {
			Title, Format string
			Properties    map[string]struct{ Title, Format string }
		}
	}
	var all []struct {
		Kind, Title, Sentence       string
		Connection, Deliver, Intake *schema
	}
	if err := json.Unmarshal(w.ok("GET", "/api/v1/systems", ""), &all); err != nil {
		t.Fatal(err)
	}
	kinds := map[string]int{}
	for i, s := range all {
		kinds[s.Kind] = i + 1
		for _, part := range []*schema{s.Connection, s.Deliver, s.Intake} {
			if part == nil {
				continue
			}
			for name, p := range part.Properties {
				if name != "readyferry" && name != "kind" && p.Title == "" && len(p.Properties) == 0 {
					t.Errorf("%s: %s has no title", s.Kind, name)
				}
			}
		}
	}
	if kinds["http"] == 0 || kinds["sql"] == 0 || kinds["caller"] == 0 {
		t.Fatalf("the systems are %v", kinds)
	}
	http := all[kinds["http"]-1]
	if http.Deliver == nil || http.Deliver.Properties["path"].Format != "template" {
		t.Errorf("the path of a delivery over HTTP is no template: %+v", http.Deliver)
	}
	if f := http.Connection.Properties["sign-in"].Properties["secret"].Format; f != "secret" {
		t.Errorf("the secret of HTTP is of the format %q", f)
	}
	if caller := all[kinds["caller"]-1]; caller.Deliver != nil || caller.Intake != nil {
		t.Error("nothing is delivered to a caller or received from one")
	}
}

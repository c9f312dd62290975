package mqtt

import (
	"encoding/json"
	"os"
	"regexp"
	"strings"
	"testing"
	"unicode/utf8"

	"readyferry/core/system"
)

var pattern = regexp.MustCompile(system.Property(New(nil).Intake, "filter").Get("pattern").Text)

// The cases are of MQTT 5.0 (OASIS), 4.7 and 4.8.2, in part from memory, and checked with
// an independent matcher; testdata/topics.json names the section of each.
func TestTopicsMatchAsTheStandardSays(t *testing.T) {
	b, err := os.ReadFile("testdata/topics.json")
	if err != nil {
		t.Fatal(err)
	}
	var all struct {
		Cases []struct {
			Filter, Topic, Section string
			Match, Valid           *bool
			Repeat                 *struct {
				Text  string
				Count int
			} `json:"filter_repeat"`
		}
	}
	if err := json.Unmarshal(b, &all); err != nil || len(all.Cases) < 20 {
		t.Fatal(err, len(all.Cases))
	}
	for _, c := range all.Cases {
		if c.Match != nil && matches(c.Filter, c.Topic) != *c.Match {
			t.Errorf("%s, %s: not %t (%s)", c.Filter, c.Topic, *c.Match, c.Section)
		}
		if c.Repeat != nil {
			c.Filter = strings.Repeat(c.Repeat.Text, c.Repeat.Count)
		}
		if err := checkFilter(c.Filter); c.Valid != nil && (err == nil) != *c.Valid {
			t.Errorf("%.60q: %v (%s)", c.Filter, err, c.Section)
		}
	}
}

// MQTT 5.0, 4.7.1 to 4.7.3.
func TestWrongTopicsAndFiltersAreRefused(t *testing.T) {
	for filter, fits := range map[string]bool{
		"sport/tennis/#": true, "#": true, "+": true, "+/tennis/#": true, "/": true, "a//b": true, "$share/g/a/#": true, "a b": true,
		"": false, "sport/tennis#": false, "sport/#/ranking": false, "sport+": false, "$share/g": false, "$share//a": false,
		"$share/g+/a": false, "a\x00": false, "a\xff": false, strings.Repeat("a", 65_536): false,
	} {
		if err := checkFilter(filter); (err == nil) != fits {
			t.Errorf("%.40q: %v", filter, err)
		}
		// The schema of intakes says the same, where a text can.
		if ascii := utf8.ValidString(filter) && !strings.ContainsAny(filter, "$\x00") && filter != "" && len(filter) < 100; ascii &&
			pattern.MatchString(filter) != fits {
			t.Errorf("%.40q: the pattern of the schema says otherwise", filter)
		}
	}
	for topic, fits := range map[string]bool{"a/b": true, "/": true, "$SYS/x": true, "a/+": false, "#": false, "": false} {
		if err := checkTopic(topic); (err == nil) != fits {
			t.Errorf("%q: %v", topic, err)
		}
	}
}

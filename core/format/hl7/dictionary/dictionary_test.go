package dictionary

import (
	"slices"
	"strings"
	"testing"
)

// Source: HL7 v2.5.1, chapters 2, 3 and 7: PID, OBX, XPN, ORU^R01, tables 0001 and 0125, from memory.
func TestWhatTheStandardSays(t *testing.T) {
	v := Of("2.5.1")
	if p := v.Segment("PID").Part(5); p == nil || p.Name != "Patient Name" || p.Type != "XPN" || !p.Repeats ||
		!p.Required {
		t.Errorf("%+v", p)
	}
	if p := v.Segment("OBX").Part(2); p == nil || p.Table != 125 {
		t.Errorf("%+v", p)
	}
	if p := v.Type("XPN").Part(2); p == nil || p.Name != "Given Name" {
		t.Errorf("%+v", p)
	}
	if v.Segment("PID").Part(0) != nil || v.Segment("PID").Part(999) != nil || v.Segment("ZZZ").Part(1) != nil ||
		v.Type("ST") != nil {
		t.Error("what is not there has a name")
	}
	if c := Codes(1); c == nil || c.Values["F"] != "Female" {
		t.Errorf("%+v", c)
	}
	if Codes(99999) != nil {
		t.Error("a table that is none")
	}
}

func TestOrderOfSegments(t *testing.T) {
	v := Of("2.5.1")
	m := v.Message("ORU", "R01", "ORU_R01")
	order := strings.Join(m.Segments, " ")
	for _, before := range [][2]string{{"MSH", "PID"}, {"PID", "NK1"}, {"NK1", "PV1"}, {"PV1", "PV2"}, {"PV2", "ORC"},
		{"ORC", "OBR"},
		{"OBR", "OBX"}, {"OBX", "SPM"}} {
		if slices.Index(m.Segments, before[0]) < 0 || slices.Index(m.Segments, before[0]) > slices.Index(m.Segments,
			before[1]) {
			t.Errorf("%s does not stand before %s in %s", before[0], before[1], order)
		}
	}
	if !slices.Contains(m.Once, "MSH") || slices.Contains(m.Once, "PID") || slices.Contains(m.Once, "NTE") {
		t.Errorf("what must stand once: %q", m.Once)
	}
	if !slices.Contains(m.Several, "NTE") || slices.Contains(m.Several, "OBR") {
		t.Errorf("what stands at several places: %q", m.Several)
	}
	if v.Message("ADT", "A01", "") == nil || v.Message("ADT", "A04", "ADT_A01") == nil || v.Message("XXX", "Y",
		"") != nil {
		t.Error("messages by type and event")
	}
}

func TestVersions(t *testing.T) {
	for asked, want := range map[string]string{"2.1": "2.1", "2.3": "2.3", "2.3.1": "2.3.1", "2.5.1": "2.5.1",
		"2.8":   "2.7.1",
		"2.8.2": "2.7.1", "2.4^DEU": "2.4", "": "2.5.1", "3": "2.5.1", "2": "2.1", "2.0": "2.1"} {
		if got := Of(asked).Name; got != want {
			t.Errorf("%q is read by %s, want %s", asked, got, want)
		}
	}
	for _, v := range load().versions {
		for _, name := range append(v.Segments(), v.Messages()...) {
			if s := v.Segment(name); s != nil && s.Name == "" {
				t.Errorf("%s: %s has no name", v.Name, name)
			}
		}
		if len(v.Segments()) < 30 || len(v.Messages()) < 30 {
			t.Errorf("%s has %d segments and %d messages", v.Name, len(v.Segments()), len(v.Messages()))
		}
	}
}

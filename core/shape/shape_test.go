package shape

import (
	"fmt"
	"strings"
	"testing"

	"readyferry/core/format/hl7"
	"readyferry/core/format/hl7/dictionary"

	"readyferry/core/format"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
)

// told writes lines as a person would read them: a list has its own in brackets.
func told(lines []Line) string {
	var out []string
	for _, l := range lines {
		s := l.To
		if s == "" {
			s = l.Name
		}
		if s == "" {
			s = "."
		}
		if l.Required {
			s += "!"
		}
		if l.List {
			s += "[" + told(l.Lines) + "]"
		}
		out = append(out, s)
	}
	return strings.Join(out, " ")
}

func tree(t *testing.T, name, src string, l message.Layout) *message.Node {
	t.Helper()
	d, err := format.Decode(name, []byte(src), l, format.Limits{})
	if err != nil {
		t.Fatal(err)
	}
	return d.Root
}

func TestExamples(t *testing.T) {
	for _, c := range []struct {
		format, src, want string
		layout            message.Layout
	}{
		{"json", `{"card":"1","home":{"branch":"M"},"lines":[{"sku":1,"tags":["a"]}],"a/b~c":null}`,
			"/card /home/branch /lines[/sku /tags[.]] /a~1b~0c", message.Layout{}},
		{"xml", `<o xmlns="urn:x" k="1"><l u="p"><s>1</s></l><l/><t>x</t><p c="EUR">1</p></o>`,
			"/o/@k /o/l[/@u /s] /o/t /o/p/@c /o/p", message.Layout{}},
		{"csv", "a,b\n1,2\n", "rows[a b]", message.Layout{Header: true}},
		{"csv", "1,2\n", "rows[1 2]", message.Layout{}},
		{"form", "a=1&b=2&b=3", "a b[.]", message.Layout{}},
		{"hl7", "MSH|^~\\&|A||||2026||ORU^R01|1|P|2.5.1\rPID|1||7^^^N||Jones^Ann\rOBX|1|NM|x||5\rOBX|2",
			"MSH-3 MSH-7! MSH-9.1! MSH-9.2 MSH-10! MSH-11! MSH-12! PID-1 PID-3.1! PID-3.4 PID-5.1! PID-5.2 OBX[OBX-1 OBX-2 OBX-3! OBX-5]",
			message.Layout{}},
	} {
		got := told(FromExample(c.format, tree(t, c.format, c.src, c.layout)))
		if got != c.want {
			t.Errorf("%s: %s\n%s, want\n%s", c.format, c.src, got, c.want)
		}
	}
}

func TestSchemas(t *testing.T) {
	file := tree(
		t,
		"json",
		`{"$defs":{"line":{"type":"object","required":["sku"],"properties":{"sku":{"type":"string"},"n":{"type":"integer"}}}}}`,
		message.Layout{},
	)
	root := tree(t, "json", `{"type":"object","required":["card","home"],"properties":{
		"card":{"type":"string","title":"Card number"},
		"home":{"allOf":[{"properties":{"branch":{"enum":["MARL","QUAY"]}},"required":["branch"]},{"properties":{"shelf":{}}}]},
		"note":{"type":["null","string"]},
		"lines":{"type":"array","items":{"$ref":"line.json#/$defs/line"}},
		"self":{"$ref":"#"}}}`, message.Layout{})
	got := FromSchema(root, func(name string) *message.Node {
		if name == "line.json" {
			return file
		}
		return nil
	})
	if s := told(got); !strings.HasPrefix(s, "/card! /home/branch! /home/shelf /note /lines[/sku! /n] /self/card ") {
		t.Error(s)
	}
	if got[0].Title != "Card number" || fmt.Sprint(got[1].Values) != "[MARL QUAY]" || got[3].Type != "string" {
		t.Errorf("%+v", got[:4])
	}
	if len(FromSchema(root, nil)) == 0 {
		t.Error("a schema whose files are not there has no lines")
	}
	if n, err := jsonfmt.Decode([]byte(`true`)); err != nil || FromSchema(n.Root, nil) != nil {
		t.Error("a schema that says nothing has lines")
	}
}

// Source: HL7 v2.5.1, chapter 7, ORU^R01, from memory: PID stands once in a patient, which
// repeats; orders repeat, and observations within them.
func TestKindsOfHL7(t *testing.T) {
	lines, err := FromHL7("ORU^R01", "2.5.1")
	if err != nil {
		t.Fatal(err)
	}
	s := told(lines)
	for _, want := range []string{"MSH-9.1! MSH-9.2", "PID[PID-1 PID-2", "PID-5.1 PID-5.2", "OBX[OBX-1 OBX-2 OBX-3.1"} {
		if !strings.Contains(s, want) {
			t.Errorf("%q is not in it", want)
		}
	}
	if strings.Index(s, "PID-5.1") > strings.Index(s, "OBR-4.1") || strings.Index(s, "OBR-4.1") > strings.Index(s,
		"OBX-5") {
		t.Error("segments do not stand in their order")
	}
	for _, kind := range []string{"ORU_R01", "ADT^A04^ADT_A01", "ACK"} {
		if lines, err := FromHL7(kind, ""); err != nil || len(lines) == 0 {
			t.Errorf("%s: %v", kind, err)
		}
	}
	if _, err := FromHL7("XXX^Y", "2.4"); err == nil || !strings.Contains(err.Error(), "HL7 2.4 has no message") {
		t.Error(err)
	}
}

func TestAShapeHasAnEnd(t *testing.T) {
	var b strings.Builder
	b.WriteString(`{"a0":1`)
	for i := range 2 * most {
		fmt.Fprintf(&b, `,"a%d":1`, i+1)
	}
	if n := len(FromExample("json", tree(t, "json", b.String()+"}", message.Layout{}))); n == 0 || n > most {
		t.Errorf("%d lines", n)
	}
}

// Every message of every version that is made up is read again, is of its kind, and has what
// must stand in each of its segments.
func TestMadeUpHL7(t *testing.T) {
	n := 0
	for _, version := range []string{"2.3", "2.4", "2.5.1", "2.7"} {
		v := dictionary.Of(version)
		for _, structure := range v.Messages() {
			kind := strings.Replace(structure, "_", "^", 1)
			text, err := HL7Sample(kind, version)
			if err != nil {
				continue // the structure of several messages, and none by itself
			}
			n++
			m, err := hl7.Parse([]byte(text))
			if err != nil {
				t.Fatalf("%s %s: %v\n%s", version, kind, err, text)
			}
			if got := textAt(m, "MSH-9.1"); got != strings.Split(kind, "^")[0] {
				t.Errorf("%s is a %s", kind, got)
			}
			for _, s := range m.Segments {
				fields := s.Fields()
				for i := range v.Segment(s.Name).Parts {
					if v.Segment(s.Name).Parts[i].Required && s.Name != "MSH" && (i >= len(fields) || fields[i] == "") {
						t.Errorf("%s %s: %s-%d is empty", version, kind, s.Name, i+1)
					}
				}
			}
		}
	}
	if n < 50 {
		t.Errorf("only %d were made up", n)
	}
	if _, err := HL7Sample("XXX^Y", "2.4"); err == nil {
		t.Error("there is no such message")
	}
}

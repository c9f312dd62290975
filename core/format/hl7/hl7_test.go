package hl7

import (
	"encoding/json"
	"errors"
	"os"
	"strconv"
	"strings"
	"testing"
	"time"

	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
)

func suite(t *testing.T, name string, into any) {
	t.Helper()
	b, err := os.ReadFile("testdata/" + name + ".json")
	if err != nil {
		t.Fatal(err)
	}
	if err := json.Unmarshal(b, into); err != nil {
		t.Fatal(err)
	}
}

func decode(t testing.TB, src string) *message.Node {
	t.Helper()
	n, err := Decode([]byte(src), Limits{})
	if err != nil {
		t.Fatal(err)
	}
	return n
}

func get(t testing.TB, n *message.Node, path string) *message.Node {
	t.Helper()
	p, err := ParsePath(path)
	if err != nil {
		t.Fatal(err)
	}
	v, err := Of(n).Get(p)
	if err != nil {
		t.Fatalf("%s: %v", path, err)
	}
	return v
}

// Source: test messages of three published parsers, testdata/messages.json.
func TestEveryValueOfThePublishedMessages(t *testing.T) {
	var s struct {
		Cases []struct {
			Name, Raw string
			Segments  []struct {
				Segment string
				Fields  map[string]json.RawMessage
			}
		}
	}
	suite(t, "messages", &s)
	values := 0
	for _, c := range s.Cases {
		root, err := Decode([]byte(c.Raw), Limits{})
		if err != nil {
			t.Errorf("%s: %v", c.Name, err)
			continue
		}
		whole := &Message{Segments: flat(Of(root))}
		at := map[string]int{}
		for _, want := range c.Segments {
			at[want.Segment]++
			for field, raw := range want.Fields {
				n, _ := strconv.Atoi(field)
				var reps [][][]string
				if json.Unmarshal(raw, &reps) != nil {
					var plain string
					_ = json.Unmarshal(raw, &plain)
					if v, err := whole.Get(Path{Segment: want.Segment, Index: at[want.Segment], Field: n}); err != nil ||
						v.Text != plain {
						t.Errorf("%s: %s-%d is %v %v, want %q", c.Name, want.Segment, n, v, err, plain)
					}
					continue
				}
				for r, comps := range reps {
					for i, subs := range comps {
						for j, text := range subs {
							values++
							v, err := whole.Get(
								Path{
									Segment:      want.Segment,
									Index:        at[want.Segment],
									Field:        n,
									Repetition:   r + 1,
									Component:    i + 1,
									Subcomponent: j + 1,
								},
							)
							if err != nil || v.Text != text && !(v.Kind == message.Null && text == `""`) {
								t.Errorf(
									"%s: %s-%d[%d].%d.%d is %+v %v, want %q",
									c.Name,
									want.Segment,
									n,
									r+1,
									i+1,
									j+1,
									v,
									err,
									text,
								)
							}
						}
					}
				}
			}
		}
		// Untouched it leaves as it came, but for empty lines.
		out, err := Encode(root, nil)
		if err != nil ||
			strings.TrimSpace(string(out)) != strings.TrimSpace(c.Raw) && !strings.Contains(c.Raw, "\r\r") &&
				!strings.Contains(c.Raw, "\n\n") {
			t.Errorf("%s: %v\n%q\n%q", c.Name, err, out, c.Raw)
		}
		// Through JSON and back it says the same.
		viaJSON(t, c.Name, root)
	}
	if values < 100 {
		t.Errorf("only %d values were compared", values)
	}
}

func flat(m *Message) []*Segment {
	out := m.Segments
	for _, p := range m.Messages() {
		out = append(out, p.Segments...)
	}
	return out
}

func viaJSON(t *testing.T, name string, root *message.Node) {
	t.Helper()
	text := jsonfmt.Encode(root)
	r, err := jsonfmt.Decode(text)
	if err != nil {
		t.Fatal(err)
	}
	out, err := Encode(r.Root, nil)
	if err != nil {
		t.Errorf("%s: %v", name, err)
		return
	}
	again, err := Decode(out, Limits{})
	if err != nil || string(jsonfmt.Encode(again)) != string(text) {
		t.Errorf("%s: through JSON and back: %v\n%s\n%s", name, err, text, jsonfmt.Encode(again))
	}
}

// Source: HL7 v2.5.1 chapter 2.7 (from memory), testdata/escapes.json.
func TestEscapes(t *testing.T) {
	var s struct {
		Cases []struct{ Kind, ER7, Text string }
	}
	suite(t, "escapes", &s)
	s.Cases = append(s.Cases, []struct{ Kind, ER7, Text string }{
		{
			"decode",
			`\R\`,
			"~",
		}, {"decode", `a\X4D\b\X0D0A\`, "aMb\r\n"}, {"keep", `\XZZ\`, ""}, {"keep", `half \F`, ""}, {"keep", `\X\`, ""},
		{"keep", `\\`, ""},
		{"encode", `a\E\b`, `a\b`}, {"encode", `\F\\S\\T\\R\`, `|^&~`}, {"encode", `a\X0D\\X0A\b`, "a\r\nb"},
	}...)
	for _, c := range s.Cases {
		switch c.Kind {
		case "decode":
			if got := unescape(c.ER7, usual); got != c.Text {
				t.Errorf("%s: %q, want %q", c.ER7, got, c.Text)
			}
		case "encode":
			if c.ER7 == "" {
				continue
			}
			if got := Escape(c.Text); got != c.ER7 && c.Text != "a\rb" {
				t.Errorf("%q: %s, want %s", c.Text, got, c.ER7)
			}
		case "keep":
			if got := unescape(c.ER7, usual); got != c.ER7 {
				t.Errorf("%s became %q", c.ER7, got)
			}
		}
	}
}

const lab = "MSH|^~\\&|LAB|NORTH|WARD|SOUTH|20260317094107||ORU^R01^ORU_R01|M1|P|2.5.1\r" +
	"PID|1||4711^^^NORTH~0815||Jones^Ann&van||\"\"|F\r" +
	"OBR|1|||GLU\rOBX|1|NM|GLU^Glucose||5.4\rOBX|2|NM|NA^Sodium||140\r" +
	"OBR|2|||HB\rOBX|1|NM|HB^Haemoglobin||13\\T\\1\r"

func TestPaths(t *testing.T) {
	n := decode(t, lab)
	for path, want := range map[string]string{
		"MSH-1": "|", "MSH-2": `^~\&`, "MSH-9.2": "R01", "PID-3": `{"1":"4711","4":"NORTH"}`, "PID-3.1": "4711",
		"PID-3[2].1": "0815", "PID-3[2]": "0815",
		"PID-3[*].1": `["4711","0815"]`, "PID-5.2": `{"1":"Ann","2":"van"}`, "PID-5.2.2": "van", "PID-5.1.1": "Jones",
		"PID-7": "null", "PID-6": "", "PID-99": "", "PID-3[7].1": "",
		"OBX[2]-3.1": "NA", "OBX[*]-3.1": `["GLU","NA","HB"]`, "OBR[2]/OBX-5": "13&1", "OBR[1]/OBX[2]-5": "140",
		"OBR[2]/OBX[*]-3.1": `["HB"]`, "ZZZ[*]-1": "[]",
	} {
		v := get(t, n, path)
		got, ok := v.Scalar()
		if !ok || v.Kind == message.Null {
			got = string(jsonfmt.Encode(v))
		}
		if got != want {
			t.Errorf("%s: %s, want %s", path, got, want)
		}
	}
	if groups := Of(n).Groups("OBR"); len(groups) != 2 || get(t, groups[1], "OBX-3.1").Text != "HB" {
		t.Errorf("%d groups", len(groups))
	}
	p, _ := ParsePath("PV1-2")
	var absent *AbsentError
	if _, err := Of(n).Get(p); !errors.As(err, &absent) ||
		!strings.Contains(err.Error(), "PV1 is missing; the message has MSH, PID, OBR, OBX") {
		t.Error(err)
	}
	for _, bad := range []string{"", "pid-5", "PID5", "PID-0", "PID-5.0", "PID[0]-1", "PID-5.1.1.1", "PID-5[x]"} {
		if _, err := ParsePath(bad); err == nil {
			t.Errorf("%q is taken for a path", bad)
		}
	}
	if order := n.Get("#order"); order == nil || len(order.Items) != 7 {
		t.Errorf("the order of segments is not kept: %s", jsonfmt.Encode(n))
	}
}

func TestWriting(t *testing.T) {
	w := NewWriter(Of(decode(t, lab)), nil)
	text := message.NewString
	for _, c := range []struct {
		path string
		v    *message.Node
		raw  bool
	}{
		{"PID-5.1", text("O'Neil & Sons"), false}, {"PID-3[2].1", text("0816"), false}, {"PID-3[3].4.2", text("x"), false},
		{"PID-8", message.NewNull(), false},
		{"OBX[3]-5", message.NewNumber("13.10"), false}, {"OBR[1]/OBX[3]-3", message.NewMap(message.Member{Name: "1",
			Value: text("K")}, message.Member{Name: "2", Value: text("Potassium")}), false},
		{"NTE-3", text("a|b\nc"), false}, {"NTE[2]-3", text(`\.br\`), true}, {"PID-11", message.NewList(text("home"),
			text("work")), false},
	} {
		p, err := ParsePath(c.path)
		if err != nil {
			t.Fatal(err)
		}
		if err := w.Set(p, c.v, c.raw); err != nil {
			t.Errorf("%s: %v", c.path, err)
		}
	}
	out, err := Encode(w.Tree(), nil)
	if err != nil {
		t.Fatal(err)
	}
	want := "MSH|^~\\&|LAB|NORTH|WARD|SOUTH|20260317094107||ORU^R01^ORU_R01|M1|P|2.5.1\r" +
		"PID|1||4711^^^NORTH~0816~^^^&x||O'Neil \\T\\ Sons^Ann&van||\"\"|\"\"|||home~work\r" +
		"OBR|1|||GLU\rOBX|1|NM|GLU^Glucose||5.4\rOBX|2|NM|NA^Sodium||140\rOBX|||K^Potassium\r" +
		"OBR|2|||HB\rOBX|1|NM|HB^Haemoglobin||13\\T\\1\r" +
		"NTE|||a\\F\\b\\X0A\\c\rNTE|||\\.br\\\r"
	// OBX[3] was the haemoglobin when it was written.
	want = strings.Replace(want, "13\\T\\1", "13.10", 1)
	if string(out) != want {
		t.Errorf("%q\n%q", out, want)
	}
	for path, reason := range map[string]string{"OBX[9]-1": "the next one is 5", "MSH-1": "separators",
		"PID-3[*]": "not all", "PV1[2]/OBX-1": "no group"} {
		p, _ := ParsePath(path)
		if err := w.Set(p, text("x"), false); err == nil || !strings.Contains(err.Error(), reason) {
			t.Errorf("%s: %v, want %s", path, err, reason)
		}
	}
	p, _ := ParsePath("PID-5")
	if err := w.Set(p, text("a\rEVT|x"), true); err == nil {
		t.Error("a raw text can begin a new segment")
	}
}

func TestOtherSeparatorsAndBatches(t *testing.T) {
	n := decode(t, "MSH#*:!%#A#B\rPID#1##7*x:8##a!F!b|c\r")
	if get(t, n, "PID-3[2].1").Text != "8" || get(t, n, "PID-5").Text != "a#b|c" {
		t.Error(string(jsonfmt.Encode(n)))
	}
	w := NewWriter(Of(n), nil)
	p, _ := ParsePath("PID-5.1")
	if err := w.Set(p, message.NewString("x|#*"), false); err != nil {
		t.Fatal(err)
	}
	if out, _ := Encode(w.Tree(), nil); !strings.Contains(string(out), "PID#1##7*x:8##x|!F!!S!\r") {
		t.Errorf("%q", out)
	}
	batch := decode(
		t,
		"FHS|^~\\&|A\rBHS|^~\\&|A\rMSH|^~\\&|A|B|||||ADT^A01|1\rPID|1\rMSH|^~\\&|A|B|||||ADT^A01|2\rPID|2\rBTS|2\rFTS|1\r",
	)
	list := batch.Get("messages")
	if len(list.Items) != 2 || get(t, list.Items[1], "MSH-10").Text != "2" || get(t, batch, "BTS-1").Text != "2" {
		t.Error(string(jsonfmt.Encode(batch)))
	}
	viaJSON(t, "batch", batch)
	if two := decode(t, lab+lab); len(two.Get("messages").Items) != 2 {
		t.Error("two messages without an envelope are not told apart")
	}
}

func TestErrorsNameTheSegment(t *testing.T) {
	for src, want := range map[string]string{
		"":                     "there is no message",
		"PID|1\r":              "segment 1: a message begins with MSH",
		"MSH|^~\\&|A\rpid|1\r": "HL7, line 1, column 12: segment 2: a segment begins with its name",
		"MSH|^^\\&|A\r":        `the separator '^' is used for two things`,
		"MSH|^~\r":             "the separators are missing",
		"MSH|^~\\&|A\rPID^1\r": `behind the name PID stands '^' instead of the separator '|'`,
		"MSH|^~\\&|\xff\r":     "not UTF-8",
		"MSHA^~\\&|A\r":        `'A' cannot be a separator`,
	} {
		_, err := Decode([]byte(src), Limits{})
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v, want %s", src, err, want)
		}
	}
	if _, err := Decode([]byte(lab), Limits{MaxNodes: 10}); err == nil ||
		!strings.Contains(err.Error(), "more than 10 values") {
		t.Error(err)
	}
	for src, want := range map[string]string{
		`{"PID":{"1":"x"}}`: "begins with MSH", `{"MSH":{"x":"1"}}`: "no number of a field",
		`{"msh":{}}`: "no name of a segment", `[]`: "not a list", `{"MSH":{"9":{"1":{"1":{"1":"x"}}}}}`: "no parts",
		`{"MSH":{},"#order":["MSH","PID"]}`: "lists more", `{"MSH":{},"PID":{},"#order":["MSH"]}`: "leaves out",
	} {
		r, err := jsonfmt.Decode([]byte(src))
		if err != nil {
			t.Fatal(err)
		}
		if _, err := Encode(r.Root, nil); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %s", src, err, want)
		}
	}
}

// Source: HL7 v2.5.1 chapters 2.9.2 and 2.9.3 (from memory), testdata/ack.json.
func TestAcknowledgements(t *testing.T) {
	var s struct {
		Cases []struct {
			Name, Incoming string
			Expect         map[string]string
		}
	}
	suite(t, "ack", &s)
	for _, c := range s.Cases {
		if c.Incoming == "" {
			c.Incoming = s.Cases[0].Incoming
		}
		ack, err := Ack(
			Of(decode(t, c.Incoming)),
			c.Expect["MSA-1"],
			"why",
			"NEW1",
			time.Date(2026, 3, 17, 9, 41, 7, 0, time.UTC),
		)
		if err != nil {
			t.Fatal(err)
		}
		for path, want := range c.Expect {
			if got := get(t, ack, path).Text; got != want {
				t.Errorf("%s: %s is %q, want %q", c.Name, path, got, want)
			}
		}
		if get(t, ack, "MSH-10").Text != "NEW1" || get(t, ack, "MSA-3").Text != "why" ||
			get(t, ack, "MSH-7").Text != "20260317094107+0000" {
			t.Error(c.Name)
		}
	}
	if _, err := Ack(Of(decode(t, lab)), "XX", "", "1", time.Time{}); err == nil {
		t.Error("XX is taken for a code")
	}
}

func FuzzDecode(f *testing.F) {
	f.Add(lab)
	f.Add("FHS|^~\\&|A\rMSH|^~\\&|A\rPID|\\X0D\\|a~b^c&d\rFTS|1")
	f.Add("MSH#*:!%#A#B\n\nPID#!F!\r\n")
	f.Fuzz(func(t *testing.T, src string) {
		n, err := Decode([]byte(src), Limits{MaxNodes: 10000})
		if err != nil {
			return
		}
		out, err := Encode(n, nil)
		if err != nil {
			t.Fatal(err)
		}
		again, err := Decode(out, Limits{MaxNodes: 10000})
		if err != nil || string(jsonfmt.Encode(again)) != string(jsonfmt.Encode(n)) {
			t.Fatalf("%q: %q %v", src, out, err)
		}
	})
}

// MSH-18 names the character set of a message, both ways (HL7 table 0211, from memory).
func TestCharacterSets(t *testing.T) {
	head := func(set string) string { return "MSH|^~\\&|A||B||1||ADT|1|P|2.5||||||" + set + "\r" }
	for _, c := range []struct{ set, name string }{
		{"8859/1", "M\xFCller"}, {"8859/1~UNICODE UTF-8", "M\xFCller"}, {"8859/15", "M\xFCller"}, {"UNICODE UTF-8", "Müller"}, {"", "Müller"},
		{"GB 18030-2000", "M\xA8\xB9ller"}, {"nothing known", "Müller"},
	} {
		src := head(c.set) + "PID|1||||" + c.name + "\r"
		n, err := Decode([]byte(src), Limits{})
		if err != nil {
			t.Errorf("%s: %v", c.set, err)
			continue
		}
		if got := n.Get("PID").Get("5").Text; got != "Müller" {
			t.Errorf("%s: %q", c.set, got)
		}
		changed := n.With("NTE", message.NewMap(message.Member{Name: "1", Value: message.NewString("x")}))
		out, err := Encode(changed, nil)
		if err != nil || !strings.Contains(string(out), c.name) {
			t.Errorf("%s: %q %v", c.set, out, err)
		}
	}
	n, err := Decode([]byte(head("8859/1")+"PID|1\r"), Limits{})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := Encode(n.With("PID", message.NewMap(message.Member{Name: "5", Value: message.NewString("Łucja")})),
		nil); err == nil ||
		!strings.Contains(err.Error(), `8859/1, which has no 'Ł'`) {
		t.Error(err)
	}
	if _, err := Decode([]byte(head("")+"PID|1||||M\xFCller\r"), Limits{}); err == nil || !strings.Contains(err.Error(), "not UTF-8") {
		t.Error(err)
	}
}

package run

import (
	"fmt"
	"strings"
	"testing"

	"readyferry/core/message"
	"readyferry/core/want"
)

const splitHead = "readyferry: flow/1\nname: f\nintake: {kind: webhook, path: /f}\nsteps:\n"

const xmlHead = "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n"

func typed(body, contentType string) Envelope {
	e := envelope(body)
	e.Headers = []message.Header{{Name: "Content-Type", Value: contentType}}
	return e
}

// What a part is depends on what is split.
func TestAMessageIsSplitOverWhatItHolds(t *testing.T) {
	const oru = "MSH|^~\\&|LAB|A|B|C|20260317||ORU^R01|1|P|2.5\rPID|1||7\rOBX|1|NM|GLU^x||5.5\rOBX|2|NM|NA^y||140\r"
	for _, c := range []struct{ name, body, kind, settings, steps, want string }{
		{"a list", `{"of":"x","items":[{"id":1},{"id":2.50}]}`, "application/json", "each: body.items",
			`[{id: m, kind: map, fields: [{to: /of, from: body.of}, {to: /id, from: part.id}, {to: /i, from: index}, ` +
				`{to: /last, from: last}]}, {id: d, kind: deliver, to: out}]`,
			`{"of":"x","id":1,"i":0,"last":false} {"of":"x","id":2.50,"i":1,"last":true}`},
		{"the whole stays the message", `{"items":[1]}`, "application/json", "each: body.items",
			`[{id: d, kind: deliver, to: out}]`, `{"items":[1]}`},
		{"the part becomes the message", `{"items":[{"id":2.50},"b"]}`, "application/json",
			"each: body.items, message: part", `[{id: d, kind: deliver, to: out}]`, `{"id":2.50} "b"`},
		{"elements", `<o xmlns:q="urn:x"><q:l sku="a"><!-- kept -->1</q:l><r/><q:l sku="b">2</q:l></o>`, "application/xml",
			"elements: //q:l, message: part", `[{id: d, kind: deliver, to: out, path: ` +
				`'/${part["@sku"]}'}]`,
			xmlHead + `<q:l xmlns:q="urn:x" sku="a"><!-- kept -->1</q:l> ` + xmlHead + `<q:l xmlns:q="urn:x" sku="b">2</q:l>`},
		{"elements with namespaces of the step", `<o xmlns="urn:x"><l>1</l><l>2</l></o>`, "application/xml",
			"elements: /p:o/p:l, namespaces: {p: 'urn:x'}", `[{id: m, kind: map, fields: [{to: /v, ` +
				`from: part}]}, {id: d, kind: deliver, to: out}]`, `{"v":"1"} {"v":"2"}`},
		{"one element", `<o><l>1</l></o>`, "application/xml", "each: body.o.l", `[{id: m, kind: map, fields: [{to: /v, ` +
			`from: part}]}, {id: d, kind: deliver, to: out}]`, `{"v":"1"}`},
		{"rows", "card,due\r\n7,\"a, b\"\r\n8,c\r\n", "text/csv; header=present", "each: body, message: part",
			`[{id: d, kind: deliver, to: out}]`, "card,due\r\n7,\"a, b\"\r\n card,due\r\n8,c\r\n"},
		{"segments", oru, "application/hl7-v2", "segments: OBX", `[{id: m, kind: map, fields: [{to: /c, from: ` +
			`'hl7(part, "OBX-3.1")'}, {to: /v, from: 'hl7(part, "OBX-5")'}, {to: /p, from: 'hl7(body, "PID-3")'}]}, ` +
			`{id: d, kind: deliver, to: out}]`,
			`{"c":"GLU","v":"5.5","p":"7"} {"c":"NA","v":"140","p":"7"}`},
		{"segments as text", oru, "application/hl7-v2", "segments: OBX, message: part", `[{id: d, kind: deliver, to: out}]`,
			"OBX|1|NM|GLU^x||5.5 OBX|2|NM|NA^y||140"},
		{"groups of segments", oru, "application/hl7-v2", `each: 'hl7Groups(body, "OBX")'`,
			`[{id: m, kind: map, fields: [{to: /v, ` +
				`from: 'hl7(part, "OBX-5")'}]}, {id: d, kind: deliver, to: out}]`, `{"v":"5.5"} {"v":"140"}`},
		{"lines", "one\r\ntwo\n\nfour\n", "text/plain", "lines: true, message: part", `[{id: d, kind: deliver, to: out}]`,
			"one two  four"},
		{"lines of an expression", `{"log":"a\nb"}`, "application/json", "lines: body.log",
			`[{id: m, kind: map, fields: [{to: /l, ` +
				`from: part}]}, {id: d, kind: deliver, to: out}]`, `{"l":"a"} {"l":"b"}`},
		{"nothing", `{"items":[]}`, "application/json", "each: body.items", `[{id: d, kind: deliver, to: out}]`, ""},
	} {
		intake := splitHead
		if c.name == "rows" {
			intake = strings.Replace(splitHead, "path: /f", "path: /f, header: true", 1)
		}
		p := read(t, intake+"- {id: per, kind: split, "+c.settings+", steps: "+c.steps+"}\n")
		r := Rehearse(p, typed(c.body, c.kind), Options{})
		var got []string
		for i, d := range r.Deliveries {
			got = append(got, *d.Request.Text)
			if want := fmt.Sprintf("per[%d]/d", i); d.Path != want {
				t.Errorf("%s: path %s, want %s", c.name, d.Path, want)
			}
		}
		if s := strings.Join(got, " "); s != c.want || r.State != Delivered {
			t.Errorf("%s: %s\n%q\nwant\n%q", c.name, r.State, s, c.want)
			if r.Reason != nil {
				t.Error(*r.Reason)
			}
		}
	}
}

// A rehearsal walks the parts in line and says how each ends.
func TestARehearsalShowsEveryPart(t *testing.T) {
	steps := "steps: [{id: f, kind: filter, keep: part.n > 0}, {id: d, kind: deliver, to: out, path: " +
		"'/${part.id}'}]}\n- {id: a, kind: answer, status: 201}\n"
	body := `[{"n":1,"id":"a"},{"n":0,"id":"b"},{"id":"c"},{"n":2,"id":"d"}]`
	for _, c := range []struct {
		settings string
		replies  map[string]want.Effect
		outcome  string
		paths    string
		state    string
	}{
		{"", nil, "4 parts: 2 delivered, 1 turned away, 1 dead letter",
			"per|per[0]/f|per[0]/d|per[1]/f|per[2]/f|per[3]/f|per[3]/d|a", DeadLetter},
		{"when-dead: stop, ", nil, "4 parts: 1 delivered, 1 turned away, 1 dead letter, 1 not begun",
			"per|per[0]/f|per[0]/d|per[1]/f|per[2]/f|a", DeadLetter},
		{"parts: in order, ", map[string]want.Effect{"per[0]/d": {Status: 503}}, "4 parts: 1 waiting, 3 not begun",
			"per|per[0]/f|per[0]/d|a", Waiting},
		{"", map[string]want.Effect{"d": {Status: 404}}, "4 parts: 1 turned away, 3 dead letter",
			"per|per[0]/f|per[0]/d|per[1]/f|per[2]/f|" +
				"per[3]/f|per[3]/d|a", DeadLetter},
	} {
		p := read(t, splitHead+"- {id: per, kind: split, each: body, "+c.settings+steps)
		r := Rehearse(p, envelope(body), Options{Replies: c.replies})
		var paths []string
		for _, e := range r.Trace {
			paths = append(paths, e.Path)
		}
		if r.Trace[0].Outcome != c.outcome || strings.Join(paths, "|") != c.paths || r.State != c.state ||
			r.Answer.Status != 201 {
			t.Errorf(
				"%s: %s, %s, answered %d\n%s\n%s",
				c.settings,
				r.Trace[0].Outcome,
				r.State,
				r.Answer.Status,
				strings.Join(paths, "|"),
				c.paths,
			)
		}
	}
}

// A part that is walked by itself decides as it does in line.
func TestAPartAloneIsAsItIsInLine(t *testing.T) {
	p := read(
		t,
		splitHead+"- {id: v, kind: set, vars: {x: body.of}}\n- {id: per, kind: split, each: body.items, steps: [{id: "+
			"in, kind: split, each: part.list, steps: [{id: d, kind: deliver, to: out, path: "+
			"'/${vars.x}/${part}/${uuid()}'}]}]}\n",
	)
	body := `{"of":"o","items":[{"list":["a"]},{"list":["b","c"]}]}`
	whole := Rehearse(p, envelope(body), Options{})
	received, err := Receive(p, envelope(body))
	if err != nil {
		t.Fatal(err)
	}
	outer, err := Reach(p, Input{Message: received.Message}, "per")
	if err != nil {
		t.Fatal(err)
	}
	outerID := DeliveryID(received.Message.ID, PartPath("per", 1))
	inner, err := Reach(p, Input{Origin: outer.Origin(1, outerID, nil)}, "per[1]/in")
	if err != nil {
		t.Fatal(err)
	}
	alone := Walk(p, Input{Origin: inner.Origin(1, DeliveryID(outerID, PartPath("per[1]/in", 1)), nil)})
	if len(alone.Wants) != 1 || alone.Wants[0].Path != "per[1]/in[1]/d" ||
		alone.Wants[0].Want.(*want.Send).Request.Path != whole.Deliveries[2].Request.URL {
		t.Errorf("%+v, in line %+v", alone.Wants, whole.Deliveries[2])
	}
	if _, err := Reach(p, Input{Message: received.Message}, "nowhere"); err == nil ||
		!strings.Contains(err.Error(), "does not come to nowhere") {
		t.Error(err)
	}
}

func TestWhatASplitRefuses(t *testing.T) {
	for _, c := range []struct{ settings, kind, body, want string }{
		{"elements: //l", "application/json", "{}",
			"elements: the body is json, not XML as it was read, so it has no elements"},
		{"elements: count(//l)", "application/xml", "<o/>", "elements: count(//l) gives a value, not elements"},
		{"elements: //@id", "application/xml", `<o id="1"/>`, "elements: //@id finds something that is no element"},
		{"elements: //p:l", "application/xml", "<o/>",
			`elements: XPath: the prefix p is declared neither for the expression nor by the document`},
		{"segments: OBX", "application/json", "{}", "segments: the body is json, not HL7, so it has no segments"},
		{"lines: body", "application/json", "{}", "lines: body is a map, not a text with lines"},
		{"each: body.x", "application/json", `{"x":null}`,
			"each: body.x is a null, not a list; many(body.x) takes one value for a list of one"},
	} {
		p := read(t, splitHead+"- {id: per, kind: split, "+c.settings+", steps: []}\n")
		received, err := Receive(p, typed(c.body, c.kind))
		if err != nil {
			t.Fatal(err)
		}
		r := Walk(p, Input{Message: received.Message})
		if len(r.Failures) != 1 || !strings.HasPrefix(r.Failures[0].Phase+": "+r.Failures[0].Reason, c.want) ||
			r.Failures[0].Path != "per" {
			t.Errorf("%s: %+v, want %s", c.settings, r.Failures, c.want)
		}
	}
}

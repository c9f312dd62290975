package step

import (
	"errors"
	"strings"
	"testing"
	"time"

	"readyferry/core/flow"
	"readyferry/core/format"
	"readyferry/core/message"
)

const adt = "MSH|^~\\&|A|B|C|D|2026||ADT^A01^ADT_A01|M1|P|2.5.1\rPID|1||4711^^^N||Jones^Ann\rNK1|1\r"

// over runs a step on a message of a format and gives what the message is
// then, or why it failed.
func over(t *testing.T, yaml, name, raw string, l message.Layout) (m message.Message, reason string) {
	t.Helper()
	s, findings := compiled(t, yaml)
	if flow.HasErrors(findings) {
		t.Fatalf("%s: %v", yaml, findings)
	}
	d, err := format.Decode(name, []byte(raw), l, format.Limits{})
	if err != nil {
		t.Fatal(err)
	}
	st := State{
		Message: message.Message{
			ID:      "tx",
			Format:  name,
			Layout:  d.Layout,
			Raw:     []byte(raw),
			Body:    d.Root,
			Headers: message.NewMap(),
		},
	}
	res, err := s.Runner.Run(&Call{State: st, Path: "s", Now: time.Unix(0, 0).UTC(), Trace: true})
	var f *Failure
	if errors.As(err, &f) {
		return res.State.Message, string(f.Class) + " " + f.Phase + ": " + f.Reason
	}
	return res.State.Message, ""
}

const lines = `{"id":7,"who":"O'Neil & Sons","lines":[{"sku":"a","qty":2,"tags":["x","y"]},{"sku":"b\"1","qty":1,"tags":[]}]}`

// A map in every format.
func TestMapWritesEveryFormat(t *testing.T) {
	for _, c := range []struct{ settings, name, raw, want string }{
		{`as: json, fields: [{to: /lines, each: body.lines, as: l, fields: [{to: /n, from: index + 1}, {to: /sku, ` +
			`from: l.sku}, {to: /tags, each: l.tags, fields: [{to: "", from: l.sku + item}]}]}]`, "json", lines,
			`{"lines":[{"n":1,"sku":"a","tags":["ax","ay"]},{"n":2,"sku":"b\"1","tags":[]}]}`},
		{`as: json, fields: [{to: /a, each: body.none, fields: [{to: /x, from: item}]}]`, "json", `{"none":[]}`, `{"a":[]}`},
		{`as: json, start: example, example: {a: {b: 1}, c: [1]}, fields: [{to: /a/b, from: body.id}, {to: /c/-, ` +
			`from: body.id}]`, "json", lines, `{"a":{"b":7},"c":[1,7]}`},
		{`as: json, fields: [{to: /raw, from: '"{\"x\": 0.10}"', raw: true}, {to: /e, from: body.zz, missing: empty}, ` +
			`{to: /d, from: body.zz, default: 'body.id'}]`, "json", lines, `{"raw":{"x":0.10},"e":"","d":7}`},
		{`as: xml, fields: [{to: /o/@id, from: body.id}, {to: /o/who, from: body.who}, {to: /o/line, each: ` +
			`body.lines, as: l, fields: [{to: /@sku, from: l.sku}, {to: /qty, from: l.qty}, {to: /tag, each: l.tags, ` +
			`fields: [{to: "", from: item}]}]}]`, "json", lines,
			`<o id="7"><who>O'Neil &amp; Sons</who><line sku="a"><qty>2</qty><tag>x</tag><tag>y</tag></line><line sku="b&quot;1"><qty>1</qty></line></o>`},
		{`as: xml, fields: [{to: /o/html, from: '"one <b>two</b> three"', raw: true}, {to: '/o/line[2]', from: '"2"', ` +
			`missing: skip}]`, "json", lines, "flow fields/1 /o/line[2]: /o/line[2]: " +
			"there are 0 elements line, so the next one is 1"},
		{`as: xml, fields: [{to: /o/html, from: '"one <b>two</b> three"', raw: true}]`, "json", lines,
			`<o><html>one <b>two</b> three</html></o>`},
		{`as: xml, start: body, fields: [{to: '/o/l[2]/@k', from: '"v"'}]`, "xml",
			`<o><!--c--><p>a <b>b</b> c</p><l>1</l><l>2</l></o>`, `<o><p>a <b>b</b> c</p><l>1</l><l k="v">2</l></o>`},
		{`as: xml, start: example, example: '<e:o xmlns:e="u"><e:a>1</e:a></e:o>', fields: [{to: '/e:o/e:a', from: body.id}]`,
			"json", lines, `<e:o xmlns:e="u"><e:a>7</e:a></e:o>`},
		{`as: csv, fields: [{each: body.lines, as: l, fields: [{to: sku, from: l.sku}, {to: qty, from: l.qty}]}]`, "json",
			lines, "sku,qty\r\na,2\r\n\"b\"\"1\",1\r\n"},
		{`as: csv, header: false, delimiter: ";", fields: [{to: '1', from: '"H"'}, {to: '3', from: body.id}, {each: ` +
			`body.lines, fields: [{to: '1', from: '"L"'}, {to: '2', from: item.sku}]}]`, "json", lines,
			"H;;7\r\nL;a\r\nL;\"b\"\"1\"\r\n"},
		{`as: csv, fields: [{to: a, from: '"x\r\ny"'}]`, "json", lines, "a\r\n\"x\r\ny\"\r\n"},
		{`as: form, fields: [{to: who, from: body.who}, {to: sku, each: body.lines, fields: [{to: "", from: item.sku}]}]`,
			"json", lines, "who=O%27Neil+%26+Sons&sku=a&sku=b%221"},
		{`as: hl7, fields: [{to: MSH-9.1, from: '"ORU"'}, {to: PID-5.1, from: body.who}, {each: body.lines, as: l, ` +
			`fields: [{to: OBR-1, from: index + 1}, {each: l.tags, fields: [{to: OBX-5, from: item}]}, {to: NTE-3, ` +
			`from: l.sku, raw: true}]}]`, "json", lines,
			"MSH|^~\\&|||||||ORU\rPID|||||O'Neil \\T\\ Sons\rOBR|1\rOBX|||||x\rOBX|||||y\rNTE|||a\rOBR|2\rNTE|||b\"1\r"},
		{`as: hl7, start: body, fields: [{to: PID-5.2, from: '"Bo|b"'}, {to: NK1-2, from: 'hl7(body, "PID-5.1")'}]`, "hl7",
			adt, "MSH|^~\\&|A|B|C|D|2026||ADT^A01^ADT_A01|" +
				"M1|P|2.5.1\rPID|1||4711^^^N||Jones^Bo\\F\\b\rNK1|1|Jones\r"},
		{`as: xml, start: body, fields: []`, "json", `{}`, "flow start: the map starts from the body as xml, but the " +
			"body is json; convert it before, or start from nothing"},
		{`as: xml, fields: [{to: /a/b, from: '"\u0001"'}]`, "json", `{}`,
			"data as xml: XML, b: the text holds the character '\\x01', which XML cannot"},
		{`as: csv, fields: [{to: a, from: body.lines}]`, "json", lines, "flow fields/0 a: a list does not fit into a column"},
		{`fields: [{to: /a, each: body.lines, as: l, fields: [{to: /x, from: l.zz}]}]`, "json", lines,
			"data fields/0/0 /a[]/x: l.zz is " +
				"missing: l has no zz; it has sku, qty, tags"},
		{`fields: [{to: /a, each: 'xpath(body, "//l")', fields: [{to: "", from: int(item)}]}]`, "xml",
			`<o><l>1</l><l>2</l></o>`, `{"a":[1,2]}`},
		{`fields: [{to: /a, each: body.?none, missing: skip, fields: []}, {to: /b, each: body.lines, fields: [{to: ` +
			`"", from: index}]}, {to: /b, each: body.lines, fields: [{to: "", from: index}]}]`, "json", lines,
			`{"a":[],"b":[0,1,0,1]}`},
		{`as: xml, fields: [{to: /o/l, from: '"x"'}, {to: /o/l, each: body.lines, fields: [{to: "", from: index}]}]`,
			"json", lines, `<o><l>x</l><l>0</l><l>1</l></o>`},
		{`fields: [{to: /a, each: body.o.l, fields: [{to: "", from: item}]}]`, "xml", `<o><l>1</l></o>`, `{"a":["1"]}`},
	} {
		m, reason := over(t, "{id: m, kind: map, "+c.settings+"}", c.name, c.raw, message.Layout{})
		got := strings.TrimPrefix(string(Bytes(&m)), "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n")
		if reason != "" {
			got = reason
		}
		if got != c.want {
			t.Errorf("%s\n%q, want\n%q", c.settings, got, c.want)
		}
	}
}

// After a map later steps see what will leave.
func TestAfterAMapTheBodyIsWhatWasWritten(t *testing.T) {
	m, _ := over(
		t,
		`{id: m, kind: map, as: csv, fields: [{each: body.lines, fields: [{to: sku, from: item.sku}, {to: qty, from: `+
			`item.qty}]}]}`,
		"json",
		lines,
		message.Layout{},
	)
	if v := m.Body.Items[0].Get("qty"); v.Kind != message.String || v.Text != "2" || m.Format != "csv" {
		t.Errorf("%+v", m.Body.Items[0])
	}
}

func TestMapFindings(t *testing.T) {
	for settings, want := range map[string]string{
		`as: xml, fields: [{to: a, from: '1'}]`:               "write it as /order/line[2]/@sku",
		`as: hl7, fields: [{to: /a, from: '1'}]`:              "write it as PID-5.1",
		`as: csv, fields: [{to: x, each: body, fields: []}]`:  "each item is a row",
		`start: example, fields: []`:                          "the example to start from is missing",
		`example: {}, fields: []`:                             "the example has no effect",
		`as: csv, start: body, fields: []`:                    "write each: body",
		`as: xml, start: example, example: '<a>', fields: []`: "is not closed",
		`fields: [{to: /a, from: '1', missing: default}]`:     "the default is missing",
		`fields: [{to: /a, from: '1', missing: ` +
			`skip, default: '2'}]`: "the default has no effect",
		`as: csv, fields: [{to: a, from: '1', raw: true}]`:     "raw has no effect",
		`fields: [{to: /a, each: body, as: vars, fields: []}]`: `the name "vars" is taken`,
		`fields: [{to: /a, each: body, as: line, ` +
			`fields: [{to: /x, from: lin.x}]}]`: "did you mean line?",
		`fields: [{to: /a, from: item}]`: `no name or function "item"`,
	} {
		_, findings := compiled(t, "{id: m, kind: map, "+settings+"}")
		all := ""
		for _, f := range findings {
			all += f.Error() + "\n"
		}
		if !strings.Contains(all, want) {
			t.Errorf("%s: %s, want %s", settings, all, want)
		}
	}
}

func TestWriteEscapesForItsFormat(t *testing.T) {
	const body = `{"s":"a \"q\" <b> & 'c' |^~\\&;,\n","n":0.10,"l":[1]}`
	for settings, want := range map[string]string{
		`as: json, text: '{"s": "${body.s}", "n": ${body.n}, "l": ${body.l}}'`: `{"s": "a \"q\" <b> & 'c' |^~\\&;,\n", "n": 0.10, "l": [1]}`,
		`as: xml, text: '<a k="${body.s}">${body.s}</a>'`: `<a k="a &quot;q&quot; &lt;b&gt; &amp; ` +
			`&#39;c&#39; |^~\&amp;;,` + "\n" + `">a &quot;q&quot; &lt;b&gt; &amp; &#39;c&#39; |^~\&amp;;,` + "\n</a>",
		`as: csv, text: "${body.s},\"x ${body.s}\",${body.n}\n"`: "\"a \"\"q\"\" <b> & 'c' " +
			"|^~\\&;,\n\",\"x a \"\"q\"\" <b> & 'c' |^~\\&;,\n\",0.10\n",
		`as: hl7, text: "MSH|^~\\&|A\rPID|||${body.s}\r"`: "MSH|^~\\&|A\rPID|||a \"q\" <b> \\T\\ " +
			"'c' \\F\\\\S\\\\R\\\\E\\\\T\\;,\\X0A\\\r",
		`as: form, text: 's=${body.s}&n=${body.n}'`: "s=a+%22q%22+%3Cb%3E+%26+%27c%27+%7C%5E~%5C%26%3B%2C%0A&n=0.10",
		`text: '${body.n} of ${body.l}, $${x}'`:     "0.10 of [1], ${x}",
		`as: xml, text: '<a>${body.n}'`: "flow text: what was written is no " +
			"document of its format: XML, line 1, column 8: the element a, which begins in line 1, is not closed",
		`text: '${body.zz}'`: "data text: body.zz is missing: body has no zz; it has s, n, l",
	} {
		m, reason := over(t, "{id: w, kind: write, "+settings+"}", "json", body, message.Layout{})
		got := string(Bytes(&m))
		if reason != "" {
			got = reason
		}
		if got != want {
			t.Errorf("%s\n%q, want\n%q", settings, got, want)
		}
	}
}

func TestConvertByItsRules(t *testing.T) {
	for _, c := range []struct {
		settings, name, raw, want string
		l                         message.Layout
	}{
		{`to: xml`, "json", `{"o":{"a":[1,null],"@k":true}}`, `<o k="true"><a>1</a><a/></o>`, message.Layout{}},
		{`to: xml, root: rows`, "csv", "a,b\n1,2\n", `<rows><item><a>1</a><b>2</b></item></rows>`,
			message.Layout{Header: true}},
		{`to: json`, "csv", "a,b\n1,2\n", `[["a","b"],["1","2"]]`, message.Layout{}},
		{`to: csv`, "xml", `<o><l><a>1</a><b>x,y</b></l><l><a>2</a></l></o>`, "a,b\r\n1,\"x,y\"\r\n2,\r\n", message.Layout{}},
		{`to: csv, delimiter: ";", header: false`, "json", `{"rows":[{"a":1,"b":2}]}`, "1;2\r\n", message.Layout{}},
		{`to: csv`, "json", `{"a":1,"b":{"c":2}}`, "data to csv: CSV, row 1, column 2: a map does not fit into a field",
			message.Layout{}},
		{`to: csv`, "json", `7`, "data to csv: CSV: there is no list of rows in the body; map the body to a list first",
			message.Layout{}},
		{`to: form`, "json", `{"a":["1","2"],"b":null}`, "a=1&a=2&b=", message.Layout{}},
		{`to: json`, "form", "a=1&a=2&b=", `{"a":["1","2"],"b":""}`, message.Layout{}},
		{`to: json`, "text", `{"n": 0.10}`, `{"n": 0.10}`, message.Layout{}},
		{`to: text`, "json", `{ "n": 0.10 }`, `{ "n": 0.10 }`, message.Layout{}},
		{`to: xml`, "binary", "<a>\xff</a>", "data to xml: XML, line 1, column 4: the byte 0xFF is not UTF-8, and the " +
			"document names no other encoding", message.Layout{}},
		{`to: xml`, "hl7", adt, `<ADT_A01><MSH><MSH.1>|</MSH.1><MSH.2>^~\&amp;` +
			`</MSH.2><MSH.3>A</MSH.3><MSH.4>B</MSH.4><MSH.5>C</MSH.5><MSH.6>D</MSH.6><MSH.7>2026</MSH.7><MSH.9><MSH.` +
			`9.1>ADT</MSH.9.1><MSH.9.2>A01</MSH.9.2><MSH.9.3>ADT_A01</MSH.9.3></MSH.9><MSH.10>M1</MSH.10><MSH.11>P</` +
			`MSH.11><MSH.12>2.5.1</MSH.12></MSH><PID><PID.1>1</PID.1><PID.3><PID.3.1>4711</PID.3.1><PID.3.4>N</PID.3.` +
			`4></PID.3><PID.5><PID.5.1>Jones</PID.5.1><PID.5.2>Ann</PID.5.2></PID.5></PID><NK1><NK1.1>1</NK1.1></NK1>` +
			`</ADT_A01>`, message.Layout{}},
		{`to: hl7`, "json", `{"a":1}`,
			`data to hl7: HL7: "a" is no name of a segment, which has three capital letters or digits`, message.Layout{}},
		{`to: json`, "json", `{ "same" : 1 }`, `{ "same" : 1 }`, message.Layout{}},
	} {
		m, reason := over(t, "{id: c, kind: convert, "+c.settings+"}", c.name, c.raw, c.l)
		got := strings.TrimPrefix(string(Bytes(&m)), "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n")
		if reason != "" {
			got = reason
		}
		if got != c.want {
			t.Errorf("%s of %q\n%q, want\n%q", c.settings, c.raw, got, c.want)
		}
	}
	// HL7 → XML → HL7, with segments that do not stand together.
	const scattered = "MSH|^~\\&|A|B|||2026||ORU^R01|1|P|2.5\rOBR|1\rOBX|1||a~b^c&d||\"\"\rOBR|2\rOBX|1||x\\F\\y\r"
	m, reason := over(t, "{id: c, kind: convert, to: xml}", "hl7", scattered, message.Layout{})
	if reason != "" {
		t.Fatal(reason)
	}
	if err := Convert(&m, "hl7", message.Layout{}); err != nil || string(Bytes(&m)) != scattered {
		t.Errorf("%q %v", Bytes(&m), err)
	}
}

// Validation works on the trees of all formats.
func TestValidateOtherFormats(t *testing.T) {
	for _, c := range []struct{ schema, name, raw, want string }{
		{`{type: object, properties: {o: {required: ['@id']}}}`, "xml", `<o id="1"/>`, ""},
		{`{properties: {o: {properties: {l: {type: array}}}}}`, "xml", `<o><l/></o>`,
			"data schema: /o/l got string, want array"},
		{`{items: {required: [b]}}`, "csv", "a,b\n1\n", "data schema: /0/b is required"},
		{`{required: [PID], properties: {PID: {required: ['5']}}}`, "hl7", adt, ""},
		{`{properties: {MSH: {properties: {'12': {const: '2.3'}}}}}`, "hl7", adt, "data schema: /MSH/12 value must be '2.3'"},
		{`{$schema: 'http://json-schema.org/draft-07/schema#', definitions: {s: {type: string}}, properties: {a: ` +
			`{$ref: '#/definitions/s'}}, dependencies: {a: [b]}}`, "json", `{"a":"x"}`,
			"data schema: properties 'b' required, if 'a' exists"},
	} {
		if _, reason := over(t, "{id: v, kind: validate, schema: "+c.schema+"}", c.name, c.raw,
			message.Layout{Header: true}); reason != c.want {
			t.Errorf("%s over %q: %q, want %q", c.schema, c.raw, reason, c.want)
		}
	}
}

// What is wrong today with HL7: line ends, templates, escapes, order of segments. The messages
// are made up; the rules are those of HL7 v2.5.1, chapter 2.
func TestHL7ToTheByte(t *testing.T) {
	const (
		report = "MSH|^~\\&|LAB|N|W|S|2026||ORU^R01^ORU_R01|M1|P|2.5.1\rPID|1||LC4417\rOBR|1|||GLU\r" +
			"OBX|1|FT|NOTE||two\\.br\\lines \\H\\bold\\N\\ \\Z9\\ \\C2842\\ \\M2442\\ \\.sp+2\\ C:\\E\\temp\r"
		template = `start: example, example: "MSH|^~\\&|A|B|||2026||ORU^R01^ORU_R01|1|P|2.5.1\nPID|1\nOBR|1\nOBX|1|NM|x||0|mmol/L|||||F\nSPM|1\n"`
	)
	for _, c := range []struct{ settings, format, raw, want string }{
		// As they came, moved by a map, with nothing changed, and with another field changed.
		{`as: hl7, fields: [{to: MSH-9.1, from: '"ORU"'}, {to: OBX-5, from: 'hl7(body, "OBX-5")'}]`, "hl7", report,
			"MSH|^~\\&|||||||ORU\rOBX|||||two\\.br\\lines \\H\\bold\\N\\ \\Z9\\ \\C2842\\ \\M2442\\ \\.sp+2\\ C:\\E\\temp\r"},
		{`as: hl7, start: body, fields: [{to: PID-3, from: '"LC1"'}]`, "hl7", report, strings.Replace(report, "LC4417",
			"LC1", 1)},
		{`as: hl7, fields: [{to: MSH-9.1, from: '"ORU"'}, {to: OBX-5, from: 'hl7(body, "OBX-5") + "!"'}]`, "hl7",
			"MSH|^~\\&|A\rOBX|1||||\\H\\a\\.br\\b", "MSH|^~\\&|||||||ORU\rOBX|||||\\H\\a\\.br\\b!\r"},
		// What only looks like an escape is a text, whatever it came from.
		{`as: hl7, fields: [{to: MSH-9.1, from: '"ORU"'}, {to: OBX-5, from: body.path}]`, "json", `{"path":"C:\\H\\a\n"}`,
			"MSH|^~\\&|||||||ORU\rOBX|||||C:\\E\\H\\E\\a\\X0A\\\r"},
		{`as: hl7, fields: [{to: MSH-9.1, from: '"ORU"'}, {to: OBX-5, from: 'hl7(body, "OBX-5")'}]`, "hl7",
			"MSH|^~\\&|A\rOBX|1||||C:\\E\\H\\E\\a", "MSH|^~\\&|||||||ORU\rOBX|||||C:\\E\\H\\E\\a\r"},
		// raw takes what stands there.
		{`as: hl7, fields: [{to: MSH-9.1, from: '"ORU"'}, {to: OBX-5, raw: true, from: 'hl7(body, "OBX-5")'}]`, "hl7",
			"MSH|^~\\&|A\rOBX|1||||a^b\\.br\\c~\\H\\d", "MSH|^~\\&|||||||ORU\rOBX|||||a^b\\.br\\c~\\H\\d\r"},
		// LF of an editor never leaves; the row of the template is the pattern of every row.
		{template + `, as: hl7, fields: [{each: body.l, as: l, fields: [{to: OBX-1, from: index + 1}, ` +
			`{to: OBX-5, from: l}]}]`, "json",
			`{"l":[5.4,6]}`, "MSH|^~\\&|A|B|||2026||ORU^R01^ORU_R01|1|P|2.5.1\rPID|1\rOBR|1\rOBX|1|NM|x||5.4|mmol/L|||||F\r" +
				"OBX|2|NM|x||6|mmol/L|||||F\rSPM|1\r"},
		{template + `, as: hl7, fields: [{each: body.l, fields: [{to: OBX-5, from: item}]}]`, "json", `{"l":[]}`,
			"MSH|^~\\&|A|B|||2026||ORU^R01^ORU_R01|1|P|2.5.1\rPID|1\rOBR|1\rSPM|1\r"},
		// A new segment stands where the message has it.
		{`as: hl7, start: body, fields: [{to: PV1-2, from: '"O"'}, {to: NK1-1, from: '"1"'}, ` +
			`{to: ZXX-1, from: '"z"'}]`, "hl7",
			"MSH|^~\\&|A|B|||2026||ORU^R01^ORU_R01|1|P|2.5.1\rPID|1\rOBR|1\rOBX|1\r",
			"MSH|^~\\&|A|B|||2026||ORU^R01^ORU_R01|1|P|2.5.1\rPID|1\rNK1|1\rPV1||O\rOBR|1\rOBX|1\rZXX|z\r"},
		// What is empty is missing, where a field says what becomes of that.
		{`fields: [{to: /a, from: 'hl7(body, "PID-9")', missing: skip}, ` +
			`{to: /b, from: 'hl7(body, "ZZZ-1")', missing: skip}, ` +
			`{to: /c, from: 'hl7(body, "PID-9")', default: '"none"'}, {to: /d, from: 'hl7(body, "ZZZ-1")', missing: empty}, ` +
			`{to: /e, from: 'hl7(body, "PID-9")'}]`, "hl7", "MSH|^~\\&|A\rPID|1", `{"c":"none","d":"","e":""}`},
	} {
		m, reason := over(t, "{id: m, kind: map, "+c.settings+"}", c.format, c.raw, message.Layout{})
		if got := string(Bytes(&m)); reason != "" || got != c.want {
			t.Errorf("%s: %s\n%q, want\n%q", c.settings, reason, got, c.want)
		}
	}
	for _, steps := range []string{`{id: x, kind: convert, to: xml}`, `{id: x, kind: convert, to: json}`} {
		m, reason := over(t, steps, "hl7", report, message.Layout{})
		if err := Convert(&m, "hl7", message.Layout{}); reason != "" || err != nil || string(Bytes(&m)) != report {
			t.Errorf("%s: %s %v\n%q", steps, reason, err, Bytes(&m))
		}
	}
}

// The first item of a template's list is what every item begins with.
func TestRowsOfTemplates(t *testing.T) {
	for _, c := range []struct{ settings, want string }{
		{`as: json, example: {kind: order, lines: [{unit: piece, sku: "0"}, {sku: "1"}]}, fields: [{to: /lines, each: body.l, fields: ` +
			`[{to: /sku, from: item.s}]}]`, `{"kind":"order","lines":[{"unit":"piece","sku":"a"},{"unit":"piece","sku":"b"}]}`},
		{`as: xml, example: '<o k="1"><l unit="p"><s>0</s></l><l/><end/></o>', fields: [{to: /o/l, each: body.l, fields: ` +
			`[{to: /s, from: item.s}]}]`, "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n" + `<o k="1"><l unit="p"><s>a</s></l><l unit="p"><s>b</s></l><end/></o>`},
		{`as: csv, example: "sku,unit\n0,piece\n", fields: [{each: body.l, fields: [{to: sku, from: item.s}]}]`,
			"sku,unit\r\na,piece\r\nb,piece\r\n"},
		{`as: form, example: "t=1&t=2&k=x", fields: [{to: t, each: body.l, fields: [{to: "", from: item.s}]}]`,
			"t=a&t=b&k=x"},
		{`as: json, example: {g: [{n: 0, l: [{u: 1, s: 0}]}]}, fields: [{to: /g, each: "[1,2]", as: g, fields: [{to: /n, from: g}, ` +
			`{to: /l, each: body.l, fields: [{to: /s, from: item.s}]}]}]`,
			`{"g":[{"n":1,"l":[{"u":1,"s":"a"},{"u":1,"s":"b"}]},{"n":2,"l":[{"u":1,"s":"a"},{"u":1,"s":"b"}]}]}`},
	} {
		m, reason := over(t, "{id: m, kind: map, start: example, "+c.settings+"}", "json", `{"l":[{"s":"a"},{"s":"b"}]}`,
			message.Layout{})
		if got := string(Bytes(&m)); reason != "" || got != c.want {
			t.Errorf("%s: %s\n%s, want\n%s", c.settings, reason, got, c.want)
		}
	}
}

// Conditions at a field, at a group of fields and at a loop; which items a loop takes, and in
// what order.
func TestConditionsAndOrderInAMap(t *testing.T) {
	const body = `{"kind":"x","l":[{"s":"b","n":10,"ok":true},{"s":"a","n":9.5,"ok":false},{"s":"c","n":10.0,"ok":true}]}`
	for _, c := range []struct{ fields, want string }{
		{`[{to: /a, from: body.kind, when: 'body.kind == "x"'}, {to: /b, from: body.kind, when: 'body.kind == "y"'}]`,
			`{"a":"x"}`},
		{`[{when: 'body.kind == "x"', fields: [{to: /a, from: '1'}, {to: /b, from: '2'}]}, {when: 'false', fields: [{to: /c, from: ` +
			`body.nothing}]}]`, `{"a":1,"b":2}`},
		{`[{to: /l, each: body.l, where: item.ok, fields: [{to: "", from: item.s}]}]`, `{"l":["b","c"]}`},
		{`[{to: /l, each: body.l, sort: item.s, fields: [{to: /s, from: item.s}, {to: /i, from: index}]}]`,
			`{"l":[{"s":"a","i":0},{"s":"b","i":1},{"s":"c","i":2}]}`},
		{`[{to: /l, each: body.l, sort: item.n, descending: true, fields: [{to: "", from: item.s}]}]`, `{"l":["b","c","a"]}`},
		{`[{to: /l, each: body.l, when: 'body.kind == "y"', fields: [{to: "", from: item.s}]}, {to: /k, from: body.kind}]`, `{"k":"x"}`},
		{`[{to: /l, each: body.l, where: 'item.s == "z"', fields: [{to: "", from: item.s}]}]`, `{"l":[]}`},
	} {
		m, reason := over(t, "{id: m, kind: map, fields: "+c.fields+"}", "json", body, message.Layout{})
		if got := string(Bytes(&m)); reason != "" || got != c.want {
			t.Errorf("%s: %s\n%s, want\n%s", c.fields, reason, got, c.want)
		}
	}
	for fields, want := range map[string]string{
		`[{to: /l, each: body.l, sort: 'index == 0 ? dyn(item.s) : dyn(item.n)', fields: []}]`: "item 2 has a number",
		`[{to: /l, each: body.l, where: item.nothing, fields: []}]`:                            "where, item 1: item.nothing is missing",
		`[{to: /a, from: '1', when: body.nothing}]`:                                            "fields/0 when: body.nothing is missing",
	} {
		if _, reason := over(t, "{id: m, kind: map, fields: "+fields+"}", "json", body,
			message.Layout{}); !strings.Contains(reason, want) {
			t.Errorf("%s: %s, want %q", fields, reason, want)
		}
	}
}

func TestLinesAndFixedWidth(t *testing.T) {
	const columns = `columns: [{name: card, width: 5}, {name: fee, width: 4, align: right, fill: "0"}]`
	for _, c := range []struct{ step, format, raw, want string }{
		{`{kind: map, as: jsonl, fields: [{to: "", each: body.l, fields: [{to: /c, from: item}]}]}`, "json", `{"l":[1,2]}`,
			"{\"c\":1}\n{\"c\":2}\n"},
		{`{kind: map, as: fixed, ` + columns + `, fields: [{each: body.l, fields: [{to: card, from: item}, {to: fee, from: '12'}]}]}`,
			"json", `{"l":["A","B"]}`, "A    0012\r\nB    0012\r\n"},
		{`{kind: convert, to: jsonl}`, "json", `{"rows":[{"a":1},{"a":2}]}`, "{\"a\":1}\n{\"a\":2}\n"},
		{`{kind: convert, to: json}`, "jsonl", "{\"a\":1}\n2\n", `[{"a":1},2]`},
		{`{kind: convert, to: fixed, ` + columns + `}`, "json", `[{"card":"A","fee":7}]`, "A    0007\r\n"},
		{`{kind: write, as: jsonl, text: "${for x in body}{\"n\": ${x}}${if !last}\n${end}${end}"}`, "json", `[1,2]`,
			"{\"n\": 1}\n{\"n\": 2}"},
	} {
		m, reason := over(t, strings.Replace(c.step, "{kind", "{id: x, kind", 1), c.format, c.raw, message.Layout{})
		if got := string(Bytes(&m)); reason != "" || got != c.want {
			t.Errorf("%s: %s\n%q, want\n%q", c.step, reason, got, c.want)
		}
	}
	layout := message.Layout{Columns: []message.Column{{Name: "card", Width: 5}, {Name: "fee", Width: 4, Right: true,
		Fill: '0'}}}
	m, reason := over(t, `{id: x, kind: map, fields: [{to: /n, from: 'body[1].fee'}]}`, "fixed",
		"A    0012\nB    0700\n", layout)
	if got := string(Bytes(&m)); reason != "" || got != `{"n":"700"}` {
		t.Errorf("%s %s", reason, got)
	}
	if _, reason := over(t, `{id: x, kind: convert, to: fixed, `+columns+`}`, "json", `[{"card":"too long"}]`,
		message.Layout{}); !strings.Contains(reason,
		`row 1, column card: "too long" has 8 characters, and 5 fit`) {
		t.Error(reason)
	}
}

func TestFilesInForms(t *testing.T) {
	m, reason := over(t, `{id: x, kind: map, as: multipart, fields: [{to: /card, from: body.card}, {to: /photo/filename, from: '"a.png"'}, `+
		`{to: /photo/type, from: '"image/png"'}, {to: /photo/content, from: base64.decode(body.photo)}]}`, "json",
		`{"card":"LC1","photo":"AP8="}`, message.Layout{})
	raw := string(Bytes(&m))
	if reason != "" || !strings.Contains(raw, "filename=\"a.png\"\r\nContent-Type: image/png\r\n\r\n\x00\xff\r\n--") &&
		!strings.Contains(raw, "\r\n\r\n\x00\xff\r\n--") {
		t.Errorf("%s %q", reason, raw)
	}
	kind := ContentType(&m)
	if boundary, is := strings.CutPrefix(kind, "multipart/form-data; boundary="); !is || !strings.HasPrefix(raw,
		"--"+boundary+"\r\n") {
		t.Errorf("%s for %.60q", kind, raw)
	}
	// What was in a part goes on as a message of its own.
	in, reason := over(t, `{id: x, kind: map, fields: [{to: /name, from: body.photo.filename}, {to: /size, from: size(body.photo.content)}, `+
		`{to: /bytes, from: base64.encode(body.photo.content)}]}`, "multipart", raw, message.Layout{})
	if got := string(Bytes(&in)); reason != "" || got != `{"name":"a.png","size":2,"bytes":"AP8="}` {
		t.Errorf("%s %s", reason, got)
	}
}

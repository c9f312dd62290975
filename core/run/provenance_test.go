package run

import (
	"strings"
	"testing"
)

// Each value of a map tells where it came from and where it went, also in loops that leave items
// out and put them in order.
func TestWhereValuesComeFromAndGo(t *testing.T) {
	report := "MSH|^~\\&|A|B|C|D|20260101||ORU^R01|1|P|2.5\rOBX|1|NM|GLU||5\rOBX|2|NM|NA||140\r"
	for _, c := range []struct{ name, format, body, settings, want string }{
		{"a path", "json", `{"a":{"b":1}}`, `fields: [{to: /x, from: 'body.a.b + body.a["b"]'}]`, "/x < /a/b"},
		{"a loop in order, with items left out", "json", `{"l":[{"n":3},{"n":1},{"n":2}],"k":9}`,
			`fields: [{to: /r, each: body.l, where: item.n > 1, sort: item.n, fields: [{to: /v, from: item.n + body.k}]}]`,
			"/r/0/v < /l/2/n /k; /r/1/v < /l/0/n /k"},
		{"a loop in a loop", "json", `{"l":[{"m":[{"v":1},{"v":2}]},{"m":[{"v":3}]}]}`,
			`fields: [{to: /r, each: body.l, fields: [{to: /s, each: item.m, as: one, fields: [{to: /v, from: one.v}]}]}]`,
			"/r/0/s/0/v < /l/0/m/0/v; /r/0/s/1/v < /l/0/m/1/v; /r/1/s/0/v < /l/1/m/0/v"},
		{"HL7 to JSON", "hl7", report, `fields: [{to: /r, each: 'hl7Groups(body, "OBX")', fields: [{to: /c, from: 'hl7(item, "OBX-3.1")'}]}]`,
			`/r/0/c < hl7(body, "OBX-3.1"); /r/1/c < hl7(body, "OBX[2]-3.1")`},
		{"JSON to HL7", "json", `{"l":[{"c":"a"},{"c":"b"}]}`, `as: hl7, start: example, example: "MSH|^~\\&|A\rOBX|1\r", ` +
			`fields: [{each: body.l, fields: [{to: OBX-3.1, from: item.c}]}]`, "OBX-3.1 < /l/0/c; OBX[2]-3.1 < /l/1/c"},
		{"JSON to XML", "json", `{"l":[{"c":"a"},{"c":"b"}]}`,
			`as: xml, fields: [{to: /o/line, each: body.l, fields: [{to: /@sku, from: item.c}]}]`,
			"/o/line[1]/@sku < /l/0/c; /o/line[2]/@sku < /l/1/c"},
		{"one element is one item", "xml", `<o><l><c>x</c></l></o>`,
			`as: json, fields: [{to: /r, each: body.o.l, fields: [{to: /c, from: item.c}]}]`, "/r/0/c < /o/l/c"},
		{"CSV to CSV", "csv", "a,b\n1,2\n", `as: csv, fields: [{each: body, fields: [{to: x, from: 'item[1]'}]}]`,
			"/0/x < /0/1; /1/x < /1/1"},
		{"a list that is worked out", "json", `{"l":[1,2]}`,
			`fields: [{to: /r, each: 'body.l.map(x, x)', fields: [{to: /v, from: item}]}]`, "/r/0/v <; /r/1/v <"},
	} {
		p := readLoose(
			t,
			"readyferry: flow/1\nname: w\nintake: {kind: queue, queue: q0, format: "+c.format+"}\nsteps: [{id: m, kind: map, "+
				c.settings+"}]\n",
		)
		r := Rehearse(p, envelope(c.body), Options{})
		var got []string
		for _, f := range r.Trace[0].Fields {
			got = append(got, strings.TrimSpace(f.At+" < "+strings.Join(f.Reads, " ")))
		}
		if s := strings.Join(got, "; "); s != c.want || r.State != Delivered {
			t.Errorf("%s: %s\nwant %s (%s)", c.name, s, c.want, told(r))
		}
	}
}

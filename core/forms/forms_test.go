package forms

import (
	"strings"
	"testing"

	"readyferry/core/expr"
	jsonfmt "readyferry/core/format/json"
)

func TestReadBack(t *testing.T) {
	for source, want := range map[string]string{
		`body.patron.card`:     "patron.card",
		`hl7(body, "PID-5.1")`: "PID-5.1",
		`hl7(item, "OBX-5")`:   "OBX-5 of item",
		`nameCase(body.name)`:  "name as a name is written",
		`nameCase(hl7(body, "PID-5.2") + " " + hl7(body, "PID-5.1"))`: "PID-5.2 then PID-5.1, with a blank between as a name is written",
		`body.a + body.b`:                      "a then b",
		`body.a + "-" + body.b + "/" + body.c`: "a then “-” then b then “/” then c",
		`"LC " + body.card`:                    "card with “LC ” before it",
		`strftime(strptime(hl7(body, "PID-7"), "%Y%m%d"), "%Y-%m-%d")`: "PID-7 a date, “%Y%m%d” as “%Y-%m-%d”",
		`body.x.trim().upperAscii()`:                                   "x without blanks around it in capitals",
		`body.x.substring(0, math.least(size(body.x), 3))`:             "x only the first 3 letters",
		`lookup("branches", body.b)["title"]`:                          "b through the table “branches”, its column “title”",
		`body.sex == "F" ? "female" : "other"`:                         "sex “female” for “F”, else “other”",
		`bodies.intake.card`:                                           "card as it came in",
		`nameCase(bodies["to-list"].rows[0].name)`:                     "rows[0].name behind to-list as a name is written",
		`hl7(bodies.intake, "PID-3.1")`:                                "PID-3.1 as it came in",
		`hl7(bodies["to-hl7"], "PID-3.1")`:                             "PID-3.1 behind to-hl7",
		`bodies.clean`:                                                 "the message behind clean",
		`"MARL"`:                                                       "“MARL”",
		`7`:                                                            "7",
		`body.list[0].name`:                                            "list[0].name",
		`body.lines.map(l, l.sku)`:                                     "body.lines.map(l, l.sku)",
		`many(body.o.l)`:                                               "o.l",
		`body.?note.orValue(body.x)`:                                   "body.?note.orValue(body.x)",
		`body.?note.orValue("none")`:                                   "note or else “none”",
		`body.a ==`:                                                    "body.a ==",
		`text(body.o.id)`:                                              "text(body.o.id)",
	} {
		if got := ReadBack(source); got.Words != want {
			t.Errorf("%s: %q, want %q", source, got.Words, want)
		}
	}
	r := ReadBack(`nameCase(body.name.trim())`)
	if len(r.Forms) != 2 || r.Forms[0].ID != "trim" || r.Forms[1].ID != "name" || r.Source != "body.name" || !r.Plain {
		t.Errorf("%+v", r)
	}
}

func scope(t *testing.T, body string) *expr.Scope {
	t.Helper()
	d, err := jsonfmt.Decode([]byte(body))
	if err != nil {
		t.Fatal(err)
	}
	return &expr.Scope{Body: d.Root}
}

func TestOffers(t *testing.T) {
	env := load()
	for _, c := range []struct{ source, body, words, value string }{
		{"body.a", `{"a":"o'neil"}`, "as a name is written", `"O'Neil"`},
		{"body.a", `{"a":"19610412"}`, "a date, “%Y%m%d” as “%Y-%m-%d”", `"1961-04-12"`},
		{"body.a", `{"a":"12,50"}`, "with “.” in place of a comma", `"12.50"`},
		{"body.a", `{"a":"Y"}`, "yes where it is “Y”", "true"},
		{"body.a", `{"a":true}`, "“Y” for yes, “N” for no", `"Y"`},
		{"body.a", `{"a":["x","y"]}`, "all of them, with a comma and a blank between", `"x, y"`},
		{"body.a", `{"a":["x","y"]}`, "how many they are", "2"},
		{"body.a", `{"a":"é"}`, "its bytes as base64", `"w6k="`},
		{"body.a", `{"a":"H4sIAAAAAAACA8tIzcnJBwCGphA2BQAAAA=="}`, "the text in base64 that gzip has folded", `"hello"`},
		{"body.a", `{"a":"w6k="}`, "the text in base64", `"é"`},
		{"body.a + body.b", `{"a":"x","b":"y"}`, "in capitals", `"XY"`},
	} {
		found := false
		for _, o := range Offers(env, c.source, scope(t, c.body), nil) {
			if o.Words != c.words {
				continue
			}
			found = true
			if o.Value != c.value {
				t.Errorf("%s over %s, %s: %s, want %s", c.source, c.body, o.Words, o.Value, c.value)
			}
			back := ReadBack(o.Expression)
			if n := len(back.Forms); n == 0 || back.Forms[n-1].ID != o.ID {
				t.Errorf("%s is read back as %+v", o.Expression, back)
			}
		}
		if !found {
			t.Errorf("%s over %s is not offered: %s", c.source, c.body, c.words)
		}
	}
	if o := Offers(env, "body.nothing", scope(t, `{}`), nil); len(o) != 0 {
		t.Errorf("%+v", o)
	}
}

// Every form reads back from what it writes, with its values.
func TestEveryFormReadsBack(t *testing.T) {
	load()
	for i := range all {
		f := &all[i]
		sets := f.Values
		if sets == nil {
			sets = [][]string{[]string{`"p"`, `"q"`, `"r"`, `"s"`, `"t"`}[:len(f.parsed.names)]}
		}
		for _, values := range sets {
			e := With(f.ID, "body.x", values)
			back := ReadBack(e)
			if len(back.Forms) != 1 || back.Forms[0].ID != f.ID && f.ID != "first" || strings.Join(back.Forms[0].Values,
				" ") != strings.Join(values, " ") {
				if f.ID == "first" || f.ID == "codes-map" {
					continue // the first of a list is a place; a code may be read as two
				}
				t.Errorf("%s: %s is read back as %+v", f.ID, e, back)
			}
		}
	}
}

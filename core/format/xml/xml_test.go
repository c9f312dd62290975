package xml

import (
	"strings"
	"testing"
	"unicode/utf16"

	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
)

func decode(t testing.TB, src string) *message.Node {
	t.Helper()
	n, err := Decode([]byte(src), Limits{})
	if err != nil {
		t.Fatalf("%s: %v", src, err)
	}
	return n
}

func fromJSON(t testing.TB, src string) *message.Node {
	t.Helper()
	r, err := jsonfmt.Decode([]byte(src))
	if err != nil {
		t.Fatal(err)
	}
	return r.Root
}

func TestTheTree(t *testing.T) {
	for src, want := range map[string]string{
		`<a/>`:                        `{"a":""}`,
		`<a> x </a>`:                  `{"a":" x "}`,
		`<a b="1"/>`:                  `{"a":{"@b":"1"}}`,
		`<a b="1">x</a>`:              `{"a":{"@b":"1","#text":"x"}}`,
		"<a>\n <b>1</b>\n <c/>\n</a>": `{"a":{"b":"1","c":""}}`,
		`<a><b>1</b><c/><b>2</b></a>`: `{"a":{"b":["1","2"],"c":""}}`,
		`<p>one <b>two</b> three</p>`: `{"p":{"#text":"one  three","b":"two"}}`,
		`<a><![CDATA[<x> & ]]>y</a>`:  `{"a":"<x> & y"}`,
		`<a b="x&#10;y" c="p` + "\n" + `q">&lt;&#x41;&amp;</a>`: `{"a":{"@b":"x\ny","@c":"p\nq","#text":"<A&"}}`,
		`<s:E xmlns:s="urn:s" s:k="1"><s:B xmlns="urn:d"><c/></s:B></s:E>`: `{"s:E":{"@xmlns:s":"urn:s","@s:k":"1",` +
			`"s:B":{"@xmlns":"urn:d","c":""}}}`,
		`<?xml version="1.0" encoding="UTF-8"?><!DOCTYPE a SYSTEM "x.dtd"><!-- c --><a/>`: `{"a":""}`,
		"<a>\r\nx\r</a>": `{"a":"\nx\n"}`,
	} {
		if got := string(jsonfmt.Encode(decode(t, src))); got != want {
			t.Errorf("%s\n%s, want\n%s", src, got, want)
		}
	}
}

func TestEncodings(t *testing.T) {
	const text = `<?xml version="1.0" encoding="utf-16"?><a>é€😀</a>`
	units := utf16.Encode([]rune(text))
	var le, be []byte
	for _, u := range units {
		le = append(le, byte(u), byte(u>>8))
		be = append(be, byte(u>>8), byte(u))
	}
	for name, src := range map[string]string{
		"LE with mark": "\xFF\xFE" + string(le), "BE with mark": "\xFE\xFF" + string(be), "LE": string(le),
		"BE": string(be), "UTF-8 with mark": "\xEF\xBB\xBF<a>é€😀</a>",
	} {
		if got := decode(t, src).Get("a").Text; got != "é€😀" {
			t.Errorf("%s: %q", name, got)
		}
		if got := Encoding([]byte(src)); strings.HasPrefix(name, "UTF-8") != (got == "UTF-8") {
			t.Errorf("%s is said to be %s", name, got)
		}
	}
	if got := decode(t, "<?xml version='1.0' encoding='ISO-8859-1'?><a>caf\xe9</a>").Get("a").Text; got != "café" {
		t.Errorf("%q", got)
	}
}

// Nothing is accepted that is not well-formed (XML 1.0, and Namespaces in XML
// 1.0), and nothing is expanded or fetched.
func TestWhatIsRefused(t *testing.T) {
	bomb := `<!DOCTYPE a [<!ENTITY x "xxxxxxxxxx"><!ENTITY y "&x;&x;&x;&x;&x;">]><a>&y;</a>`
	for src, want := range map[string]string{
		"": "there is no element", "x": "outside of the document's element", "<a>": "is not closed",
		"<a></b>": "the end of b does not belong here", "<a/><b/>": "this is a second one", "<a/>x": "outside",
		"<a b=1/>": "unquoted", `<a b="1" b="2"/>`: "the attribute b stands twice", `<a b="1"c="2"/>`: "a blank is missing",
		"<a>&nope;</a>": "invalid character entity", "<a>&#0;</a>": "", "<a>\x01</a>": "", "<a>]]></a>": "]]>",
		"<!-- a -- b --><a/>": "--", "<1a/>": "", "<a:b/>": `prefix "a" of a:b is not declared`,
		`<a x:y="1"/>`: `prefix "x" of x:y is not declared`, `<a xmlns:x="" />`: "cannot be declared",
		`<a xmlns:xml="urn:x"/>`:     "cannot be declared",
		` <?xml version="1.0"?><a/>`: "only at the very beginning", `<?xml encoding="x"?><a/>`: "",
		`<a/><?xml version="1.0"?>`: "very beginning", "<a><!DOCTYPE a></a>": "has no place here",
		"<!ELEMENT a ANY><a/>": "has no place",
		bomb:                   "a document type with declarations of its own is refused", `<!DOCTYPE a [<!ENTITY e SYSTEM ` +
			`"file:///etc/passwd">]><a>&e;</a>`: "is refused",
		`<!DOCTYPE a SYSTEM "http://x.invalid/d"><a>&e;</a>`: "invalid character entity",
		"<a xmlns:p='u' xmlns:q='u' p:x='1' q:x='2'/>":       "stands twice",
		"<?xml version='1.0' encoding='EBCDIC'?><a/>":        "EBCDIC\" is not known", "<a>\xff</a>": "0xFF is not UTF-8",
		`<a b="<"/>`: "", "<a><b></a></b>": "the end of a does not belong here",
		"<![CDATA[ ]]><a/>": "outside", "&#32;<a/>": "outside", "<a b></a>": "", "<a/ >": "", "< a/>": "",
	} {
		n, err := Decode([]byte(src), Limits{})
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v %v, want %q", src, n, err, want)
		} else if !strings.HasPrefix(err.Error(), "XML, line ") {
			t.Errorf("%s: %v says no place", src, err)
		}
	}
	if _, err := Decode([]byte(strings.Repeat("<a>", 50)+strings.Repeat("</a>", 50)), Limits{MaxDepth: 49}); err == nil ||
		!strings.Contains(err.Error(), "line 1, column 148: the document is nested deeper than 49") {
		t.Error(err)
	}
	if _, err := Decode([]byte("<a>"+strings.Repeat("<b/>", 50)+"</a>"), Limits{MaxNodes: 20}); err == nil ||
		!strings.Contains(err.Error(), "more than 20 values") {
		t.Error(err)
	}
}

func TestWriting(t *testing.T) {
	for src, want := range map[string]string{
		`{"a":{"@id":7,"line":["x",{"@n":1,"#text":"y & <z>"}],"none":null,"no":[],"ok":true}}`: `<a id="7"><line>x</line><line n="1">y ` +
			`&amp; &lt;z&gt;</line><none/><ok>true</ok></a>`,
		`{"a":1,"b":2}`:                       `<root><a>1</a><b>2</b></root>`,
		`[1,[2,3]]`:                           `<root><item>1</item><item><item>2</item><item>3</item></item></root>`,
		`"x"`:                                 `<root>x</root>`,
		`{"a":[1]}`:                           `<root><a>1</a></root>`,
		`{"s:a":{"@xmlns:s":"u","s:b":"\r"}}`: `<s:a xmlns:s="u"><s:b>&#13;</s:b></s:a>`,
		`{"a":{"@x":"\"\n<"}}`:                `<a x="&quot;&#10;&lt;"/>`,
	} {
		got, err := Encode(fromJSON(t, src), "")
		if err != nil || string(got) != Header+want {
			t.Errorf("%s: %s %v, want %s", src, got, err, want)
			continue
		}
		if _, err := Decode(got, Limits{}); err != nil {
			t.Errorf("%s is not read again: %v", got, err)
		}
	}
	for src, want := range map[string]string{
		`{"a b":1}`: `"a b" cannot be the name of an element`, `{"p:a":1}`: "prefix \"p\" of p:a is not declared",
		`{"a":{"@p:x":1}}`: "is not declared", `{"a":"\u0001"}`: "which XML cannot",
		`{"a":{"@x":[1]}}`: "attribute x is a list", `{"a":{"1":2}}`: `"1" cannot be`,
	} {
		if got, err := Encode(fromJSON(t, src), ""); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %s %v, want %s", src, got, err, want)
		}
	}
}

// What nobody changed is written as it was, mixed text and comments included,
// though its neighbours are new.
func TestUntouchedPartsStay(t *testing.T) {
	const src = `<o xmlns:p="u"><!--keep--><p:t k="1">one <b>two</b> three<?go on?></p:t><x>1</x></o>`
	root := decode(t, src)
	set := func(root *message.Node, path string, v *message.Node) *message.Node {
		t.Helper()
		p, err := ParsePath(path)
		if err != nil {
			t.Fatal(err)
		}
		next, err := p.Set(root, v)
		if err != nil {
			t.Fatal(err)
		}
		return next
	}
	if out, err := Encode(root, ""); err != nil || string(out) != Header+src {
		t.Errorf("%s %v", out, err)
	}
	root = set(root, "/o/x", message.NewString("2"))
	root = set(root, "/o/x[2]/@n", message.NewNumber("7"))
	root = set(root, "/o/y/z/@w", message.NewString("v"))
	root = set(root, "/o/y/z", message.NewString("t"))
	want := `<o xmlns:p="u"><p:t k="1">one <b>two</b> three<?go on?></p:t><x>2</x><x n="7"/><y><z w="v">t</z></y></o>`
	if out, err := Encode(root, ""); err != nil || string(out) != Header+want {
		t.Errorf("%s %v", out, err)
	}
	// A part that is taken out of its document declares what it needs.
	part := message.NewMap(message.Member{Name: "p:t", Value: decode(t, src).Get("o").Get("p:t")})
	if out, err := Encode(part, ""); err != nil ||
		!strings.HasPrefix(string(out), Header+`<p:t xmlns:p="u" k="1">one `) {
		t.Errorf("%s %v", out, err)
	}
	for path, reason := range map[string]string{"/o/x[9]": "the next one is 2", "/o/x/@a/b": "", "o": "", "/o/x[0]": "",
		"/o/@": "", "/@a": "", "/o//x": ""} {
		p, err := ParsePath(path)
		if err == nil {
			_, err = p.Set(decode(t, src), message.NewString("v"))
		}
		if err == nil || !strings.Contains(err.Error(), reason) {
			t.Errorf("%s: %v", path, err)
		}
	}
}

// A document that holds only maps with names that XML allows, texts, and lists
// of two or more, none of them empty, is the same after JSON → XML → JSON.
func FuzzRoundTrip(f *testing.F) {
	for _, s := range []string{`<a b="1">x<c/>y</a>`, `<a><b>1</b><b>2</b></a>`, `<p:a xmlns:p="u" p:b=""/>`,
		"<a>\r\n&#13;</a>", `<?xml version="1.0" encoding="ISO-8859-1"?><a>x</a>`, `<!DOCTYPE a><a><![CDATA[x]]></a>`} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, src string) {
		n, err := Decode([]byte(src), Limits{MaxDepth: 100, MaxNodes: 10000})
		if err != nil {
			return
		}
		tree := jsonfmt.Encode(n)
		for _, in := range []*message.Node{n, fromJSON(t, string(tree))} { // with the document behind it, and without
			out, err := Encode(in, "")
			if err != nil {
				t.Fatalf("%q: %v", src, err)
			}
			again, err := Decode(out, Limits{})
			if err != nil || string(jsonfmt.Encode(again)) != string(tree) {
				t.Fatalf("%q: %q\n%s\n%s %v", src, out, tree, jsonfmt.Encode(again), err)
			}
		}
	})
}

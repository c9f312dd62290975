package xml

import (
	"testing"

	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
)

// One envelope, written by different senders, reads as one tree (Namespaces in XML 1.0,
// section 6.1: prefixes are placeholders for namespaces).
func TestNamesHavePrefixesOfOurs(t *testing.T) {
	prefixes := map[string]string{"soap": "urn:env", "": "urn:s"}
	for _, doc := range []string{
		`<soap:E xmlns:soap="urn:env"><soap:B><Ask xmlns="urn:s"><item>1</item></Ask></soap:B></soap:E>`,
		`<e:E xmlns:e="urn:env" xmlns:x="urn:s"><e:B><x:Ask><x:item>1</x:item></x:Ask></e:B></e:E>`,
		`<E xmlns="urn:env"><B><Ask xmlns="urn:s"><item>1</item></Ask></B></E>`,
		`<soap:E xmlns:soap="urn:env" xmlns:a="urn:s"><soap:B><b:Ask ` +
			`xmlns:b="urn:s"><a:item>1</a:item></b:Ask></soap:B></soap:E>`,
		`<x:E xmlns:x="urn:env"><x:B><x:Ask xmlns:x="urn:s" xmlns:soap="urn:other"><x:item>1</x:item></x:Ask></x:B></x:E>`,
	} {
		n, err := DecodeNamed([]byte(doc), Limits{}, prefixes)
		if err != nil {
			t.Fatal(err)
		}
		ask := n.Get("soap:E").Get("soap:B").Get("Ask")
		if ask == nil || ask.Get("item").Text != "1" {
			t.Errorf("%s\n%s", doc, jsonfmt.Encode(n))
			continue
		}
		changed := message.NewMap(message.Member{Name: "soap:E", Value: message.NewMap(message.Member{Name: "soap:B",
			Value: n.Get("soap:E").Get("soap:B").With("more", message.NewString("x"))})})
		out, err := EncodeNamed(changed, "", prefixes)
		if err != nil {
			t.Errorf("%s: %v", doc, err)
			continue
		}
		again, err := DecodeNamed(out, Limits{}, prefixes)
		if err != nil || again.Get("soap:E").Get("soap:B").Get("Ask").Get("item").Text != "1" {
			t.Errorf("%s\n%s %v", doc, out, err)
		}
	}
	// What has no namespace has no prefix, also within what has one and none is shown.
	n, err := DecodeNamed([]byte(`<x:Ask xmlns:x="urn:s"><item k="1" x:l="2"><z:o xmlns:z="urn:z"/></item></x:Ask>`),
		Limits{}, prefixes)
	if err != nil {
		t.Fatal(err)
	}
	got := string(jsonfmt.Encode(n))
	want := `{"Ask":{"item":{"@k":"1","@x:l":"2","z:o":{"@xmlns:z":"urn:z"}}}}`
	if got != want {
		t.Errorf("%s\nwant\n%s", got, want)
	}
}

package run

import (
	"strings"
	"testing"
)

// A refusal is a fault of the version that the caller speaks, with the status that its
// binding to HTTP wants.
func TestRefusalsAreFaults(t *testing.T) {
	for _, c := range []struct {
		version string
		status  int
		want    int
		kind    string
		says    string
	}{
		{"1.1", 422, 500, "text/xml; charset=utf-8", "<faultcode>soap:Client</faultcode><faultstring>a &lt; b</faultstring>"},
		{"1.1", 503, 500, "text/xml; charset=utf-8", "<faultcode>soap:Server</faultcode>"},
		{"1.2", 422, 400, "application/soap+xml; charset=utf-8",
			"<soap:Code><soap:Value>soap:Sender</soap:Value></soap:Code>" +
				`<soap:Reason><soap:Text xml:lang="en">a &lt; b</soap:Text></soap:Reason>`},
		{"1.2", 500, 500, "application/soap+xml; charset=utf-8", "soap:Receiver"},
		{"", 422, 422, "application/problem+json", `"detail":"a < b"`},
	} {
		a := Faulted(c.version, RefusalAnswer(&RefusedError{Status: c.status, Title: "t", Detail: "a < b"}))
		if a.Status != c.want || a.Headers[0].Value != c.kind || !strings.Contains(string(a.Body), c.says) {
			t.Errorf("%+v: %d %v %s", c, a.Status, a.Headers, a.Body)
		}
	}
	if a := Faulted("1.1", RefusalAnswer(&RefusedError{Status: 422,
		Detail: "a\x00b"})); !strings.Contains(string(a.Body), "<soap:Fault>") {
		t.Errorf("%s", a.Body)
	}
	good := StoredAnswer("x")
	if Faulted("1.1", good) != good {
		t.Error("what is no refusal is changed")
	}
}

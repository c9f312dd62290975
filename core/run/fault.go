package run

import (
	"strings"

	"readyferry/core/contract"
	"readyferry/core/format"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
	"readyferry/core/step"
)

// Faulted gives an answer as callers over SOAP take it: a problem document becomes a fault
// of the version (SOAP 1.1, 4.4 and 6.2; SOAP 1.2 part 1, 5.4, and part 2, 7.5). Any other
// answer stays as it is, and so does every one where the flow names no version.
func Faulted(version string, a *step.Answer) *step.Answer {
	kind := ""
	for _, h := range a.Headers {
		if strings.EqualFold(h.Name, "Content-Type") {
			kind = h.Value
		}
	}
	if version == "" || !strings.HasPrefix(kind, "application/problem+json") {
		return a
	}
	said := problemWords(a.Body)
	sender := a.Status < 500
	text := func(s string) *message.Node { return message.NewString(s) }
	one := func(name string, v *message.Node) message.Member { return message.Member{Name: name, Value: v} }
	out := *a
	space, fault := contract.Envelopes[contract.SOAP11], message.NewMap(one("faultcode",
		text(map[bool]string{true: "soap:Client",
			false: "soap:Server"}[sender])), one("faultstring", text(said)))
	out.Status, kind = 500, "text/xml; charset=utf-8"
	if version == contract.SOAP12 {
		code := map[bool]string{true: "soap:Sender", false: "soap:Receiver"}[sender]
		space, fault = contract.Envelopes[contract.SOAP12], message.NewMap(
			one("soap:Code", message.NewMap(one("soap:Value", text(code)))),
			one("soap:Reason", message.NewMap(one("soap:Text", message.NewMap(one("@xml:lang", text("en")), one("#text",
				text(said)))))))
		if kind = "application/soap+xml; charset=utf-8"; sender {
			out.Status = 400
		}
	}
	written := func(fault *message.Node) ([]byte, error) {
		return format.Encode(format.XML, message.NewMap(one("soap:Envelope", message.NewMap(one("@xmlns:soap", text(space)),
			one("soap:Body", message.NewMap(one("soap:Fault", fault)))))), message.Layout{})
	}
	body, err := written(fault)
	if err != nil { // what was at fault holds a character that XML cannot
		return Faulted(version, RefusalAnswer(&RefusedError{Status: a.Status, Detail: "the message is not taken"}))
	}
	out.Body = body
	out.Headers = []message.Header{{Name: "Content-Type", Value: kind}}
	for _, h := range a.Headers {
		if !strings.EqualFold(h.Name, "Content-Type") {
			out.Headers = append(out.Headers, h)
		}
	}
	return &out
}

// problemWords gives what a problem document says (RFC 9457).
func problemWords(body []byte) string {
	r, err := jsonfmt.Decode(body)
	if err != nil {
		return ""
	}
	for _, name := range []string{"detail", "title"} {
		if n := r.Root.Get(name); n != nil && n.Text != "" {
			return n.Text
		}
	}
	return ""
}

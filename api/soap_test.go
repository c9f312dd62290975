package api

import (
	"encoding/json"
	"strings"
	"testing"
)

const desk = `<definitions targetNamespace="urn:desk" xmlns:tns="urn:desk" xmlns:soap="http://schemas.xmlsoap.org/wsdl/soap/"
  xmlns:x="http://www.w3.org/2001/XMLSchema" xmlns="http://schemas.xmlsoap.org/wsdl/"><types>
  <x:schema targetNamespace="urn:desk" elementFormDefault="qualified">
  <x:element name="Lend"><x:complexType><x:sequence>
   <x:element name="card" type="x:string"/><x:element name="days" type="x:int"/></x:sequence></x:complexType></x:element>
  <x:element name="Lent"><x:complexType><x:sequence><x:element name="loan" type="x:string"/></x:sequence></x:complexType></x:element></x:schema></types>
 <message name="In"><part name="p" element="tns:Lend"/></message><message name="Out"><part name="p" element="tns:Lent"/></message>
 <portType name="T"><operation name="Lend"><input message="tns:In"/><output message="tns:Out"/></operation></portType>
 <binding name="B" type="tns:T"><soap:binding style="document" transport="http://schemas.xmlsoap.org/soap/http"/><operation name="Lend">
  <soap:operation soapAction="urn:desk/Lend"/><input><soap:body use="literal"/></input><output><soap:body use="literal"/></output></operation></binding>
 <service name="S"><port name="p" binding="tns:B"><soap:address location="https://desk.example/soap"/></port></service></definitions>`

// A flow that a WSDL describes takes the envelopes of any sender, answers with one, and
// refuses with a fault.
func TestAServiceOverSOAP(t *testing.T) {
	w := start(t)
	text, _ := json.Marshal(desk)
	var read struct {
		Made struct {
			Schema   json.RawMessage
			Prefixes json.RawMessage
			Soap     struct{ Version, Address, ContentType, Answer string }
		}
		Partner struct {
			Servers    []struct{ Kind, Address string }
			Operations []struct{ Name, Sample string }
		}
	}
	if err := json.Unmarshal(w.ok("POST", "/api/v1/contracts", `{"text":`+string(text)+`,"choose":"Lend"}`),
		&read); err != nil {
		t.Fatal(err)
	}
	if read.Made.Soap.Address != "https://desk.example/soap" || len(read.Partner.Servers) != 1 ||
		!strings.Contains(read.Partner.Operations[0].Sample, "<t:Lend>") {
		t.Errorf("%+v", read)
	}
	answer, _ := json.Marshal(strings.Replace(read.Made.Soap.Answer, "<t:loan>text",
		`<t:loan>${body["soap:Envelope"]["soap:Body"].Lend.card}`, 1))
	w.live("lend", `{"readyferry":"flow/1","name":"lend","intake":{"kind":"webhook","path":"/lend","format":"xml","answer":"finished","faults":"soap-1.1",
		"prefixes":`+string(read.Made.Prefixes)+`,"reference":"body[\"soap:Envelope\"][\"soap:Body\"].Lend.card"},"steps":[
		{"id":"valid","kind":"validate","schema":`+string(read.Made.Schema)+`,"else":{"answer":422}},
		{"id":"reply","kind":"answer","headers":{"content-type":"text/xml; charset=utf-8"},"text":`+string(answer)+`}]}`)
	say := func(inner string) (int, string, string) {
		a := w.call("POST", "/in/lend", `<e:Envelope xmlns:e="http://schemas.xmlsoap.org/soap/envelope/"><e:Body>`+inner+`</e:Body></e:Envelope>`,
			"Content-Type: text/xml", `SOAPAction: "urn:desk/Lend"`)
		return a.status, a.header.Get("Content-Type"), string(a.body)
	}
	for _, inner := range []string{`<Lend xmlns="urn:desk"><card>A&amp;B</card><days>3</days></Lend>`,
		`<q:Lend xmlns:q="urn:desk"><q:card>A&amp;B</q:card><q:days>3</q:days></q:Lend>`} {
		status, kind, body := say(inner)
		if status != 200 || kind != "text/xml; charset=utf-8" || !strings.Contains(body, `<t:loan>A&amp;B</t:loan>`) {
			t.Errorf("%d %s %s", status, kind, body)
		}
	}
	for inner, want := range map[string]string{
		`<Lend xmlns="urn:desk"><card>A</card><days>soon</days></Lend>`: "<faultcode>soap:Client</faultcode><faultstring>",
		`<Lend xmlns="urn:other"><card>A</card><days>3</days></Lend>`:   "<faultcode>soap:Client</faultcode>",
		`<Lend>`: "<faultcode>soap:Client</faultcode>", // no document
	} {
		status, kind, body := say(inner)
		if status != 500 || kind != "text/xml; charset=utf-8" || !strings.Contains(body, want) || !strings.Contains(body,
			"<soap:Fault>") {
			t.Errorf("%s: %d %s %s", inner, status, kind, body)
		}
	}
}

package contract

import (
	"strings"
	"testing"

	"readyferry/core/format"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
)

// A service with two namespaces, both versions of SOAP and both styles, made after the
// examples of the WSDL 1.1 note (1.2 and 3.1, from memory).
const stockWSDL = `<?xml version="1.0"?>
<definitions name="Stock" targetNamespace="urn:stock" xmlns:tns="urn:stock" xmlns:d="urn:data" xmlns:soap="http://schemas.xmlsoap.org/wsdl/soap/"
  xmlns:soap12="http://schemas.xmlsoap.org/wsdl/soap12/" xmlns:xsd="http://www.w3.org/2001/XMLSchema" xmlns="http://schemas.xmlsoap.org/wsdl/">
 <types>
  <xsd:schema targetNamespace="urn:stock" elementFormDefault="qualified">
   <xsd:import namespace="urn:data"/>
   <xsd:element name="Order"><xsd:complexType><xsd:sequence>
     <xsd:element name="symbol" type="xsd:string"/>
     <xsd:element name="lot" type="d:Lot" minOccurs="0" maxOccurs="3"/>
     <xsd:element name="limit" type="xsd:decimal" nillable="true"/>
     <xsd:element ref="d:note" minOccurs="0"/>
    </xsd:sequence></xsd:complexType></xsd:element>
   <xsd:element name="Ordered"><xsd:complexType><xsd:sequence><xsd:element name="number" type="xsd:int"/></xsd:sequence></xsd:complexType></xsd:element>
   <xsd:element name="Refused" type="xsd:string"/>
  </xsd:schema>
  <xsd:schema targetNamespace="urn:data" elementFormDefault="unqualified">
   <xsd:complexType name="Lot"><xsd:sequence><xsd:element name="n" type="xsd:int"/></xsd:sequence><xsd:attribute name="kind"/></xsd:complexType>
   <xsd:element name="note" type="xsd:string"/>
  </xsd:schema>
 </types>
 <message name="OrderIn"><part name="body" element="tns:Order"/></message>
 <message name="OrderOut"><part name="body" element="tns:Ordered"/></message>
 <message name="OrderFault"><part name="fault" element="tns:Refused"/></message>
 <message name="PriceIn"><part name="symbol" type="xsd:string"/><part name="lots" type="xsd:int"/></message>
 <message name="PriceOut"><part name="price" type="xsd:decimal"/></message>
 <portType name="StockType">
  <operation name="Order"><input message="tns:OrderIn"/><output message="tns:OrderOut"/><fault name="f" message="tns:OrderFault"/></operation>
 </portType>
 <portType name="PriceType"><operation name="Price"><input message="tns:PriceIn"/><output message="tns:PriceOut"/></operation></portType>
 <binding name="Stock11" type="tns:StockType"><soap:binding style="document" transport="http://schemas.xmlsoap.org/soap/http"/>
  <operation name="Order"><soap:operation soapAction="urn:stock/Order"/><input><soap:body use="literal"/></input>
   <output><soap:body use="literal"/></output><fault name="f"><soap:fault name="f" use="literal"/></fault></operation></binding>
 <binding name="Stock12" type="tns:StockType"><soap12:binding style="document" transport="http://schemas.xmlsoap.org/soap/http"/>
  <operation name="Order"><soap12:operation soapAction="urn:stock/Order"/><input><soap12:body use="literal"/></input>
   <output><soap12:body use="literal"/></output></operation></binding>
 <binding name="Price11" type="tns:PriceType"><soap:binding style="rpc" transport="http://schemas.xmlsoap.org/soap/http"/>
  <operation name="Price"><soap:operation soapAction="urn:stock/Price"/><input><soap:body use="literal" namespace="urn:stock"/></input>
   <output><soap:body use="literal" namespace="urn:stock"/></output></operation></binding>
 <service name="S"><port name="a" binding="tns:Stock11"><soap:address location="http://stock.example/soap"/></port>
  <port name="b" binding="tns:Stock12"><soap12:address location="http://stock.example/soap12"/></port></service>
</definitions>`

func operation(t *testing.T, name string) Made {
	t.Helper()
	c, err := Read([]byte(stockWSDL))
	if err != nil {
		t.Fatal(err)
	}
	m, err := c.Make(name)
	if err != nil {
		t.Fatal(err)
	}
	return m
}

func TestOperationsOfAService(t *testing.T) {
	c, err := Read([]byte(stockWSDL))
	if err != nil {
		t.Fatal(err)
	}
	var names []string
	for _, x := range c.Choices {
		names = append(names, x.Name)
	}
	if got := strings.Join(names, " | "); got != "Order | Order, SOAP 1.2 | Price" {
		t.Fatal(got)
	}
	for _, one := range []struct{ name, action, address, kind, sample, answer string }{
		{"Order", "urn:stock/Order", "http://stock.example/soap", "text/xml; charset=utf-8",
			`<soap:Envelope xmlns:soap="http://schemas.xmlsoap.org/soap/envelope/" xmlns:n2="urn:data" ` +
				`xmlns:t="urn:stock"><soap:Body><t:Order>` +
				`<t:symbol>text</t:symbol><t:lot ` +
				`kind="text"><n>1</n></t:lot><t:limit>1.50</t:limit><n2:note>text</n2:note></t:Order></soap:Body></soap:Envelope>`,
			`<t:Ordered><t:number>1</t:number></t:Ordered>`},
		{"Order, SOAP 1.2", "urn:stock/Order", "http://stock.example/soap12",
			`application/soap+xml; charset=utf-8; action="urn:stock/Order"`,
			`xmlns:soap="http://www.w3.org/2003/05/soap-envelope"`, `xmlns:soap="http://www.w3.org/2003/05/soap-envelope"`},
		{"Price", "urn:stock/Price", "", "text/xml; charset=utf-8",
			`<soap:Body><t:Price><symbol>text</symbol><lots>1</lots></t:Price></soap:Body>`,
			`<t:PriceResponse><price>1.50</price></t:PriceResponse>`},
	} {
		m := operation(t, one.name)
		if len(m.Notes) > 0 {
			t.Errorf("%s: %q", one.name, m.Notes)
		}
		if m.SOAP.Action != one.action || m.SOAP.Address != one.address || m.SOAP.ContentType != one.kind {
			t.Errorf("%s: %+v", one.name, m.SOAP)
		}
		if !strings.Contains(string(m.Sample), one.sample) {
			t.Errorf("%s\n%s\nhas no\n%s", one.name, m.Sample, one.sample)
		}
		if !strings.Contains(string(m.SOAP.Answer), one.answer) {
			t.Errorf("%s\n%s\nhas no\n%s", one.name, m.SOAP.Answer, one.answer)
		}
	}
}

// Envelopes are told apart as the service does, whatever prefixes their senders write.
func TestEnvelopesOfManySenders(t *testing.T) {
	m := operation(t, "Order")
	envelope := func(order string) string {
		return `<e:Envelope xmlns:e="http://schemas.xmlsoap.org/soap/envelope/"><e:Header/><e:Body>` + order + `</e:Body></e:Envelope>`
	}
	for order, want := range map[string]bool{
		`<Order xmlns="urn:stock"><symbol>A</symbol><limit>1</limit></Order>`:                                                 true,
		`<x:Order xmlns:x="urn:stock"><x:symbol>A</x:symbol><x:limit>1</x:limit></x:Order>`:                                   true,
		`<x:Order xmlns:x="urn:stock"><symbol xmlns="urn:stock">A</symbol><y:limit xmlns:y="urn:stock">1</y:limit></x:Order>`: true,
		`<Order xmlns="urn:stock"><symbol>A</symbol><lot><n xmlns="">1</n></lot><limit>1</limit></Order>`:                     true,
		`<o:Order xmlns:o="urn:stock" xmlns:d="urn:data"><o:symbol>A</o:symbol><o:lot><n>1</n></o:lot><o:lot ` +
			`kind="x"><n>2</n></o:lot>` +
			`<o:limit>1</o:limit><d:note>x</d:note></o:Order>`: true,
		`<Order xmlns="urn:stock"><symbol>A</symbol><limit xmlns:i="http://www.w3.org/2001/XMLSchema-instance" i:nil="true"/></Order>`: true,
		`<Order xmlns="urn:stock"><symbol>A</symbol><limit/></Order>`:                                                                  false,
		`<Order xmlns="urn:stock"><symbol>A</symbol></Order>`:                                                                          false,
		`<Order xmlns="urn:other"><symbol>A</symbol><limit>1</limit></Order>`:                                                          false,
		`<Order xmlns="urn:stock"><limit>1</limit></Order>`:                                                                            false,
		`<o:Order xmlns:o="urn:stock"><o:symbol>A</o:symbol><o:lot><n>x</n></o:lot><o:limit>1</o:limit></o:Order>`:                     false,
		`<o:Order xmlns:o="urn:stock"><o:symbol>A</o:symbol>` + strings.Repeat(`<o:lot><n>1</n></o:lot>`,
			4) + `<o:limit>1</o:limit></o:Order>`: false,
		``: false,
	} {
		d, err := format.Decode(format.XML, []byte(envelope(order)), message.Layout{Prefixes: m.Prefixes}, format.Limits{})
		if err != nil {
			t.Fatal(err)
		}
		if f := fits(t, m.Schema, d.Root); (len(f) == 0) != want {
			t.Errorf("%s: %+v, fits should be %v\n%s", order, f, want, jsonfmt.Encode(d.Root))
		}
	}
}

func TestWhatIsNotSaidLiterallyIsNamed(t *testing.T) {
	c, err := Read([]byte(strings.ReplaceAll(stockWSDL, `<input><soap:body use="literal" namespace="urn:stock"/></input>`,
		`<input><soap:body use="encoded" namespace="urn:stock"/></input>`)))
	if err != nil || len(c.Choices) != 2 {
		t.Fatalf("%+v %v", c, err)
	}
	m, err := c.Make("Order")
	if err != nil || !strings.Contains(strings.Join(m.Notes, "\n"), "the operation Price is encoded") {
		t.Errorf("%q %v", m.Notes, err)
	}
}

// What partners take, as a delivery says it.
func TestWhatPartnersTake(t *testing.T) {
	for name, c := range map[string]struct{ src, servers, operations string }{
		"OpenAPI": {openAPI + "servers: [{url: 'https://{env}.example/v1/', variables: {env: {default: test}}}, {url: /x}]\n",
			"http https://test.example/v1", `POST /holds/{id} {"method":"POST","path":"/holds/${body.id}"} json, ` +
				`GET /holds/{id} {"method":"GET","path":"/holds/${body.id}"}`},
		"AsyncAPI": {asyncAPI + "servers: {a: {host: 'b.example:1883', protocol: mqtt}}\n",
			"mqtt mqtt://b.example:1883", `returns/scanned {"topic":"returns"} json`},
		"WSDL": {stockWSDL, "http http://stock.example/soap, http http://stock.example/soap12",
			`Order {"method":"POST","headers":{"content-type":"text/xml; ` +
				`charset=utf-8","soapaction":"\"urn:stock/Order\""}} xml, ` +
				`Order, SOAP 1.2 {"method":"POST","headers":{"content-type":"application/soap+xml; charset=utf-8; ` +
				`action=\"urn:stock/Order\""}} xml, ` +
				`Price {"method":"POST","headers":{"content-type":"text/xml; charset=utf-8","soapaction":"\"urn:stock/Price\""}} xml`},
	} {
		read, err := Read([]byte(c.src))
		if err != nil {
			t.Fatal(err)
		}
		p := read.Partner()
		var servers, operations []string
		for _, s := range p.Servers {
			servers = append(servers, s.Kind+" "+s.Address)
		}
		for _, o := range p.Operations {
			operations = append(operations, strings.TrimSpace(o.Name+" "+string(jsonfmt.Encode(o.Settings))+" "+o.Format))
		}
		if got := strings.Join(servers, ", "); got != c.servers {
			t.Errorf("%s: %s", name, got)
		}
		if got := strings.Join(operations, ", "); got != c.operations {
			t.Errorf("%s\n%s\nwant\n%s", name, got, c.operations)
		}
	}
}

func FuzzRead(f *testing.F) {
	for _, s := range []string{stockWSDL, wsdlText, xsdText, openAPI, asyncAPI, `{"type":"object"}`} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, src string) {
		if len(src) > 20_000 {
			return
		}
		c, err := Read([]byte(src))
		if err != nil {
			return
		}
		for i, x := range c.Choices {
			if i == 3 {
				break
			}
			_, _ = c.Make(x.Name)
		}
	})
}

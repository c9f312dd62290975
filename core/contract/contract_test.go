package contract

import (
	"encoding/json"
	"os"
	"strings"
	"testing"

	"readyferry/core/format"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
	"readyferry/core/schema"
)

func tree(t testing.TB, src string) *message.Node {
	t.Helper()
	r, err := jsonfmt.Decode([]byte(src))
	if err != nil {
		t.Fatal(err)
	}
	return r.Root
}

func fits(t *testing.T, s, n *message.Node) []schema.Failure {
	t.Helper()
	c, err := schema.Compile(s, nil)
	if err != nil {
		t.Fatalf("%s: %v", jsonfmt.Encode(s), err)
	}
	f, err := c.Validate(n)
	if err != nil {
		t.Fatal(err)
	}
	return f
}

func TestInferred(t *testing.T) {
	samples := []*message.Node{
		tree(
			t,
			`{"id":1,"state":"open","p":1,"lines":[{"sku":"a"}],"n":null}`,
		), tree(t, `{"id":2,"state":"open","p":1.5,"lines":[{"sku":"b","x":true}],"n":"s"}`), tree(t,
			`{"id":3,"state":"shut","p":2,"lines":[],"n":null}`), tree(t, `{"id":4,"state":"shut","p":2,"lines":[]}`),
	}
	plain := Infer(samples, Inferring{})
	want := `{"$schema":"https://json-schema.org/draft/2020-12/schema","type":"object","required":["id","state",` +
		`"p","lines"],"properties":{"id":{"type":"integer"},"state":{"type":"string"},"p":{"type":"number"},` +
		`"lines":{"type":"array","items":{"type":"object","required":["sku"],` +
		`"properties":{"sku":{"type":"string"},"x":{"type":"boolean"}}}},"n":{"type":["null","string"]}}}`
	if got := string(jsonfmt.Encode(plain)); got != want {
		t.Errorf("%s\nwant\n%s", got, want)
	}
	if got := string(jsonfmt.Encode(Infer(samples, Inferring{Enums: true}))); !strings.Contains(
		got,
		`"state":{"type":"string","enum":["open","shut"]}`,
	) ||
		strings.Contains(got, `"enum":["a"`) {
		t.Error(got)
	}
	for _, s := range []*message.Node{plain, Infer(samples, Inferring{Enums: true})} {
		for _, n := range samples {
			if f := fits(t, s, n); len(f) > 0 {
				t.Errorf("a sample does not fit what was inferred from it: %+v", f)
			}
		}
	}
}

// What is inferred from XML takes one and many, and no sender's declarations.
func TestInferredFromXML(t *testing.T) {
	read := func(src string) *message.Node {
		d, err := format.Decode(format.XML, []byte(src), message.Layout{}, format.Limits{})
		if err != nil {
			t.Fatal(err)
		}
		return d.Root
	}
	many := read(`<o xmlns="urn:o" xmlns:x="urn:x"><l><s>a</s></l><l><s>b</s><p/></l><d>2026-03-17</d></o>`)
	s := Infer([]*message.Node{many}, Inferring{XML: true})
	for src, want := range map[string]bool{
		`<o><l><s>a</s></l><d>x</d></o>`: true, `<o><l><s>a</s></l><l><s>a</s></l><l><s>a</s></l><d/></o>`: true,
		`<o><l><p/></l><d>x</d></o>`: false, `<o><d>x</d></o>`: false,
	} {
		if f := fits(t, s, read(src)); (len(f) == 0) != want {
			t.Errorf("%s: %+v\n%s", src, f, jsonfmt.Encode(s))
		}
	}
	if got := string(jsonfmt.Encode(s)); strings.Contains(got, `"format"`) || strings.Contains(got,
		`"required":["@xmlns`) {
		t.Error(got)
	}
	for src, want := range map[string]string{
		`{"a":"2026-03-17T06:00:00Z"}`: "date-time", `{"a":"2026-03-17"}`: "date",
		`{"a":"desk@larkfield.example"}`: "email", `{"a":"x"}`: "",
		`{"a":"2026-02-30"}`: "",
	} {
		got := Infer([]*message.Node{tree(t, src)}, Inferring{Formats: true}).Get("properties").Get("a").Get("format")
		if (got == nil) != (want == "") || got != nil && got.Text != want {
			t.Errorf("%s: %v", src, got)
		}
	}
	if got := string(jsonfmt.Encode(Infer([]*message.Node{tree(t, `{"a":"x"}`), tree(t, `{"a":null}`)},
		Inferring{Enums: true}))); !strings.Contains(got,
		`"a":{"type":["null","string"]}`) {
		t.Error(got)
	}
}

// Every document fits the schema that is inferred from it. Source of the
// documents: the official JSON Schema suite (see core/schema/testdata).
func TestWhatIsInferredFits(t *testing.T) {
	b, err := os.ReadFile("../schema/testdata/draft2020-12.json")
	if err != nil {
		t.Fatal(err)
	}
	var suite struct {
		Cases []struct{ Schema, Data json.RawMessage }
	}
	if err := json.Unmarshal(b, &suite); err != nil || len(suite.Cases) < 100 {
		t.Fatal(len(suite.Cases), err)
	}
	for _, c := range suite.Cases {
		r, err := jsonfmt.Decode(c.Data)
		if err != nil {
			continue
		}
		for _, enums := range []bool{false, true} {
			if f := fits(t, Infer([]*message.Node{r.Root, r.Root}, Inferring{Enums: enums, Formats: enums}),
				r.Root); len(f) > 0 {
				t.Errorf("%s: %+v", c.Data, f)
			}
		}
		if s, err := jsonfmt.Decode(c.Schema); err == nil {
			Sample(s.Root) // whatever the schema is, it ends
		}
	}
}

func TestSamplesFitTheirSchemas(t *testing.T) {
	for _, s := range []string{
		`{"type":"object","required":["a"],"properties":{"a":{"type":"string","pattern":"^HR-[0-9]{3,5}$"},` +
			`"b":{"type":"integer","minimum":7},"c":{"type":"array","minItems":2,"items":{"enum":["x","y"]}}}}`,
		`{"type":"string","format":"date-time"}`, `{"type":"string","minLength":9,"maxLength":12}`,
		`{"type":["null","number"],"exclusiveMinimum":3}`, `{"const":{"k":[1]}}`, `{"type":"number","multipleOf":0.25}`,
		`{"allOf":[{"type":"object","required":["a"],"properties":{"a":{"type":"boolean"}}},` +
			`{"properties":{"b":{"default":3}}}]}`, `{"oneOf":[{"type":"integer"},{"type":"string"}]}`,
		`{"$defs":{"n":{"type":"object","required":["v"],"properties":{"v":{"type":"integer"},` +
			`"next":{"$ref":"#/$defs/n"}}}},"$ref":"#/$defs/n"}`, `{"type":"string","pattern":"^(?:[A-Z]{2}|x)+\\d?-$"}`,
		`{"type":"string","format":"uuid"}`, `{"type":"string","format":"email"}`,
	} {
		n := tree(t, s)
		v := Sample(n)
		if f := fits(t, n, v); len(f) > 0 {
			t.Errorf("%s: %s does not fit: %+v", s, jsonfmt.Encode(v), f)
		}
	}
}

const openAPI = `
openapi: 3.0.3
info: {title: Holds, version: '1'}
paths:
  /holds/{id}:
    post:
      summary: Ask for a hold
      requestBody: {$ref: '#/components/requestBodies/Hold'}
    get: {}
components:
  requestBodies:
    Hold:
      content:
        text/plain: {schema: {type: string}}
        application/json: {schema: {$ref: '#/components/schemas/Hold'}}
  schemas:
    Hold:
      type: object
      required: [request, patron]
      discriminator: {propertyName: x}
      properties:
        request: {type: string, example: HR-1}
        patron: {$ref: '#/components/schemas/Patron'}
        count: {type: integer, minimum: 0, exclusiveMinimum: true}
        note: {type: string, nullable: true}
    Patron: {type: object, properties: {card: {type: string}, friend: {$ref: '#/components/schemas/Patron'}}}
`

const asyncAPI = `
asyncapi: 3.0.0
channels:
  returns:
    messages:
      scanned: {$ref: '#/components/messages/Scan'}
components:
  messages:
    Scan: {payload: {$ref: '#/components/schemas/Scan'}, headers: {type: object}}
    Old: {payload: {schemaFormat: 'application/vnd.apache.avro;version=1.9.0', schema: {}}}
  schemas:
    Scan: {type: object, required: [item], properties: {item: {type: string, pattern: '^[0-9]{5}$'}, at: {type: string, format: date-time}}}
`

const xsdText = `<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema" xmlns:t="urn:larkfield" targetNamespace="urn:larkfield">
 <xs:include schemaLocation="more.xsd"/>
 <xs:element name="order"><xs:complexType><xs:sequence>
   <xs:element name="line" type="t:Line" maxOccurs="unbounded"/>
   <xs:element name="when" type="xs:dateTime"/><xs:element name="note" type="xs:string" minOccurs="0"/>
   <xs:choice><xs:element name="cash" type="xs:decimal"/><xs:element name="card" type="xs:token"/></xs:choice>
  </xs:sequence><xs:attribute name="id" type="xs:positiveInteger" use="required"/><xs:attribute name="kind" type="t:Kind"/></xs:complexType></xs:element>
 <xs:complexType name="Base"><xs:sequence><xs:element name="sku" type="t:Sku"/></xs:sequence></xs:complexType>
 <xs:complexType name="Line"><xs:complexContent><xs:extension base="t:Base"><xs:sequence><xs:element name="price">
     <xs:complexType><xs:simpleContent><xs:extension base="xs:decimal"><xs:attribute name="cur"/></xs:extension>
     </xs:simpleContent></xs:complexType></xs:element><xs:element name="part" type="t:Line" minOccurs="0"/>
     </xs:sequence></xs:extension></xs:complexContent></xs:complexType>
 <xs:simpleType name="Sku"><xs:restriction base="xs:string"><xs:pattern value="[A-Z]{2}-\d+"/></xs:restriction></xs:simpleType>
 <xs:simpleType name="Kind"><xs:restriction base="xs:string"><xs:enumeration value="new"/><xs:enumeration value="old"/></xs:restriction></xs:simpleType>
</xs:schema>`

const wsdlText = `<w:definitions xmlns:w="http://schemas.xmlsoap.org/wsdl/" xmlns:s="urn:s"><w:types>
  <xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema" targetNamespace="urn:s">
 <xs:element name="Ask"><xs:complexType><xs:sequence><xs:element name="item" type="xs:int"/></xs:sequence>
     </xs:complexType></xs:element><xs:element name="Answer" type="xs:string"/></xs:schema></w:types>
 <w:message name="AskIn"><w:part name="p" element="s:Ask"/></w:message><w:message name="AskOut"><w:part name="p" element="s:Answer"/></w:message>
 <w:portType name="P"><w:operation name="Ask"><w:input message="s:AskIn"/><w:output message="s:AskOut"/></w:operation></w:portType></w:definitions>`

func TestContracts(t *testing.T) {
	for _, c := range []struct{ src, kind, choices, choose, format, sample, notes string }{
		{openAPI, OpenAPI, "POST /holds/{id}", "POST /holds/{id}", "json", `{"request":"HR-1","patron":{"card":"text",` +
			`"friend":{"card":"text"}},"count":1,"note":"text"}`, "discriminator"},
		{asyncAPI, AsyncAPI, "returns/scanned Scan Old", "returns/scanned", "json",
			`{"item":"11111","at":"2026-03-17T09:41:07Z"}`, "headers"},
		{xsdText, XSD, "order", "order", "xml", `<t:order xmlns:t="urn:larkfield" id="1" kind="new"><line><sku>AA-1</sku><price ` +
			`cur="text">1.50</price></line><when>2026-03-17T09:41:07Z</when><note>text</note><cash>1.50</cash><card>` +
			`text</card></t:order>`, "include more.xsd is not followed"},
		{wsdlText, WSDL, "Ask", "Ask", "xml", `<soap:Envelope xmlns:soap="http://schemas.xmlsoap.org/soap/envelope/" xmlns:t="urn:s">` +
			`<soap:Body><t:Ask><item>1</item></t:Ask></soap:Body></soap:Envelope>`, ""},
		{`{"title":"T","type":"object","properties":{"a":{"type":"boolean"}}}`, JSONSchema, "schema", "schema", "json",
			`{"a":true}`, ""},
	} {
		got, err := Read([]byte(c.src))
		if err != nil {
			t.Errorf("%s: %v", c.kind, err)
			continue
		}
		var names []string
		for _, x := range got.Choices {
			names = append(names, x.Name)
		}
		if got.Kind != c.kind || strings.Join(names, " ") != c.choices {
			t.Errorf("%s %q, want %s %q", got.Kind, names, c.kind, c.choices)
		}
		m, err := got.Make(c.choose)
		if err != nil {
			t.Errorf("%s: %v", c.kind, err)
			continue
		}
		sample := strings.TrimPrefix(string(m.Sample), "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n")
		if c.kind != XSD && c.kind != OpenAPI && sample != c.sample ||
			c.kind == XSD && !strings.HasPrefix(sample, c.sample[:60]) ||
			c.kind == OpenAPI && !strings.HasPrefix(sample, c.sample[:60]) ||
			m.Format != c.format {
			t.Errorf("%s: %s %s, want %s", c.kind, m.Format, sample, c.sample)
		}
		if !strings.Contains(strings.Join(m.Notes, "\n"), c.notes) {
			t.Errorf("%s: notes %q, want %s", c.kind, m.Notes, c.notes)
		}
		if strings.Contains(strings.Join(m.Notes, "\n"), "does not fit") {
			t.Errorf("%s: %q", c.kind, m.Notes)
		}
		// What was made up is read and fits.
		d, err := format.Decode(m.Format, m.Sample, message.Layout{Prefixes: m.Prefixes}, format.Limits{})
		if err != nil {
			t.Fatal(err)
		}
		if f := fits(t, m.Schema, d.Root); len(f) > 0 {
			t.Errorf("%s: the sample does not fit: %+v\n%s\n%s", c.kind, f, m.Sample, jsonfmt.Encode(m.Schema))
		}
	}
}

// The schema of an XSD tells documents apart that the XSD does.
func TestXSDTellsDocumentsApart(t *testing.T) {
	c, err := Read([]byte(xsdText))
	if err != nil {
		t.Fatal(err)
	}
	m, err := c.Make("order")
	if err != nil {
		t.Fatal(err)
	}
	const line = `<line><sku>AA-1</sku><price>1.5</price></line>`
	for doc, want := range map[string]bool{
		`<order id="7">` + line + `<when>2026-01-01T00:00:00Z</when></order>`: true, `<order id="7">` + line + line +
			`<when>2026-01-01T00:00:00Z</when></order>`: true,
		`<order>` + line + `<when>2026-01-01T00:00:00Z</when></order>`: false, `<order id="0">` + line +
			`<when>2026-01-01T00:00:00Z</when></order>`: false, `<order id="7"><when>2026-01-01T00:00:00Z</when></order>`: false,
		`<order id="7">` + line + `<when>yesterday</when></order>`: false, `<order id="7" kind="odd">` + line +
			`<when>2026-01-01T00:00:00Z</when></order>`: false, `<order id="7"><line><sku>aa</sku><price>` +
			`1</price></line><when>2026-01-01T00:00:00Z</when></order>`: false,
	} {
		d, err := format.Decode(format.XML, []byte(doc), message.Layout{}, format.Limits{})
		if err != nil {
			t.Fatal(err)
		}
		if f := fits(t, m.Schema, d.Root); (len(f) == 0) != want {
			t.Errorf("%s: %+v, fits should be %v", doc, f, want)
		}
	}
}

func TestWhatIsNotSupportedIsNamed(t *testing.T) {
	for src, want := range map[string]string{
		`{"swagger":"2.0"}`: "OpenAPI 2.0 is not read here", `{"asyncapi":"2.6.0"}`: "AsyncAPI 2.6.0 is not read here",
		`{"openapi":"3.1.0"}`: "has no operation", `{"x":1}`: "no contract that is known here",
		`[1]`: "a contract is a map", `<a/>`: "the XML document a is no contract", `{`: "cannot be read",
		`<w:description xmlns:w="http://www.w3.org/ns/wsdl"/>`:     "WSDL 2.0",
		`<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema"/>`: "declares no element",
		`{"type":"nonsense"}`: "does not compile",
		`{"openapi":"3.1.0","paths":{"/x":{"post":{"requestBody":{"content":{"application/` +
			`json":{"schema":{"$ref":"http://x.invalid/s.json"}}}}}}}}`: "leads to another document",
		`{"openapi":"3.1.0","paths":{"/` +
			`x":{"post":{"requestBody":{"content":{"image/png":{}}}}}}}`: "image/png",
		`{"asyncapi":"3.0.0","components":{"messages":{"m":{"payload":{"schemaFormat":"application/vnd.apache.avro",` +
			`"schema":{}}}}}}`: "application/vnd.apache.avro, which is not read here",
	} {
		c, err := Read([]byte(src))
		if err == nil {
			if len(c.Choices) == 0 {
				t.Fatal(src)
			}
			_, err = c.Make(c.Choices[0].Name)
		}
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %s", src, err, want)
		}
	}
}

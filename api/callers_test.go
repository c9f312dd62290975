package api

import (
	"encoding/json"
	"net/http"
	"strings"
	"testing"
	"time"

	"readyferry/connect/sign"
	"readyferry/core/contract"
)

// What is told to callers is true: the signed example passes the check, the contract is read again
// by what reads partners' contracts, with the flow's own schema, and no secret stands in either.
func TestWhatCallersAreTold(t *testing.T) {
	w := start(t)
	w.ok("PUT", "/api/v1/connections/portal", `{"readyferry":"connection/1","name":"portal","kind":"caller",
		"sign-in":{"kind":"hmac","secret":"whsec_aHVzaCBodXNoIGh1c2ggaHVzaA=="}}`)
	w.ok("PUT", "/api/v1/flows/f", `{"readyferry":"flow/1","name":"f","title":"Holds","note":"asks for a title",
		"intake":{"kind":"webhook","path":"/f/{portal}","format":"json","callers":["portal"],"once":"body.id"},"steps":[
		{"id":"valid","kind":"validate","schema":{"type":"object","required":["id"],"properties":{"id":{"type":"string"}}},"else":{"answer":422}},
		{"id":"a","kind":"answer","status":201,"text":"ok"},
		{"id":"d","kind":"deliver","to":{"queue":"q","readers":"outside"}}]}`)
	w.ok("PUT", "/api/v1/flows/f/samples/one", `{"body":"{\"id\":\"1\"}","params":{"portal":"web"},
		"headers":{"content-type":"application/json","webhook-signature":"v1,mine"}}`)
	w.ok("POST", "/api/v1/flows/f/publish", `{}`)
	text := string(w.ok("GET", "/api/v1/flows/f/for-callers", ""))
	var told struct {
		SignIns []struct {
			Secret string
			Signed map[string]string
		}
		Example struct {
			Path, Body string
			Headers    map[string]string
		}
		Answers []struct {
			Status  int
			Meaning string
		}
	}
	if err := json.Unmarshal([]byte(text), &told); err != nil {
		t.Fatal(err)
	}
	if told.Example.Path != "/in/f/web" || told.Example.Headers["webhook-signature"] != "" {
		t.Errorf("%+v", told.Example)
	}
	r := &sign.Request{Header: http.Header{}, Body: []byte(told.Example.Body)}
	for k, v := range told.SignIns[0].Signed {
		r.Header.Set(k, v)
	}
	if err := sign.VerifyWebhook(r, []string{told.SignIns[0].Secret}, time.Now()); err != nil {
		t.Error(err)
	}
	statuses := map[int]bool{}
	for _, a := range told.Answers {
		statuses[a.Status] = true
	}
	for _, want := range []int{201, 202, 400, 401, 413, 422, 429, 503} {
		if !statuses[want] {
			t.Errorf("the answer %d is not told", want)
		}
	}
	openAPI, asyncAPI := w.ok("GET", "/api/v1/flows/f/openapi", ""), w.ok("GET", "/api/v1/flows/f/asyncapi", "")
	for name, document := range map[string][]byte{"OpenAPI": openAPI, "AsyncAPI": asyncAPI} {
		if strings.Contains(string(document)+text, "aHVzaC") {
			t.Errorf("%s holds the secret", name)
		}
		read, err := contract.Read(document)
		if err != nil {
			t.Fatalf("%s: %v\n%s", name, err, document)
		}
		if !strings.Contains(read.Kind, name) || len(read.Choices) == 0 {
			t.Fatalf("%s is read as %s with %v", name, read.Kind, read.Choices)
		}
		samples := ""
		for _, choice := range read.Choices {
			made, err := read.Make(choice.Name)
			if err != nil {
				t.Fatal(err)
			}
			samples += string(made.Sample)
		}
		if !strings.Contains(samples, `"id"`) {
			t.Errorf("%s: the samples of it are %s", name, samples)
		}
	}
	w.problem(404, "", "GET", "/api/v1/flows/nobody/openapi", "")
}

// A sample is made up of a schema of the flow, of one that a step has, and of a type of message.
func TestSamplesAreMadeUp(t *testing.T) {
	w := start(t)
	w.ok("PUT", "/api/v1/flows/f", `{"readyferry":"flow/1","name":"f","intake":{"kind":"webhook","path":"/f"},"steps":[]}`)
	w.ok("PUT", "/api/v1/flows/f/files/schemas/a.json", `{"type":"object","required":["card"],"properties":{"card":{"type":"string"}}}`)
	for in, want := range map[string]string{
		`{"file":"schemas/a.json"}`: `\"card\":`,
		`{"schema":{"type":"object","required":["n"],"properties":{"n":{"type":"integer","minimum":7}}}}`: `\"n\": 7`,
		`{"hl7":"ORU^R01"}`: `ORU^R01`,
	} {
		if got := string(w.ok("POST", "/api/v1/flows/f/make-up", in)); !strings.Contains(got, want) {
			t.Errorf("%s gives %s", in, got)
		}
	}
	w.problem(422, "no file", "POST", "/api/v1/flows/f/make-up", `{"file":"schemas/b.json"}`)
	w.problem(422, "no message", "POST", "/api/v1/flows/f/make-up", `{"hl7":"XYZ"}`)
}

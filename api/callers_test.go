package api

import (
	"crypto"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"readyferry/connect"
	"readyferry/connect/caller"
	"readyferry/connect/sign"
	"readyferry/core/contract"
	jsonfmt "readyferry/core/format/json"
	"readyferry/engine/design"
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

// Examples of every way to sign pass the check of the door, over the whole request as it is sent.
func TestSignedExamples(t *testing.T) {
	const settings = `{"kind":"hmac","scheme":"message-signature","algorithm":"%s","secret":"%s"}`
	for name, signIn := range map[string]string{
		"webhooks":  `{"kind":"hmac","secret":"whsec_aHVzaCBodXNoIGh1c2ggaHVzaA=="}`,
		"hmac":      fmt.Sprintf(settings, "hmac-sha256", "aHVzaCBodXNoIGh1c2ggaHVzaA=="),
		"ed25519":   fmt.Sprintf(settings, "ed25519", "a public key"),
		"ecdsa":     fmt.Sprintf(settings, "ecdsa-p256-sha256", "a public key"),
		"rsa":       fmt.Sprintf(settings, "rsa-pss-sha512", "a public key"),
		"older-rsa": fmt.Sprintf(settings, "rsa-v1_5-sha256", "a public key"),
		"template": `{"kind":"hmac","scheme":"template","header":"X-Mark","time-header":"X-Time","secret":"hush",
			"value":"v0=${hmac(request.method + request.path + request.time + request.body, secret, \"sha256\")}"}`,
	} {
		t.Run(name, func(t *testing.T) {
			w := start(t)
			w.ok("PUT", "/api/v1/connections/portal", `{"readyferry":"connection/1","name":"portal","kind":"caller","sign-in":`+signIn+`}`)
			w.ok("PUT", "/api/v1/flows/f", `{"readyferry":"flow/1","name":"f","intake":{"kind":"webhook","path":"/f/{at}",
				"format":"json","callers":["portal"]},"steps":[]}`)
			w.ok("PUT", "/api/v1/flows/f/samples/one", `{"body":"{\"id\":\"1\"}","params":{"at":"MARL"},"query":{"q":"a"}}`)
			var told design.ForCallers
			if err := json.Unmarshal(w.ok("GET", "/api/v1/flows/f/for-callers", ""), &told); err != nil {
				t.Fatal(err)
			}
			r, err := http.NewRequest(told.Example.Method, w.server.URL+told.Example.Path, strings.NewReader(told.Example.Body))
			if err != nil {
				t.Fatal(err)
			}
			in := told.SignIns[0]
			for _, headers := range []map[string]string{told.Example.Headers, in.Signed} {
				for k, v := range headers {
					r.Header.Set(k, v)
				}
			}
			settings, err := jsonfmt.Decode([]byte(`{"sign-in":` + signIn + `}`))
			if err != nil {
				t.Fatal(err)
			}
			c := &connect.Connection{Name: "portal", Kind: "caller", Settings: settings.Root,
				SignIn: connect.SignIn{Kind: in.Kind, Scheme: in.Scheme, Header: in.Header, Secrets: []string{publicOf(t, in.Secret)}}}
			if in.Scheme == "standard-webhooks" {
				c.SignIn.Scheme = ""
			}
			body := []byte(told.Example.Body)
			if who, err := (&caller.Verifier{}).Verify([]*connect.Connection{c}, sign.Of(r, body), time.Now()); err != nil || who != "portal" {
				t.Errorf("%q, %v: %+v", who, err, in)
			}
			if _, err := (&caller.Verifier{}).Verify([]*connect.Connection{c}, sign.Of(r, append(body, ' ')), time.Now()); err == nil {
				t.Error("another body passes")
			}
		})
	}
}

// publicOf gives what a receiver checks with: the public key of a private one, or the secret that both have.
func publicOf(t *testing.T, secret string) string {
	if !strings.HasPrefix(secret, "-----") {
		return secret
	}
	key, err := sign.PrivateKey(secret)
	if err != nil {
		t.Fatal(err)
	}
	der, err := x509.MarshalPKIXPublicKey(key.(crypto.Signer).Public())
	if err != nil {
		t.Fatal(err)
	}
	return string(pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: der}))
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

package api

import (
	"encoding/json"
	"strings"
	"testing"
	"time"
)

// One flow publishes to a broker, another receives from it.
func TestMessagesGoByABroker(t *testing.T) {
	w := start(t)
	w.ok("PUT", "/api/v1/stand-ins/shelves", `{"kind":"mqtt","title":"Shelf sensors"}`)
	w.ok("PUT", "/api/v1/connections/sensors",
		`{"readyferry":"connection/1","name":"sensors","kind":"mqtt","address":"stand-in://shelves"}`)
	var tested struct{ OK bool }
	if _ = json.Unmarshal(w.ok("POST", "/api/v1/connections/sensors/test", ""), &tested); !tested.OK {
		t.Error("the test of the connection fails")
	}
	w.problem(422, "does not match", "PUT", "/api/v1/flows/in",
		`{"readyferry":"flow/1","name":"in","intake":{"kind":"mqtt","of":"sensors","filter":"a/#/b"},"steps":[]}`)
	w.ok("PUT", "/api/v1/flows/in", `{"readyferry":"flow/1","name":"in","intake":{"kind":"mqtt","of":"sensors","filter":"shelves/+",
		"reference":"body.n"},"steps":[{"id":"n","kind":"note","text":"${headers[\"mqtt-topic\"]}"}]}`)
	w.ok("PUT", "/api/v1/flows/out", `{"readyferry":"flow/1","name":"out","intake":{"kind":"webhook","path":"/out-it"},
		"steps":[{"id":"d","kind":"deliver","to":"sensors","topic":"shelves/${body.n}","retain":true}]}`)
	for _, flow := range []string{"in", "out"} {
		w.ok("POST", "/api/v1/flows/"+flow+"/publish", "")
	}
	for _, n := range []string{`"7"`, `"8"`} {
		w.ok("POST", "/in/out-it", `{"n":`+n+`}`)
	}
	var list []struct{ State, Reference, Reason string }
	for range 6000 {
		_ = json.Unmarshal(w.ok("GET", "/api/v1/transactions?flow=in&state=delivered", ""), &list)
		if len(list) == 2 {
			break
		}
		time.Sleep(5 * time.Millisecond)
	}
	if len(list) != 2 {
		t.Errorf("%+v", list)
	}
	var one struct {
		Calls []struct{ Method, Path, Body, Key string }
	}
	_ = json.Unmarshal(w.ok("GET", "/api/v1/stand-ins/shelves", ""), &one)
	said := map[string]bool{} // in either order: nothing orders the two
	for _, c := range one.Calls {
		said[c.Method+" "+c.Path] = c.Key != ""
	}
	if len(one.Calls) != 2 || !said["PUBLISH shelves/7"] || !said["PUBLISH shelves/8"] {
		t.Errorf("%+v", one)
	}
	// A person lets the system say something.
	w.problem(400, "neither + nor #", "POST", "/api/v1/stand-ins/shelves/send", `{"topic":"shelves/#"}`)
	w.problem(404, "", "POST", "/api/v1/stand-ins/nobody/send", `{"topic":"a"}`)
	w.ok("POST", "/api/v1/stand-ins/shelves/send",
		`{"topic":"shelves/9","body":"{\"n\":\"9\"}","headers":{"Content-Type":"application/json","x-by":"me"},"qos":1}`)
	for range 6000 {
		if _ = json.Unmarshal(w.ok("GET", "/api/v1/transactions?flow=in&reference=9", ""), &list); len(list) == 1 {
			break
		}
		time.Sleep(5 * time.Millisecond)
	}
	if len(list) != 1 {
		t.Error("what the stand-in sent does not come in")
	}
	// One that the broker keeps is a sample, and nobody misses it.
	var sample struct {
		Body    string
		Headers map[string]string
	}
	_ = json.Unmarshal(w.ok("POST", "/api/v1/flows/in/take-sample", ""), &sample)
	if !strings.Contains(sample.Body, `"n":`) || !strings.HasPrefix(sample.Headers["mqtt-topic"], "shelves/") ||
		sample.Headers["mqtt-retained"] != "true" {
		t.Errorf("%+v", sample)
	}
	w.problem(422, "nothing can be taken from a source of kind webhook", "POST", "/api/v1/flows/out/take-sample", "")
	// It misbehaves as it is told to.
	for behaviour, want := range map[string]string{
		`{"status":403}`: "0x87", `{"status":413}`: "0x95", `{"status":422}`: "0x83",
	} {
		w.ok("PUT", "/api/v1/stand-ins/shelves/behaviour", behaviour)
		w.ok("POST", "/in/out-it", `{"n":"refused"}`)
		var letters []struct{ ID, Reason string }
		for range 6000 {
			if _ = json.Unmarshal(w.ok("GET", "/api/v1/dead-letters?flow=out", ""), &letters); len(letters) > 0 {
				break
			}
			time.Sleep(5 * time.Millisecond)
		}
		if len(letters) != 1 || !strings.Contains(letters[0].Reason, want) {
			t.Fatalf("%s: %+v", behaviour, letters)
		}
		w.ok("POST", "/api/v1/dead-letters/discard", `{"ids":["`+letters[0].ID+`"]}`)
	}
}

// A flow asks by a broker, another answers at the response topic.
func TestAQuestionGoesByABroker(t *testing.T) {
	w := start(t)
	w.ok("PUT", "/api/v1/stand-ins/desk", `{"kind":"mqtt"}`)
	w.ok("PUT", "/api/v1/connections/desk",
		`{"readyferry":"connection/1","name":"desk","kind":"mqtt","address":"stand-in://desk","time-limit":"20s"}`)
	for name, document := range map[string]string{
		"answers": `{"readyferry":"flow/1","name":"answers","intake":{"kind":"mqtt","of":"desk","filter":"questions/#"},
			"steps":[{"id":"m","kind":"map","fields":[{"to":"/got","from":"body.n * 2"}]},
			{"id":"d","kind":"deliver","to":"desk","topic":"${headers[\"mqtt-response-topic\"]}",
				"headers":{"mqtt-correlation-data":"${headers[\"mqtt-correlation-data\"]}"}}]}`,
		"asks": `{"readyferry":"flow/1","name":"asks","intake":{"kind":"webhook","path":"/asks","answer":"finished"},
			"steps":[{"id":"q","kind":"ask","of":"desk","topic":"questions/${body.n}"},
			{"id":"a","kind":"answer","text":"${replies.q.body.got}"}]}`,
	} {
		w.ok("PUT", "/api/v1/flows/"+name, document)
		w.ok("POST", "/api/v1/flows/"+name+"/publish", "")
	}
	w.problem(422, "colour", "PUT", "/api/v1/flows/wrong", `{"readyferry":"flow/1","name":"wrong","intake":{"kind":
		"subflow"},"steps":[{"id":"q","kind":"ask","of":"desk","topic":"q","colour":1}]}`)
	var got string
	for range 100 { // until the other has subscribed
		if a := w.call("POST", "/in/asks", `{"n":21}`); a.status == 200 {
			got = string(a.body)
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	if got != "42" {
		t.Errorf("the answer is %q", got)
	}
}

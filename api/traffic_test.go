package api

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"reflect"
	"strings"
	"testing"
)

// what is what became of a message, as it can be seen from outside: how it ended, what its
// caller heard, and what was handed to whom.
type what struct {
	State    string
	Answer   string
	Handed   []string
	Identity string `json:"-"`
}

// became tells what became of the latest message of a flow.
func (w *world) became(flow string, heard answer) what {
	w.t.Helper()
	var list []struct{ ID string }
	_ = json.Unmarshal(w.ok("GET", "/api/v1/transactions?limit=1&flow="+flow, ""), &list)
	var r struct {
		State      string
		Deliveries []struct {
			Kind, Target string
			Request      struct {
				Method, URL string
				Text        string
			}
		}
	}
	for r.State = "waiting"; r.State == "waiting" || r.State == "under way"; {
		_ = json.Unmarshal(w.ok("GET", "/api/v1/transactions/"+list[0].ID, ""), &r)
	}
	_ = json.Unmarshal(w.ok("GET", "/api/v1/transactions/"+list[0].ID+"/rehearsal", ""), &r)
	out := what{State: r.State, Answer: fmt.Sprint(heard.status, string(heard.body)), Identity: list[0].ID}
	for _, d := range r.Deliveries {
		out.Handed = append(out.Handed, fmt.Sprint(d.Kind, d.Target, d.Request.Method, d.Request.URL, d.Request.Text))
	}
	return out
}

// A draft over the messages of a live flow names exactly those of which the draft, live as a
// flow of its own, makes something else of.
func TestADraftOverRealMessages(t *testing.T) {
	w := start(t)
	const retry = `"retry":{"first":"10ms","cap":"10ms","spread":"none","tries":2}`
	for name, status := range map[string]int{"good": 200, "bad": 422} {
		w.ok("PUT", "/api/v1/stand-ins/"+name, fmt.Sprintf(`{"status":%d}`, status))
		w.ok("PUT", "/api/v1/connections/"+name,
			`{"readyferry":"connection/1","name":"`+name+`","kind":"http","address":"stand-in://`+name+`",`+retry+`}`)
	}
	w.ok(
		"PUT",
		"/api/v1/tables/branch",
		`{"readyferry":"table/1","name":"branch","keys":[["code"]],"columns":["code","van"]}`,
	)
	w.ok(
		"POST",
		"/api/v1/tables/branch/edit",
		`{"edits":[{"value":{"code":"a","van":"Heron"}},{"value":{"code":"b","van":"Wren"}}]}`,
	)
	document := func(name, limit, found, last string) string {
		return `{"readyferry":"flow/1","name":"` + name + `","intake":{"kind":"webhook","path":"/` + name + `"},"steps":[
		{"id":"r","kind":"answer","status":201,"text":"${body.kind} ${body.n < ` + limit + ` ? \"small\" : \"large\"}"},
		{"id":"only","kind":"filter","keep":"body.n > 1"},
		{"id":"van","kind":"lookup","in":"branch","key":{"code":"body.code"},"into":"van","missing":"skip"},
		{"id":"which","kind":"route","ways":[
			{"name":"small","when":"body.n < ` + limit + `","steps":[{"id":"s","kind":"deliver","to":"good","path":"/small/${vars.?van.?van.orValue(\"none\")}"}]},
			{"name":"odd","when":"body.kind == \"odd\"","steps":[{"id":"o","kind":"deliver","to":"` + found + `"}]}],
		 "otherwise":{"steps":[{"id":"q","kind":"deliver","to":{"queue":"rest","readers":"outside"}}]}}` + last + `]}`
	}
	w.live("was", document("was", "5", "bad", ""))
	for change, is := range map[string]func(name string) string{
		"nothing":  func(name string) string { return document(name, "5", "bad", "") },
		"a limit":  func(name string) string { return document(name, "7", "bad", "") },
		"a target": func(name string) string { return document(name, "5", "good", "") },
		"one that dies": func(name string) string {
			return document(name, "5", "bad", `,{"id":"x","kind":"deliver","to":{"queue":"rest","readers":"outside"},"headers":{"X":"${body.rank}"}}`)
		},
	} {
		t.Run(change, func(t *testing.T) {
			w.t = t
			other := "is" + fmt.Sprint(len(change))
			w.live(other, is(other))
			random := rand.New(rand.NewPCG(1, 2))
			want, first := map[string]bool{}, ""
			for range 40 {
				body := fmt.Sprintf(
					`{"n":%d,"kind":%q,"code":%q%s}`,
					random.IntN(10),
					[]string{"odd", "even"}[random.IntN(2)],
					[]string{"a", "b", "c"}[random.IntN(3)],
					[]string{"", `,"rank":"1"`}[random.IntN(2)],
				)
				a := w.became("was", w.call("POST", "/in/was", body))
				b := w.became(other, w.call("POST", "/in/"+other, body))
				if first == "" {
					first = a.Identity
				}
				if !reflect.DeepEqual(what{a.State, a.Answer, a.Handed, ""}, what{b.State, b.Answer, b.Handed, ""}) {
					want[a.Identity] = true
				}
			}
			var c struct {
				ID                          string
				State                       string
				Total, Same, Other, LeftOut int
				Groups                      []struct {
					N, Count     int
					Text, Common string
				}
			}
			in, _ := json.Marshal(map[string]any{"document": is("was"), "last": 40})
			_ = json.Unmarshal(w.ok("POST", "/api/v1/flows/was/comparisons", string(in)), &c)
			done := w.eventually("/api/v1/flows/was/comparisons/"+c.ID, `"state":"done"`)
			_ = json.Unmarshal([]byte(done), &c)
			got := map[string]bool{}
			for _, g := range c.Groups {
				var list []struct{ Transaction string }
				_ = json.Unmarshal(
					w.ok("GET", fmt.Sprintf("/api/v1/flows/was/comparisons/%s/messages?group=%d", c.ID, g.N), ""),
					&list,
				)
				if len(list) != g.Count {
					t.Errorf("%s: %d messages of %d", g.Text, len(list), g.Count)
				}
				for _, m := range list {
					got[m.Transaction] = true
				}
				sides := string(w.ok("GET", "/api/v1/flows/was/comparisons/"+c.ID+"/messages/"+list[0].Transaction, ""))
				if !strings.Contains(sides, g.Text[:4]) {
					t.Errorf("%s is not what the sides say: %s", g.Text, sides)
				}
			}
			if !reflect.DeepEqual(got, want) || c.Total != 40 || c.LeftOut != 0 || c.Same != 40-len(want) ||
				c.Other != len(want) {
				t.Errorf("%s\ngot  %v\nwant %v", done, got, want)
			}
			if (len(want) == 0) != (change == "nothing") {
				t.Errorf("the change makes %d differences", len(want))
			}
		})
	}
	w.t = t
	w.problem(404, "no such thing", "GET", "/api/v1/flows/was/comparisons/x", "")
	w.problem(422, "1 to 100000", "POST", "/api/v1/flows/was/comparisons", `{"last":-1}`)
}

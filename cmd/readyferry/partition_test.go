package main

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"
	"time"

	"readyferry/fleet"
)

// partitioned starts a fleet of three with as many partitions, each led by another member.
func partitioned(t *testing.T) *aFleet {
	t.Helper()
	w := newFleetOf(t, 3, "http://", "a", "b", "c")
	for _, name := range w.names {
		w.start(name)
	}
	w.spread()
	return w
}

// spread waits until each member leads a partition.
func (w *aFleet) spread() {
	w.t.Helper()
	for range 2400 {
		s, err := w.status(w.names[0])
		var leads []string
		for _, p := range s.Partitions {
			leads = append(leads, p.Leader)
		}
		slices.Sort(leads)
		if err == nil && slices.Equal(leads, w.names) {
			return
		}
		time.Sleep(50 * time.Millisecond)
	}
	w.t.Fatal("the partitions are never led by different members")
}

// counted asks a member for something, until it says what is wanted.
func (w *aFleet) counted(name, path, what string, wanted int) {
	w.t.Helper()
	var said []byte
	for range 600 {
		_, b, err := w.send(name, "GET", path, "")
		said = b
		if n := strings.Count(string(b), what); err == nil && n == wanted {
			return
		}
		time.Sleep(50 * time.Millisecond)
	}
	w.t.Fatalf("%s of %s has %q %d times, and does not come to have it %d times: %.1000s", path, name, what,
		strings.Count(string(said), what), wanted, said)
}

// held waits until no partition delivers to the target any more, since a person holds it, and gives how many
// messages that took.
func (w *aFleet) held() (sent int) {
	w.t.Helper()
	for n := range 600 {
		before := len(w.references("f"))
		for i := range 6 {
			w.must("POST", "/in/f", fmt.Sprintf(`{"v":"held","n":%d}`, 1000+6*n+i))
			sent++
		}
		time.Sleep(50 * time.Millisecond)
		if len(w.references("f")) == before {
			return sent
		}
	}
	w.t.Fatal("the target is never held by all")
	return 0
}

// Messages are worked on by several members at once, each has its order, and any member shows all.
func TestPartitionsAreOneApplication(t *testing.T) {
	w := partitioned(t)
	refuses := true
	target := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		if refuses && r.URL.Path == "/no" {
			rw.WriteHeader(http.StatusBadRequest)
			return
		}
		w.target().ServeHTTP(rw, r)
	}))
	t.Cleanup(target.Close)
	w.design(target.URL)
	accepted := map[string]int{}
	for i := range 30 {
		for v := range 6 {
			name := fmt.Sprintf("v%d", v)
			w.must("POST", "/in/f", fmt.Sprintf(`{"v":%q,"n":%d}`, name, i))
			accepted[name] = i + 1
		}
	}
	w.accounted(accepted)
	for _, name := range w.names {
		w.counted(name, "/api/v1/transactions?flow=f&limit=500", `"state":"delivered"`, 180)
	}
	s, err := w.status("a")
	if err != nil {
		t.Fatal(err)
	}
	for _, p := range s.Partitions {
		if p.Log == nil || p.Log.Last < 20 {
			t.Errorf("partition %d has done nothing: %+v", p.Number, p.Log)
		}
	}
	// What all of them do is counted, and seen in the log and at the target.
	w.counted("a", "/metrics", `readyferry_received_total{flow="f",source="webhook"} 180`, 1)
	w.counted("b", "/metrics", `readyferry_tries_total{connection="out",outcome="delivered"} 180`, 1)
	w.counted("c", "/api/v1/targets/out", `"good":180`, 1)
	w.counted("a", "/api/v1/log?flow=f&limit=500", `"what":"end"`, 180)
	// A repeat is told wherever it comes.
	for i := range 6 {
		if _, b, err := w.send(w.names[i%3], "POST", "/in/f", `{"v":"v1","n":3}`); err != nil ||
			strings.Contains(string(b), "error") {
			t.Errorf("a repeat: %s %v", b, err)
		}
	}
	w.callers()
	w.repairs(&refuses)
	w.whole(0)
	w.alike()
}

// A member that leads a partition, or more of them, is killed at random under load, also with all that it has on its
// disk: others lead what it led, and every accepted message comes to its end once, under one key, in its
// order.
func TestNothingIsLostWhenAMemberOfPartitionsIsKilled(t *testing.T) { partitioned(t).survives() }

// callers has some be known and others not, at each member: every member tells of all of them, and that there is no
// room counts everywhere.
func (w *aFleet) callers() {
	w.t.Helper()
	w.must("PUT", "/api/v1/connections/partner", `{"readyferry":"connection/1","name":"partner","kind":"caller",
		"sign-in":{"kind":"api-key","header":"x-api-key","secret":"not this one"}}`)
	w.must("PUT", "/api/v1/flows/guarded", `{"readyferry":"flow/1","name":"guarded",
		"intake":{"kind":"webhook","path":"/guarded","callers":["partner"]},"steps":[{"id":"d","kind":"deliver","to":"out","path":"/guarded"}]}`)
	w.must("POST", "/api/v1/flows/guarded/publish", "")
	for _, name := range w.names {
		var made struct{ Key string }
		if err := json.Unmarshal(w.must("PUT", "/api/v1/keys/at-"+name, `{"rights":[{"may":["send"],"on":["flow:guarded"]}]}`), &made); err != nil {
			w.t.Fatal(err)
		}
		w.counted("a", "/api/v1/keys", `"usedAt":null`, 1)
		for range 2 {
			if status, b, err := w.send(name, "POST", "/in/guarded", `{}`); err != nil || status != http.StatusUnauthorized {
				w.t.Errorf("a stranger at %s: %d %s %v", name, status, b, err)
			}
		}
		// A key counts elsewhere a moment after it was made.
		for n := 0; ; n++ {
			status, b, err := w.presenting(made.Key, name, "/in/guarded")
			if err == nil && status == http.StatusAccepted {
				break
			}
			if n == 600 || err == nil && status != http.StatusUnauthorized {
				w.t.Fatalf("with a key at %s: %d %s %v", name, status, b, err)
			}
			time.Sleep(50 * time.Millisecond)
		}
		w.counted("c", "/api/v1/keys", `"usedAt":null`, 0)
	}
	for _, name := range w.names {
		w.counted(name, "/api/v1/fleet", `"free":null`, 0)
	}
	refused := func(name string) (n int64) {
		var said struct{ Counts map[string]int64 }
		if _, b, err := w.send(name, "GET", "/api/v1/refused-callers", ""); err != nil || json.Unmarshal(b, &said) != nil {
			return -1
		}
		return said.Counts["guarded"]
	}
	w.eventually("all refused callers are told of", func() bool { return refused("b") >= 6 && refused("b") == refused("c") })
	short := func(wanted int) {
		w.t.Helper()
		for _, name := range w.names {
			w.eventually(fmt.Sprintf("%s answers %d", name, wanted), func() bool {
				status, _, err := w.send(name, "POST", "/in/f", `{"v":"room","n":0}`)
				return err == nil && status == wanted
			})
		}
	}
	w.must("PUT", "/api/v1/room", `{"minFree":null,"maxJournal":1000}`)
	short(http.StatusTooManyRequests)
	w.counted("c", "/api/v1/room", `"since":null`, 0)
	w.must("PUT", "/api/v1/room", `{"minFree":null,"maxJournal":0}`)
	short(http.StatusAccepted)
	w.counted("c", "/api/v1/room", `"since":null`, 1)
}

// eventually waits until something is so.
func (w *aFleet) eventually(what string, is func() bool) {
	w.t.Helper()
	for range 600 {
		if is() {
			return
		}
		time.Sleep(50 * time.Millisecond)
	}
	w.t.Fatalf("it does not come to that: %s", what)
}

// presenting posts an empty message with a key.
func (w *aFleet) presenting(key, name, path string) (int, []byte, error) {
	req, err := http.NewRequest("POST", w.bases[name]+path, strings.NewReader("{}"))
	if err != nil {
		return 0, nil, err
	}
	req.Header.Set("X-Api-Key", key)
	req.Header.Set("Content-Type", "application/json")
	res, err := w.client.Do(req)
	if err != nil {
		return 0, nil, err
	}
	defer res.Body.Close()
	b, err := io.ReadAll(res.Body)
	return res.StatusCode, b, err
}

// repairs has messages die in all partitions, and decides about them from any member.
func (w *aFleet) repairs(refuses *bool) {
	w.t.Helper()
	w.must(
		"PUT",
		"/api/v1/flows/g",
		`{"readyferry":"flow/1","name":"g","intake":{"kind":"webhook","path":"/g","format":"json",
		"order":"body.v","reference":"body.v"},"steps":[{"id":"d","kind":"deliver","to":"out","path":"/no"}]}`,
	)
	w.must("POST", "/api/v1/flows/g/publish", "")
	for v := range 12 {
		w.must("POST", "/in/g", fmt.Sprintf(`{"v":"g%d","n":0}`, v))
	}
	w.counted("b", "/api/v1/dead-letters?flow=g&limit=100", `"reference":"g`, 12)
	var causes []struct {
		Cause string
		Count int
	}
	_, b, err := w.send("c", "GET", "/api/v1/dead-letters/causes", "")
	if err != nil || json.Unmarshal(b, &causes) != nil || len(causes) != 1 || causes[0].Count != 12 {
		w.t.Fatalf("causes: %s %v", b, err)
	}
	var letters []struct{ ID, Reference, Transaction string }
	_, b, err = w.send("a", "GET", "/api/v1/dead-letters?flow=g&limit=100", "")
	if err != nil || json.Unmarshal(b, &letters) != nil || len(letters) != 12 {
		w.t.Fatalf("letters: %s %v", b, err)
	}
	for _, l := range letters {
		w.must("GET", "/api/v1/dead-letters/"+l.ID, "")
		w.must("GET", "/api/v1/transactions/"+l.Transaction, "")
		w.must("GET", "/api/v1/transactions/"+l.Transaction+"/rehearsal", "")
		w.must("GET", "/api/v1/transactions/"+l.Transaction+"/journey", "")
	}
	ids := func(some []struct{ ID, Reference, Transaction string }) string {
		var out []string
		for _, l := range some {
			out = append(out, fmt.Sprintf("%q", l.ID))
		}
		return "[" + strings.Join(out, ",") + "]"
	}
	w.must(
		"POST",
		"/api/v1/dead-letters/note",
		fmt.Sprintf(`{"ids":%s,"why":"asked the desk","by":"Ines"}`, ids(letters)),
	)
	w.must(
		"POST",
		"/api/v1/dead-letters/discard",
		fmt.Sprintf(`{"ids":%s,"why":"not needed","by":"Ines"}`, ids(letters[:4])),
	)
	w.counted("c", "/api/v1/dead-letters?flow=g&limit=100", `"reference":"g`, 8)
	w.must("POST", "/api/v1/dead-letters/restore", fmt.Sprintf(`{"ids":%s,"by":"Ines"}`, ids(letters[:2])))
	w.counted("c", "/api/v1/dead-letters?flow=g&limit=100", `"reference":"g`, 10)
	*refuses = false
	w.must("POST", "/api/v1/dead-letters/resend", fmt.Sprintf(`{"ids":%s,"by":"Ines"}`, ids(letters[:2])))
	w.counted("b", "/api/v1/dead-letters?flow=g&limit=100", `"reference":"g`, 8)
	w.must("POST", "/api/v1/repairs", `{"letters":{"flow":"g"},"what":"resend","by":"Ines"}`)
	w.counted("a", "/api/v1/dead-letters?flow=g&limit=100", `"reference":"g`, 0)
	w.counted("a", "/api/v1/transactions?flow=g&state=delivered&limit=100", `"reference":"g`, 10)
}

// What people decide about flows, targets and messages is done in every partition, whichever member they ask.
func TestPartitionsDoWhatPeopleDecide(t *testing.T) {
	w := partitioned(t)
	down := true
	target := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		if down {
			rw.WriteHeader(http.StatusServiceUnavailable)
			return
		}
		w.target().ServeHTTP(rw, r)
	}))
	t.Cleanup(target.Close)
	w.must(
		"PUT",
		"/api/v1/connections/out",
		fmt.Sprintf(`{"readyferry":"connection/1","name":"out","kind":"http","address":%q,
		"retry":{"first":"1h","cap":"1h","tries":100},"breaker":{"trip":1000}}`, target.URL),
	)
	w.must("PUT", "/api/v1/flows/f", `{"readyferry":"flow/1","name":"f","mask":["/card"],
		"intake":{"kind":"webhook","path":"/f/{v}","format":"json","order":"params.v","reference":"params.v"},
		"steps":[{"id":"d","kind":"deliver","to":"out","path":"/"}]}`)
	// A draft takes samples, wherever its call comes in.
	for _, name := range w.names {
		if status, b, err := w.send(name, "POST", "/in/f/draft", `{"v":"x","n":0,"card":"FER-000001"}`); err != nil ||
			status != 202 {
			t.Errorf("a draft called at %s: %d %s %v", name, status, b, err)
		}
	}
	w.must("POST", "/api/v1/flows/f/publish", "")
	for i := range 12 {
		w.must("POST", fmt.Sprintf("/in/f/w%d", i), fmt.Sprintf(`{"v":"w%d","n":0,"card":"FER-00%04d"}`, i, i/2))
	}
	w.counted("b", "/api/v1/transactions?flow=f&state=waiting&limit=100", `"reference":"w`, 12)
	w.counted("c", "/api/v1/targets/out", `"waiting":12`, 1)
	w.counted("a", "/api/v1/targets/out", `"condition":"refuses"`, 1)
	// One is tried by hand, all are let go, the rest is given up.
	down = false
	var list []struct{ ID, Reference string }
	if err := json.Unmarshal(w.must("GET", "/api/v1/transactions?flow=f&state=waiting&limit=100", ""), &list); err != nil {
		t.Fatal(err)
	}
	for _, one := range list[:3] {
		var whole struct{ Deliveries []struct{ ID string } }
		if err := json.Unmarshal(w.must("GET", "/api/v1/transactions/"+one.ID, ""), &whole); err != nil ||
			len(whole.Deliveries) != 1 {
			t.Fatalf("%+v %v", whole, err)
		}
		w.must("POST", "/api/v1/deliveries/"+whole.Deliveries[0].ID+"/try", "")
	}
	w.counted("c", "/api/v1/transactions?flow=f&state=delivered&limit=100", `"reference":"w`, 3)
	w.must("POST", "/api/v1/targets/out/skip-wait", "")
	w.counted("a", "/api/v1/transactions?flow=f&state=delivered&limit=100", `"reference":"w`, 12)
	w.must("POST", "/api/v1/repairs", `{"what":"again","transactions":{"flow":"f","state":"delivered"},"newKeys":true}`)
	w.counted("b", "/api/v1/transactions?flow=f&state=delivered&limit=100", `"reference":"w`, 24)
	w.counted("c", "/api/v1/repairs", `"refused":0`, 1)
	down = true
	for i := range 6 {
		w.must("POST", fmt.Sprintf("/in/f/x%d", i), fmt.Sprintf(`{"v":"x%d","n":0,"card":"FER-000003"}`, i))
	}
	w.counted("b", "/api/v1/targets/out", `"waiting":6`, 1)
	w.must("POST", "/api/v1/targets/out/give-up", `{"note":"it moves"}`)
	w.counted("b", "/api/v1/dead-letters?flow=f&limit=100", `"reference":"x`, 6)
	// A sample is sent from the flow's page, into the partition that it belongs to.
	down = false
	for i := range 6 {
		w.must(
			"PUT",
			fmt.Sprintf("/api/v1/flows/f/samples/s%d", i),
			fmt.Sprintf(`{"body":"{\"v\":\"s%d\",\"n\":0}","params":{"v":"s%d"}}`, i, i),
		)
		w.must("POST", fmt.Sprintf("/api/v1/flows/f/samples/s%d/send", i), "")
	}
	w.counted("c", "/api/v1/transactions?flow=f&state=delivered&limit=100", `"reference":"s`, 6)
	// A person's data goes from all of them.
	w.must("POST", "/api/v1/erasures", `{"flow":"f","value":"FER-000003","preview":false}`)
	w.counted("a", "/api/v1/erasures", `"state":"done"`, 1)
	w.counted("b", "/api/v1/erasures", `"erased":4,"left":6`, 1)
	// It is paused everywhere, and goes on.
	w.must("POST", "/api/v1/flows/f/pause", "")
	w.counted("a", "/in/none", "No flow listens here", 1)
	paused := func(wanted int) {
		t.Helper()
		for i := range 600 {
			if status, _, err := w.send(w.names[i%3], "POST", fmt.Sprintf("/in/f/p%d", i%9), `{"v":"p","n":0}`); err == nil &&
				status == wanted {
				wanted2 := 0
				for j := range 9 {
					if status, _, _ := w.send(w.names[j%3], "POST", fmt.Sprintf("/in/f/p%d", j), `{"v":"p","n":0}`); status == wanted {
						wanted2++
					}
				}
				if wanted2 == 9 {
					return
				}
			}
			time.Sleep(50 * time.Millisecond)
		}
		t.Fatalf("calls are never all answered by %d", wanted)
	}
	paused(http.StatusServiceUnavailable)
	w.must("POST", "/api/v1/flows/f/resume", "")
	paused(http.StatusAccepted)
	w.whole(0)
	w.alike()
}

// What members say to each other of a call counts for nothing where a caller says it.
func TestNobodySpeaksAsAMember(t *testing.T) {
	w := partitioned(t)
	w.must("PUT", "/api/v1/connections/desk", `{"readyferry":"connection/1","name":"desk","kind":"caller",
		"sign-in":{"kind":"api-key","secret":"the-key-of-the-desk"}}`)
	w.must(
		"PUT",
		"/api/v1/flows/f",
		`{"readyferry":"flow/1","name":"f","intake":{"kind":"webhook","path":"/f/{v}","callers":["desk"],
		"order":"params.v"},"steps":[]}`,
	)
	w.must("POST", "/api/v1/flows/f/publish?sure=true", "")
	ask := func(base, path string, h http.Header) int {
		t.Helper()
		r, err := http.NewRequest("POST", base+path, strings.NewReader(`{}`))
		if err != nil {
			t.Fatal(err)
		}
		r.Header = h.Clone()
		res, err := w.client.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		b, _ := io.ReadAll(res.Body)
		_ = res.Body.Close()
		if res.StatusCode == http.StatusServiceUnavailable {
			t.Logf("%s", b)
		}
		return res.StatusCode
	}
	said := http.Header{}
	for _, name := range append(fleet.Said, partHeader) {
		said.Set(name, "1")
	}
	for _, base := range w.bases {
		for v := range 4 {
			path := fmt.Sprintf("/in/f/%d", v)
			if got := ask(base, path, http.Header{"X-Api-Key": {"the-key-of-the-desk"}}); got != http.StatusAccepted {
				t.Errorf("with the key %s answers %d", path, got)
			}
			if got := ask(base, path, said); got != http.StatusUnauthorized {
				t.Errorf("in the words of a member %s answers %d", path, got)
			}
		}
		for _, path := range []string{askPath, "/in/.." + askPath, "/in/%2e%2e" + askPath} {
			if got := ask(base, path, said); got < 400 {
				t.Errorf("%s answers %d to somebody who is no member", path, got)
			}
		}
	}
}

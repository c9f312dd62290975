package main

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"
)

// homeOf gives the partition in which all messages of a flow are worked on.
func (w *aFleet) homeOf(flow string) int {
	w.t.Helper()
	var said struct {
		Flows []struct {
			Name      string
			Partition *int
		}
	}
	if err := json.Unmarshal(w.must("GET", "/api/v1/fleet", ""), &said); err != nil {
		w.t.Fatal(err)
	}
	for _, f := range said.Flows {
		if f.Name == flow && f.Partition != nil {
			return *f.Partition
		}
	}
	w.t.Fatalf("%s is in no partition alone: %+v", flow, said.Flows)
	return 0
}

// meeting publishes a flow whose messages meet in a step.
func (w *aFleet) meeting(name, step string) {
	w.t.Helper()
	w.must("PUT", "/api/v1/flows/"+name, fmt.Sprintf(`{"readyferry":"flow/1","name":%q,
		"intake":{"kind":"webhook","path":"/%[1]s","format":"json","reference":"body.v"},
		"steps":[%s,{"id":"said","kind":"note","text":"went on"}]}`, name, step))
	w.must("POST", "/api/v1/flows/"+name+"/publish?sure=true", "")
}

// A flow whose messages meet only each other is at home in a partition of its own: they meet there wherever they come
// in, any member shows what waits and decides about it, and whoever leads the partition next goes on.
func TestFlowsAreAtHomeInPartitions(t *testing.T) {
	w := partitioned(t)
	const group = `{"id":"g","kind":"aggregate","key":"body.v","close":{"count":9}}`
	w.meeting("first", group)
	w.meeting("gather", group)
	w.meeting("ordered", `{"id":"r","kind":"resequence","key":"body.v","number":"body.n","wait":"1h"}`)
	for i, flow := range []string{"first", "gather", "ordered"} {
		if home := w.homeOf(flow); home != i {
			t.Errorf("%s is at home in %d", flow, home)
		}
	}
	to := func(flow, v string, n int) {
		t.Helper()
		for i := range n {
			for try := i; ; try++ {
				status, b, err := w.send(w.names[try%3], "POST", "/in/"+flow, fmt.Sprintf(`{"v":%q,"n":%d}`, v, i+2))
				if err == nil && status == http.StatusAccepted {
					break
				}
				if err == nil && status != http.StatusServiceUnavailable {
					t.Fatalf("%d %s", status, b)
				}
			}
		}
	}
	to("gather", "closes", 9) // by count
	to("gather", "by-hand", 4)
	to("gather", "over", 6)
	to("ordered", "k", 3) // numbers 2 to 4; 1 is missing
	for _, name := range w.names {
		w.counted(name, "/api/v1/groups", `"members":4`, 1)
		w.counted(name, "/api/v1/groups", `"members":6`, 1)
		w.counted(name, "/api/v1/groups", `"total":2`, 1)
		w.counted(name, "/api/v1/turns", `"waiting":3`, 1)
	}
	var list struct {
		Groups []struct {
			ID  string
			Key string
		}
	}
	if err := json.Unmarshal(w.must("GET", "/api/v1/groups", ""), &list); err != nil {
		t.Fatal(err)
	}
	for _, g := range list.Groups {
		w.must("GET", "/api/v1/groups/"+g.ID+"/members", "")
		if g.Key == "by-hand" {
			w.must("POST", "/api/v1/groups/"+g.ID+"/close", "")
		}
	}
	w.must("POST", "/api/v1/turns/skip", `{"flow":"ordered","path":"r","key":"k"}`)
	w.counted("b", "/api/v1/turns", `"waiting"`, 0)
	w.counted("c", "/api/v1/transactions?flow=ordered&state=delivered&limit=100", `"reference":"k"`, 3)
	// Groups go on as transactions of their own, with their key as reference.
	w.counted("a", "/api/v1/transactions?flow=gather&state=delivered&limit=100", `"reference":"by-hand"`, 5)
	w.counted("b", "/api/v1/transactions?flow=gather&state=delivered&limit=100", `"reference":"closes"`, 10)
	// What it remembers would be left behind.
	queued := strings.Replace(group, `"count":9`, `"count":8`, 1) + `,{"id":"q","kind":"deliver","to":{"queue":"q","readers":"outside"}}`
	w.must("PUT", "/api/v1/flows/gather", fmt.Sprintf(`{"readyferry":"flow/1","name":"gather",
		"intake":{"kind":"webhook","path":"/gather","format":"json","reference":"body.v"},"steps":[%s]}`, queued))
	status, b, err := w.send("a", "POST", "/api/v1/flows/gather/publish", "")
	if err != nil || status != http.StatusConflict || !strings.Contains(string(b), "is in partition 1 and stays there (1 open groups") {
		t.Errorf("published for the first partition: %d %s %v", status, b, err)
	}
	// Whoever leads it next has the group, and its members to come; and the clock of a flow that is at home there, which
	// makes each message once.
	for i, flow := range []string{"ticks", "tocks"} {
		w.must("PUT", "/api/v1/flows/"+flow, fmt.Sprintf(`{"readyferry":"flow/1","name":%q,
			"intake":{"kind":"schedule","every":"1s"},"steps":[{"id":"said","kind":"note","text":"${body.scheduled}"}]}`, flow))
		w.must("POST", "/api/v1/flows/"+flow+"/publish", "")
		if home := w.homeOf(flow); home != i {
			t.Errorf("%s is at home in %d", flow, home)
		}
	}
	taken := func(name string) (n int) {
		var said struct{ Taken int }
		_, b, err := w.send(name, "GET", "/api/v1/flows/tocks/clock", "")
		if err != nil || json.Unmarshal(b, &said) != nil {
			return 0
		}
		return said.Taken
	}
	before := 0
	w.eventually("its clock runs", func() bool { before = taken("c"); return before > 1 })
	w.must("POST", "/api/v1/flows/tocks/run", "")
	s, err := w.status("a")
	if err != nil {
		t.Fatal(err)
	}
	w.kill(s.Partitions[1].Leader)
	to("gather", "over", 3)
	w.start(s.Partitions[1].Leader)
	w.counted(w.names[0], "/api/v1/transactions?flow=gather&state=delivered&limit=100", `"reference":"over"`, 10)
	w.eventually("its clock goes on", func() bool { return taken("a") > before+1 })
	w.must("POST", "/api/v1/flows/tocks/pause", "")
	w.whole(0)
	w.counted("b", "/api/v1/transactions?flow=tocks&state=delivered&limit=500", `"state":"delivered"`, taken("a"))
	w.must("POST", "/api/v1/flows/gather/publish?sure=true", "")
	if home := w.homeOf("gather"); home != 0 {
		t.Errorf("it is at home in %d", home)
	}
	// A clock comes along.
	w.must("PUT", "/api/v1/flows/tocks", `{"readyferry":"flow/1","name":"tocks","intake":{"kind":"schedule","every":"1s"},
		"steps":[{"id":"q","kind":"deliver","to":{"queue":"q","readers":"outside"}}]}`)
	w.must("POST", "/api/v1/flows/tocks/publish", "")
	if home := w.homeOf("tocks"); home != 0 {
		t.Errorf("it is at home in %d", home)
	}
	before = taken("b")
	w.must("POST", "/api/v1/flows/tocks/resume", "")
	w.eventually("its clock comes along", func() bool { return before > 2 && taken("c") > before+1 })
	for _, flow := range []string{"ticks", "tocks"} {
		w.must("POST", "/api/v1/flows/"+flow+"/pause", "")
	}
	w.alike()
}

// gathers makes a flow that gathers messages, at home in the last partition where there are several, and a source of it;
// stopped ends that, and tells how many messages were accepted.
func (w *aFleet) gathers() (stopped func() int) {
	w.t.Helper()
	for part := range w.parts {
		flow := fmt.Sprintf("gather%d", part)
		w.must("PUT", "/api/v1/flows/"+flow, fmt.Sprintf(`{"readyferry":"flow/1","name":%q,
			"intake":{"kind":"webhook","path":"/%[1]s","format":"json","once":"string(body.n)"},
			"steps":[{"id":"g","kind":"aggregate","key":"body.v","close":{"count":5,"age":"2s"}},
				{"id":"d","kind":"deliver","to":"out","path":"/groups"}]}`, flow))
		w.must("POST", "/api/v1/flows/"+flow+"/publish", "")
	}
	until, accepted := make(chan struct{}), make(chan int)
	go func() { accepted <- w.lineTo(fmt.Sprintf("/in/gather%d", w.parts-1), "member", until) }()
	return func() int {
		close(until)
		return <-accepted
	}
}

// groupArrived notes a group that comes to the target.
func (w *aFleet) groupArrived(key string, body []byte) {
	var members []struct{ N int }
	if json.Unmarshal(body, &members) != nil {
		return
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.groups == nil {
		w.groups = map[string][]int{}
	}
	w.groups[key] = nil // one that comes again is the same
	for _, m := range members {
		w.groups[key] = append(w.groups[key], m.N)
	}
}

// gatheredOnce wants each of so many messages in one group at the target.
func (w *aFleet) gatheredOnce(accepted int) {
	w.t.Helper()
	var in map[int]int
	for range 2400 {
		in = map[int]int{}
		w.mu.Lock()
		for _, members := range w.groups {
			for _, n := range members {
				in[n]++
			}
		}
		w.mu.Unlock()
		if len(in) >= accepted {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	for n := range accepted {
		if in[n] != 1 {
			w.t.Errorf("message %d of %d is in %d groups", n, accepted, in[n])
		}
	}
	w.t.Logf("%d messages were gathered into %d groups", accepted, len(w.groups))
}

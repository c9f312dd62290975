package main

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"testing"
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
	// Whoever leads it next has the group, and its members to come.
	s, err := w.status("a")
	if err != nil {
		t.Fatal(err)
	}
	w.kill(s.Partitions[1].Leader)
	to("gather", "over", 3)
	w.start(s.Partitions[1].Leader)
	w.counted(w.names[0], "/api/v1/transactions?flow=gather&state=delivered&limit=100", `"reference":"over"`, 10)
	w.must("POST", "/api/v1/flows/gather/publish?sure=true", "")
	if home := w.homeOf("gather"); home != 0 {
		t.Errorf("it is at home in %d", home)
	}
	w.whole(0)
	w.alike()
}

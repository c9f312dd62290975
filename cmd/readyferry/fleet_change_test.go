package main

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"
)

// references lists what a flow has delivered, however often.
func (w *aFleet) references(flow string) map[string]int {
	w.t.Helper()
	out := map[string]int{}
	var rows []struct{ Reference string }
	if err := json.Unmarshal(w.must("GET", "/api/v1/transactions?limit=200&state=delivered&flow="+flow, ""),
		&rows); err != nil {
		w.t.Fatal(err)
	}
	for _, r := range rows {
		out[r.Reference]++
	}
	return out
}

// One instance with open work becomes a fleet, and the fleet one instance again: nothing is lost on the
// way, and secrets are read by whoever has the journal.
func TestAnInstanceBecomesAFleetAndOneAgain(t *testing.T) {
	for _, parts := range []int{1, 3} {
		t.Run(
			fmt.Sprint(parts),
			func(t *testing.T) { becomesAFleetAndOneAgain(t, newFleetOf(t, parts, "http://", "a", "b", "c")) },
		)
	}
}

func becomesAFleetAndOneAgain(t *testing.T, w *aFleet) {
	data := filepath.Join(t.TempDir(), "one")
	target := serveOn(t, w.target())
	s := launch(t, w.file, data, freeAddress(t))
	s.must(
		"PUT",
		"/api/v1/connections/out",
		fmt.Sprintf(`{"readyferry":"connection/1","name":"out","kind":"http","address":%q,
		"sign-in":{"kind":"bearer","secret":"a-secret-of-the-instance"}}`, target),
	)
	s.must(
		"PUT",
		"/api/v1/flows/f",
		`{"readyferry":"flow/1","name":"f","intake":{"kind":"webhook","path":"/f","format":"json",
		"reference":"string(body.n)"},"steps":[{"id":"d","kind":"deliver","to":"out","path":"/"}]}`,
	)
	s.must("POST", "/api/v1/flows/f/publish", "")
	s.must("POST", "/api/v1/targets/out/hold", `{"note":"it moves"}`)
	for n := range 20 {
		s.must("POST", "/in/f", fmt.Sprintf(`{"v":"x","n":%d}`, n))
	}
	s.kill()
	cli := func(args ...string) {
		t.Helper()
		if out, err := exec.Command(w.file, args...).CombinedOutput(); err != nil {
			t.Fatalf("%v: %v %s", args, err, out)
		}
	}
	cli("fleet", "adopt", "--data", data, "--out", w.dir)
	if out, err := exec.Command(w.file, "serve", "--without-sign-in", "--data", data, "--listen",
		freeAddress(t)).CombinedOutput(); err == nil ||
		!strings.Contains(string(out), "the journal is of a fleet") {
		t.Errorf("an instance starts over the journal of a fleet: %v %s", err, out)
	}
	if err := os.Rename(data, w.data("b")); err != nil {
		t.Fatal(err)
	}
	for _, name := range w.names {
		w.start(name)
	}
	w.must("POST", "/api/v1/targets/out/release", "{}")
	for n := 20; n < 40; n++ {
		w.must("POST", "/in/f", fmt.Sprintf(`{"v":"x","n":%d}`, n))
	}
	for range 2400 {
		if len(w.references("f")) == 40 {
			break
		}
	}
	if got := len(w.references("f")); got != 40 {
		t.Fatalf("%d of 40 are delivered", got)
	}
	more := 0
	if w.parts > 1 { // some of those that wait are in each
		w.must("POST", "/api/v1/targets/out/hold", `{"note":"it moves back"}`)
		more = w.held()
	}
	for n := 45; n < 60; n++ {
		w.must("POST", "/in/f", fmt.Sprintf(`{"v":"x","n":%d}`, n))
	}
	if w.parts > 1 {
		w.meetBefore()
	}
	w.alike()
	cli("fleet", "release", "--data", w.data("c"))
	s = launch(t, w.file, w.data("c"), freeAddress(t))
	if w.parts > 1 {
		meetBehind(s)
	}
	if w.parts > 1 {
		s.must("POST", "/api/v1/targets/out/release", "{}")
	}
	for n := 40; n < 45; n++ {
		s.must("POST", "/in/f", fmt.Sprintf(`{"v":"x","n":%d}`, n))
	}
	for range 2400 {
		if len(s.references("f")) == 60+more {
			break
		}
	}
	for n, times := range s.references("f") {
		if times != 1 {
			t.Errorf("%s is inside %d times", n, times)
		}
	}
	if got := len(s.references("f")); got != 60+more {
		t.Errorf("%d of %d are delivered", got, 60+more)
	}
}

// meetBefore has messages wait for others in partitions of their own.
func (w *aFleet) meetBefore() {
	w.t.Helper()
	for i, flow := range []string{"zero", "gather", "ordered"} {
		step := `{"id":"g","kind":"aggregate","key":"body.v","close":{"count":2}}`
		if flow == "ordered" {
			step = `{"id":"r","kind":"resequence","key":"body.v","number":"body.n","wait":"1h"}`
		}
		if w.meeting(flow, step); w.homeOf(flow) != i {
			w.t.Errorf("%s is at home in %d", flow, w.homeOf(flow))
		}
		w.must("POST", "/in/"+flow, `{"v":"m","n":1}`)
	}
	w.must("POST", "/in/ordered", `{"v":"m","n":3}`)
	w.counted("a", "/api/v1/groups", `"members":1`, 2)
	w.counted("a", "/api/v1/turns", `"waiting":1`, 1)
}

// meetBehind brings what they wait for to the instance that has the journal then.
func meetBehind(s *server) {
	for _, flow := range []string{"zero", "gather", "ordered"} {
		s.must("POST", "/in/"+flow, `{"v":"m","n":2}`)
	}
	went := ""
	for range 2400 {
		went = string(s.must("GET", "/api/v1/transactions?state=delivered&reference=m&limit=100", ""))
		if strings.Count(went, `"reference":"m"`) == 9 { // with the two groups
			return
		}
		time.Sleep(50 * time.Millisecond)
	}
	s.t.Errorf("they do not meet: %s", went)
}

// before builds the release before this one, as its commit is noted; the test is skipped where the
// history does not go back to it.
func before(t *testing.T) string {
	t.Helper()
	commit, err := os.ReadFile("testdata/release-before.txt")
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	archive := filepath.Join(dir, "source.tar")
	if out, err := exec.Command("git", "-C", "../..", "archive", "--output", archive,
		strings.TrimSpace(string(commit))).CombinedOutput(); err != nil {
		t.Skipf("the history does not go back to the release before this one: %v %s", err, out)
	}
	if out, err := exec.Command("tar", "-xf", archive, "-C", dir).CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	if err := os.CopyFS(filepath.Join(dir, "web", "dist", "app"), os.DirFS("../../web/dist/app")); err != nil {
		t.Fatal(err)
	}
	file := filepath.Join(dir, "before")
	build := exec.Command("go", "build", "-o", file, "./cmd/readyferry")
	build.Dir = dir
	if out, err := build.CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	return file
}

// Members of the release before this one become members of this one, one after the other, under load:
// both work together meanwhile, whoever leads, and back again.
func TestMembersAreUpgradedOneByOne(t *testing.T) {
	old := before(t)
	w := newFleetOf(t, 3, "http://", "a", "b", "c")
	w.programs = map[string]string{"a": old, "b": old, "c": old}
	for _, name := range w.names {
		w.start(name)
	}
	w.design(serveOn(t, w.target()))
	stopped := w.sources(3)
	change := func(name, program string) {
		w.whole(1000)
		w.stop(name)
		w.programs[name] = program
		w.start(name)
		w.must("GET", "/api/v1/room", "")
	}
	change("a", w.file)
	change("a", old) // and back, as long as one of the release before is there
	for _, name := range w.names {
		change(name, w.file)
	}
	w.accounted(stopped())
	w.alike()
}

// A fleet of three is given a fourth member, loses one of the first with its disk and forgets it: the
// fourth keeps its replica of the log, and the fleet bears the loss of another one.
func TestAMemberIsAddedAndAnotherRemoved(t *testing.T) {
	w := startFleet(t, "a", "b", "c")
	w.design(serveOn(t, w.target()))
	until := make(chan struct{})
	accepted := map[string]int{}
	var lines sync.WaitGroup
	lines.Go(func() { accepted["v"] = w.line("v", until) })
	cli := func(args ...string) ([]byte, error) {
		return exec.Command(w.file, append([]string{"fleet"}, args...)...).CombinedOutput()
	}
	must := func(args ...string) {
		t.Helper()
		if out, err := cli(args...); err != nil {
			t.Fatalf("%v: %v %s", args, err, out)
		}
	}
	w.whole(1000)
	w.mu.Lock()
	w.bases["d"] = "http://" + freeAddress(t)
	w.mu.Unlock()
	must("add", "--out", w.dir, "--member", fmt.Sprintf("d=%s,%s,%s", freeAddress(t), freeAddress(t), w.bases["d"]))
	again := func(names ...string) {
		for _, name := range names {
			w.stop(name)
			w.start(name)
			w.must("GET", "/api/v1/room", "")
		}
	}
	again("a", "b", "c")
	t.Cleanup(func() { w.kill("d") })
	w.start("d")
	w.names = []string{"d", "a", "b", "c"}
	w.whole(1000)
	// One that keeps a replica is lost.
	s, err := w.status("d")
	if err != nil {
		t.Fatal(err)
	}
	lost := ""
	for _, m := range s.Members {
		if m.Keeps && m.Name != "d" {
			lost = m.Name
		}
	}
	if out, err := cli("remove", "--out", w.dir, "--fleet", w.config("d"), "--member", lost); err == nil {
		t.Errorf("%q is removed, which is there: %s %+v", lost, out, s)
	}
	w.kill(lost)
	if err := os.RemoveAll(w.data(lost)); err != nil {
		t.Fatal(err)
	}
	w.names = slices.DeleteFunc(w.names, func(name string) bool { return name == lost })
	var said []byte
	for range 600 { // until it is missed
		if said, err = cli("remove", "--out", w.dir, "--fleet", w.config("d"), "--member", lost); err == nil {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	if err != nil {
		t.Fatalf("%v: %s", err, said)
	}
	if out, err := cli("remove", "--out", w.dir, "--fleet", w.config("d"), "--member", w.names[1]); err == nil ||
		!strings.Contains(string(out), "add another member first") {
		t.Errorf("the log is left with too few: %v %s", err, out)
	}
	again(w.names...)
	w.whole(1000)
	// How many replicas are current goes up and down under load; whole has seen all of them so.
	if s, err = w.status("d"); err != nil || len(s.Members) != 3 {
		t.Errorf("%+v %v", s, err)
	}
	w.kill(w.names[1]) // and bears the loss of one
	w.must("POST", "/in/f", `{"v":"late","n":0}`)
	w.start(w.names[1])
	close(until)
	lines.Wait()
	accepted["late"] = 1
	w.accounted(accepted)
	w.alike()
}

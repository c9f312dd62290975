package main

import (
	"bytes"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// branchOf gives the folder in /proc of the process that is the branch of the demo over a folder; "" for none.
func branchOf(data string) string {
	all, _ := filepath.Glob("/proc/[0-9]*/cmdline")
	for _, file := range all {
		if b, err := os.ReadFile(file); err == nil && bytes.Contains(b, []byte(branchUse)) &&
			bytes.Contains(b, []byte(data)) {
			return filepath.Dir(file)
		}
	}
	return ""
}

// The demo's branch is a process in a network of its own, whose printer prints what the application sends there; it ends
// with the demo, also where that is killed.
func TestTheBranchOfTheDemo(t *testing.T) {
	if _, err := os.Stat("/proc/self/ns/net"); err != nil {
		t.Skip("there are no networks of a process here")
	}
	data := filepath.Join(t.TempDir(), "demo")
	at := freeAddress(t)
	cmd := exec.Command(program(t), "demo", "--data", data, "--listen", at, "--trickle", "0")
	cmd.Stderr = os.Stderr
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		_ = cmd.Process.Kill()
		_, _ = cmd.Process.Wait()
	})
	until(t, "a slip is printed", func() bool {
		req, err := http.NewRequest(
			"POST",
			"http://"+at+"/in/branch-slips",
			strings.NewReader(`{"slip":"SL-1","shelf":"LOC 3","title":"Salt Roads"}`),
		)
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Content-Type", "application/json")
		req.Header.Set("X-Api-Key", "larkfield-demo-key")
		if res, err := http.DefaultClient.Do(req); err == nil {
			_ = res.Body.Close()
		}
		printed, _ := os.ReadFile(filepath.Join(data, "runner-stowmere", "slips.txt"))
		return bytes.Contains(printed, []byte("SL-1"))
	})
	proc := branchOf(data)
	if proc == "" {
		t.Fatal("the branch is no process of its own")
	}
	own, _ := os.Readlink("/proc/self/ns/net")
	if there, err := os.Readlink(proc + "/ns/net"); err != nil || there == own {
		t.Logf("this machine makes no network for it: %s %v", there, err)
	} else if routes, err := os.ReadFile(proc + "/net/route"); err != nil || bytes.Count(routes, []byte("\n")) > 1 {
		t.Errorf("ways lead out of it: %s %v", routes, err)
	}
	_ = cmd.Process.Kill()
	until(t, fmt.Sprintf("%s ends", proc), func() bool { return branchOf(data) == "" })
}

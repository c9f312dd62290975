package main

import (
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// put writes files below a folder.
func put(t *testing.T, dir string, files map[string]string) {
	t.Helper()
	for name, text := range files {
		file := filepath.Join(dir, filepath.FromSlash(name))
		if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
}

// Flows are kept in step with a folder: what stands in it runs, changes when it changes, and is
// changed nowhere else. A folder that cannot be read leaves what ran before.
func TestFlowsAreKeptInAFolder(t *testing.T) {
	t.Parallel()
	dir, config := t.TempDir(), filepath.Join(t.TempDir(), "config.yaml")
	document := "readyferry: flow/1\nname: f\ntitle: One\nintake: {kind: webhook, path: /f, answer: finished}\nsteps:\n" +
		"  - {id: r, kind: answer, text: \"${config.greeting}, one\"}\n"
	put(t, filepath.Dir(config), map[string]string{"config.yaml": "readyferry: config/1\nvalues: {greeting: Hello}\n"})
	put(t, dir, map[string]string{
		"flows/f/flow.yaml": document, "flows/f/state.json": `{"live": true}`, "README": "not for the application",
		"connections/c.yaml": "readyferry: connection/1\nname: c\nkind: http\naddress: https://shelf.example\n",
	})
	base := strings.TrimSpace(strings.TrimPrefix(servingWith(t, program(t), "serve", "--data",
		filepath.Join(t.TempDir(), "data"),
		"--listen", "127.0.0.1:0", "--without-sign-in", "--flows", dir, "--config", config), "Ready Ferry is at "))
	call := func() string {
		_, text := status(t, http.DefaultClient, "POST", base+"/in/f", `{}`, "Content-Type: application/json")
		return text
	}
	if got := call(); got != "Hello, one" {
		t.Fatalf("it answers %q", got)
	}
	for route, body := range map[string]string{
		"PUT /api/v1/flows/f": document, "PUT /api/v1/flows/new": document, "POST /api/v1/flows/f/publish": "{}",
		"PUT /api/v1/flows/f/files/x.json": "{}", "PUT /api/v1/flows/f/samples/s": `{"body":"{}"}`,
		"DELETE /api/v1/flows/f": "",
		"POST /api/v1/import":    `{"files":{}}`, "DELETE /api/v1/connections/c": "",
		"PUT /api/v1/connections/c": `{"readyferry":"connection/1","name":"c","kind":"http","address":"https://other.example"}`,
	} {
		method, path, _ := strings.Cut(route, " ")
		code, text := status(t, http.DefaultClient, method, base+path, body, "Content-Type: application/json")
		if code != http.StatusConflict || !strings.Contains(text, dir) {
			t.Errorf("%s: %d %s", route, code, text)
		}
	}
	for route, body := range map[string]string{
		"PUT /api/v1/connections/c":     `{"readyferry":"connection/1","name":"c","kind":"http","address":"https://shelf.example"}`,
		"PUT /api/v1/connections/other": `{"readyferry":"connection/1","name":"other","kind":"http","address":"https://x.example"}`,
		"POST /api/v1/flows/f/pause":    "",
	} {
		method, path, _ := strings.Cut(route, " ")
		if code, text := status(t, http.DefaultClient, method, base+path, body,
			"Content-Type: application/json"); code/100 != 2 {
			t.Errorf("%s: %d %s", route, code, text)
		}
	}
	state := func() string {
		_, text := status(t, http.DefaultClient, "GET", base+"/api/v1/flows/f", "")
		return text
	}
	until := func(says string) {
		t.Helper()
		for range 600 {
			if strings.Contains(state(), says) {
				return
			}
			time.Sleep(100 * time.Millisecond)
		}
		t.Fatalf("it does not say %s: %s", says, state())
	}
	put(t, dir, map[string]string{"flows/f/flow.yaml": strings.NewReplacer("One", "Two", "one", "two").Replace(document)})
	until(`"live":2`)
	if got := state(); !strings.Contains(got, `"paused":true`) {
		t.Errorf("it is not paused any more: %s", got)
	}
	if code, text := status(t, http.DefaultClient, "POST", base+"/api/v1/flows/f/resume", ""); code/100 != 2 {
		t.Fatal(code, text)
	}
	if got := call(); got != "Hello, two" {
		t.Errorf("it answers %q", got)
	}
	put(t, dir, map[string]string{"flows/f/flow.yaml": "name: f", "flows/g/flow.yaml": strings.ReplaceAll(document,
		"f", "g")})
	put(t, dir, map[string]string{"flows/f/flow.yaml": strings.NewReplacer("One", "Three", "one",
		"three").Replace(document)})
	if err := os.RemoveAll(filepath.Join(dir, "flows", "g")); err != nil {
		t.Fatal(err)
	}
	until(`"title":"Three"`)
	if got := call(); got != "Hello, three" {
		t.Errorf("it answers %q", got)
	}
	broken := filepath.Join(t.TempDir(), "broken")
	put(t, broken, map[string]string{"flows/f/flow.yaml": "name: f"})
	if _, errs, code := execute(t, program(t), "serve", "--data", filepath.Join(t.TempDir(), "data"), "--listen",
		"127.0.0.1:0",
		"--flows", broken); code != 2 || !strings.Contains(errs, "the flow f cannot be taken") {
		t.Errorf("a start with a broken folder: %d %s", code, errs)
	}
}

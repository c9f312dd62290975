package main

import (
	"bufio"
	"crypto/tls"
	"database/sql"
	"io"
	"net/http"
	"net/http/cookiejar"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"

	_ "github.com/mattn/go-sqlite3"
)

// servingWith starts the program and gives what it printed, up to where it is.
func servingWith(t *testing.T, file string, args ...string) (printed string) {
	t.Helper()
	cmd := exec.Command(file, args...)
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		_ = cmd.Process.Signal(syscall.SIGTERM)
		_ = cmd.Wait()
	})
	lines := bufio.NewScanner(out)
	for lines.Scan() {
		printed += lines.Text() + "\n"
		if strings.HasPrefix(lines.Text(), "Ready Ferry is at ") {
			go func() { _, _ = io.Copy(io.Discard, out) }()
			return printed
		}
	}
	t.Fatalf("it ended: %s", printed)
	return ""
}

// status asks and gives the status, and the body.
func status(t *testing.T, client *http.Client, method, url, body string, headers ...string) (int, string) {
	t.Helper()
	req, err := http.NewRequest(method, url, strings.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	for _, h := range headers {
		k, v, _ := strings.Cut(h, ": ")
		req.Header.Set(k, v)
	}
	res, err := client.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	b, err := io.ReadAll(res.Body)
	if err != nil {
		t.Fatal(err)
	}
	return res.StatusCode, string(b)
}

// The way from an empty folder to a first call: nobody is let in; the printed link makes an owner;
// the command line makes people and keys beside the running application; what was done is in the
// audit, and whatever is changed there shows.
func TestPeopleAndKeysBesideTheApplication(t *testing.T) {
	file, data := program(t), filepath.Join(t.TempDir(), "data")
	printed := servingWith(t, file, "serve", "--data", data, "--listen", "127.0.0.1:0")
	base := regexp.MustCompile(`at (http://\S+)`).FindStringSubmatch(printed)[1]
	link := regexp.MustCompile(`/welcome#(\S+)`).FindStringSubmatch(printed)[1]
	jar, err := cookiejar.New(nil)
	if err != nil {
		t.Fatal(err)
	}
	browser := &http.Client{Jar: jar}
	code, text := status(t, browser, "GET", base+"/api/v1/flows", "")
	if code != 401 || !strings.Contains(text, "/sign-in") || !strings.Contains(text, "Authorization: Bearer") {
		t.Errorf("a script that used the open interface gets %d %s", code, text)
	}
	if code, _ := status(t, browser, "GET", base+"/metrics", ""); code != 401 {
		t.Errorf("/metrics: %d", code)
	}
	if code, _ := status(t, browser, "GET", base+"/healthz", ""); code != 200 {
		t.Errorf("/healthz: %d", code)
	}
	if code, text := status(t, browser, "POST", base+"/api/v1/session/password/link",
		`{"link":"`+link+`","name":"maud","password":"otter lamp violin"}`, "Origin: "+base); code != 200 {
		t.Fatalf("%d %s", code, text)
	}
	if code, _ := status(t, browser, "GET", base+"/api/v1/flows", ""); code != 200 {
		t.Errorf("the owner: %d", code)
	}
	run := func(want int, args ...string) string {
		t.Helper()
		out, errs, code := execute(t, file, append(args, "--data", data)...)
		if code != want {
			t.Errorf("%v: %d %s %s", args, code, out, errs)
		}
		return out
	}
	if out := run(0, "people", "add", "otis", "--role", "operator@circulation", "--title", "Otis"); !strings.Contains(out, "/welcome#") {
		t.Errorf("no link: %s", out)
	}
	run(2, "people", "add", "otis", "--role", "king")
	run(2, "people", "remove", "maud")
	if out := run(0, "people", "list"); !strings.Contains(out, "operator@circulation") {
		t.Error(out)
	}
	key := strings.TrimSpace(run(0, "keys", "make", "deploy", "--may", "read", "--on", "area:circulation"))
	auth := "Authorization: Bearer " + key
	for range 400 { // the application looks at keys every two seconds
		if code, _ = status(t, http.DefaultClient, "GET", base+"/api/v1/flows", "", auth); code == 200 {
			break
		}
	}
	if code != 200 {
		t.Errorf("the key: %d", code)
	}
	run(0, "keys", "end", "deploy")
	run(1, "doctor")
	if out := run(0, "audit", "verify"); !strings.Contains(out, "are as they were written") {
		t.Error(out)
	}
	lines := run(0, "audit", "export")
	for _, want := range []string{`"what":"comeIn"`, `"what":"people add"`, `"what":"keys make"`, `"kind":"command line"`} {
		if !strings.Contains(lines, want) {
			t.Errorf("the audit lacks %s", want)
		}
	}
	for _, secret := range []string{key, link, "otter lamp violin"} {
		if strings.Contains(lines, secret) {
			t.Error("a secret is in the audit")
		}
	}
	db, err := sql.Open("sqlite3", filepath.Join(data, "readyferry.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if _, err := db.Exec("DELETE FROM audit_lines WHERE n = 2"); err != nil {
		t.Fatal(err)
	}
	if out := run(1, "audit", "verify"); !strings.Contains(out, "line 2: the line is missing") {
		t.Error(out)
	}
}

// TLS is spoken on both addresses, webhooks are on theirs alone, and without sign-in nothing but
// this machine is listened to.
func TestTheDoorOnTheCommandLine(t *testing.T) {
	file, data := program(t), filepath.Join(t.TempDir(), "data")
	messages := freeAddress(t)
	printed := servingWith(t, file, "serve", "--data", data, "--listen", "127.0.0.1:0", "--listen-messages", messages,
		"--tls-self-made", "--open", "none")
	base := regexp.MustCompile(`at (https://\S+)`).FindStringSubmatch(printed)[1]
	client := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}, ForceAttemptHTTP2: true}}
	for url, want := range map[string]int{
		base + "/healthz": 401, base + "/in/x": 404, base + "/out/queues/q/messages": 404, base + "/": 404,
		"https://" + messages + "/in/x": 404, "https://" + messages + "/out/queues/q/messages": 401,
		"https://" + messages + "/api/v1/flows": 404, "https://" + messages + "/healthz": 401,
	} {
		code, text := status(t, client, "GET", url, "")
		if code != want && !(strings.HasSuffix(url, "/") && code == 200) {
			t.Errorf("%s: %d %s", url, code, text)
		}
		if strings.HasPrefix(url, "https://"+messages+"/in") && !strings.Contains(text, "No flow listens here") {
			t.Errorf("%s: %s", url, text)
		}
	}
	other := filepath.Join(t.TempDir(), "data")
	for _, args := range [][]string{
		{"serve", "--without-sign-in", "--listen", "0.0.0.0:0"}, {"demo", "--listen", "0.0.0.0:0"},
		{"demo", "--public-url", "https://ferry.example.org"}, {"serve", "--tls-cert", "x"}, {"serve", "--trusted-proxy", "x"},
		{"serve", "--public-url", "ferry"}, {"serve", "--open", "everything"}, {"serve", "--openid-issuer", "http://elsewhere.example"},
	} {
		if out, errs, code := execute(t, file, append(args, "--data", other)...); code != 2 || errs == "" {
			t.Errorf("%v: %d %s %s", args, code, out, errs)
		}
	}
}

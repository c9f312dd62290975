package api

import (
	"bytes"
	"encoding/json"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"readyferry/core/access"
	"readyferry/engine/people"
)

// lockedText is written by many and read at the end.
type lockedText struct {
	mu  sync.Mutex
	buf bytes.Buffer
}

// Write implements io.Writer.
func (l *lockedText) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.buf.Write(p)
}

func (l *lockedText) String() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.buf.String()
}

func quotedJSON(t *testing.T, s string) string {
	t.Helper()
	b, err := json.Marshal(s)
	if err != nil {
		t.Fatal(err)
	}
	return string(b)
}

// everyFile lists what lies below a folder, the database's own files aside.
func everyFile(t *testing.T, dir string) string {
	t.Helper()
	var out strings.Builder
	err := filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() && !strings.Contains(filepath.Base(path), ".db") {
			out.WriteString(path + "\n")
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return out.String()
}

// A name leads nowhere but to the thing that it names, wherever in an address it stands.
func TestNamesLeadNowhere(t *testing.T) {
	w := start(t)
	dir := filepath.Dir(w.store.Dir)
	before := everyFile(t, dir)
	names := []string{"..%2F..%2F..%2Fx", "%2e%2e", "..%5C..%5Cx", "a%2Fb", "%2Fetc%2Fpasswd", "a%00b", "a%0d%0aSet-Cookie:%20x=1", "%252e%252e%252fx",
		"%3Cscript%3E", "a%27%20OR%201=1--", "%E2%80%AE", "..;%2F", "~root", strings.Repeat("a", 5000)}
	for _, at := range []string{"PUT flows/%", "PUT flows/f/files/%", "PUT flows/f/samples/%", "PUT connections/%", "PUT tables/%",
		"PUT stand-ins/%", "PUT calendars/%", "PUT alarm-rules/%", "PUT keys/%", "PUT views/%", "GET flows/%", "GET flows/f/files/%",
		"DELETE flows/%", "GET tables/%/export", "GET queues/%/messages", "PUT queues/%", "GET topics/%/messages", "POST flows/%/publish",
		"GET transactions/%", "GET connections/%/sources"} {
		method, path, _ := strings.Cut(at, " ")
		for _, name := range names {
			got := w.call(method, "/api/v1/"+strings.Replace(path, "%", name, 1), `{"name":"x"}`, "Content-Type: application/json")
			if got.status >= 500 || got.status == http.StatusMovedPermanently {
				t.Errorf("%s with %.40s: %d %.200s", at, name, got.status, got.body)
			}
			if got.header.Get("Set-Cookie") != "" {
				t.Errorf("%s with %.40s sets a cookie", at, name)
			}
		}
	}
	for _, path := range []string{"/assets/..%2f..%2findex.html", "/..%2f..%2fetc%2fpasswd", "/assets/%2e%2e/%2e%2e/x", "//etc/passwd"} {
		if got := w.call("GET", path, ""); strings.Contains(string(got.body), "root:") || got.status >= 500 {
			t.Errorf("%s: %d", path, got.status)
		}
	}
	if after := everyFile(t, dir); after != before {
		t.Errorf("files were made:\n%s\nwhere there were\n%s", after, before)
	}
}

// What a message brings makes no header, and no line of a log, of its own.
func TestLinesAreNotMadeOfTexts(t *testing.T) {
	log := &lockedText{}
	w := start(t)
	w.log = slog.New(slog.NewTextHandler(log, nil))
	w.door(Door{Loopback: true}, people.New(people.Config{Store: w.store, Now: func() time.Time { return time.Now().UTC() }, Log: w.log}))
	w.session = w.as("maud", access.All()...)
	w.ok("PUT", "/api/v1/flows/h", `{"readyferry":"flow/1","name":"h","intake":{"kind":"webhook","path":"/h","answer":"finished"},"steps":[
		{"id":"a","kind":"answer","status":200,"headers":{"x-from":"${body.text}"},"text":"fine"}]}`)
	w.ok("POST", "/api/v1/flows/h/publish", `{}`)
	w.session = nil
	for _, text := range []string{`x\r\nSet-Cookie: a=b`, `x\nlevel=ERROR msg=made-up`, `x\r\n\r\n<script>`} {
		got := w.call("POST", "/in/h", `{"text":"`+text+`"}`, "Content-Type: application/json")
		if got.header.Get("Set-Cookie") != "" || strings.Contains(string(got.body), "<script>") || strings.ContainsAny(got.header.Get("X-From"), "\r\n") {
			t.Errorf("%s: %d %v %s", text, got.status, got.header, got.body)
		}
	}
	for _, name := range []string{"maud\nlevel=ERROR msg=made-up", "a\r\ntime=2026-01-01"} {
		body := `{"name":` + quotedJSON(t, name) + `,"password":"not the password"}`
		w.call("POST", "/api/v1/session", body, "Content-Type: application/json", "Origin: "+w.server.URL)
	}
	w.call("GET", "/api/v1/flows/%0Alevel=ERROR%20msg=made-up", "", "User-Agent: x")
	w.log.Warn("a name", "name", "x\nlevel=ERROR msg=made-up") // so that there is a line in any case
	for _, line := range strings.Split(strings.TrimSuffix(log.String(), "\n"), "\n") {
		if line != "" && !strings.HasPrefix(line, "time=") {
			t.Errorf("a line of the log is made of a text: %q", line)
		}
	}
}

// Nothing that is asked for sends a browser elsewhere.
func TestNobodyIsSentElsewhere(t *testing.T) {
	w := signedInWorld(t)
	client := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	for _, path := range []string{"//evil.example", "/\\evil.example", "/%2F%2Fevil.example", "/https://evil.example", "/flows/?next=https://evil.example",
		"/sign-in?next=//evil.example", "/api/v1/openid?next=https://evil.example", "/api/v1/openid/back?state=x&code=y&next=https://evil.example",
		"/api/v1/sign-in?state=https://evil.example", "/in//evil.example/", "/api/v1//evil.example"} {
		res, err := client.Get(w.server.URL + path)
		if err != nil {
			t.Fatal(err)
		}
		_ = res.Body.Close()
		if to := res.Header.Get("Location"); strings.Contains(to, "evil.example") {
			t.Errorf("%s leads to %s", path, to)
		}
	}
}

// Where secrets are compared it takes the same time whatever they are: the packages that do it
// compare no text or bytes named as a secret by ==, bytes.Equal or strings.EqualFold.
func TestSecretsAreComparedInTheSameTime(t *testing.T) {
	for _, dir := range []string{"../engine/people", "../engine/people/password", "../engine/catalog", "../connect/caller", "../connect/sign", "."} {
		files, err := filepath.Glob(dir + "/*.go")
		if err != nil {
			t.Fatal(err)
		}
		compares := 0
		for _, name := range files {
			if strings.HasSuffix(name, "_test.go") {
				continue
			}
			set := token.NewFileSet()
			file, err := parser.ParseFile(set, name, nil, 0)
			if err != nil {
				t.Fatal(err)
			}
			text, err := os.ReadFile(name)
			if err != nil {
				t.Fatal(err)
			}
			compares += strings.Count(string(text), "ConstantTimeCompare") + strings.Count(string(text), "hmac.Equal")
			ast.Inspect(file, func(n ast.Node) bool {
				var sides []ast.Expr
				switch x := n.(type) {
				case *ast.BinaryExpr:
					if x.Op == token.EQL || x.Op == token.NEQ {
						sides = []ast.Expr{x.X, x.Y}
					}
				case *ast.CallExpr:
					if f, is := x.Fun.(*ast.SelectorExpr); is && (f.Sel.Name == "Equal" || f.Sel.Name == "EqualFold" || f.Sel.Name == "Compare") {
						if p, is := f.X.(*ast.Ident); is && (p.Name == "bytes" || p.Name == "strings") {
							sides = x.Args
						}
					}
				}
				if len(sides) == 2 && secretName(sides[0]) && secretName(sides[1]) {
					t.Errorf("%s: two secrets are compared in a time that tells of them", set.Position(n.Pos()))
				}
				return true
			})
		}
		if compares == 0 && dir != "." && dir != "../engine/people" {
			t.Errorf("%s compares no secret any more; say where it is done now", dir)
		}
	}
}

// secretName tells of a value that is named as a secret.
func secretName(e ast.Expr) bool {
	name := ""
	switch x := e.(type) {
	case *ast.Ident:
		name = x.Name
	case *ast.SelectorExpr:
		name = x.Sel.Name
	case *ast.CallExpr:
		if len(x.Args) == 1 {
			return secretName(x.Args[0])
		}
	}
	name = strings.ToLower(name)
	for _, word := range []string{"secret", "token", "password", "hash", "mac", "signature", "nonce"} {
		if strings.Contains(name, word) {
			return true
		}
	}
	return false
}

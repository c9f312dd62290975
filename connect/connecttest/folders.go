package connecttest

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"readyferry/connect"
	"readyferry/core/retry"
	"readyferry/core/system"
)

// Folders tries what all systems with files must hold, at a place that lies in a folder of
// this machine. links tells whether it tells links from what they lead to.
func Folders(t *testing.T, l connect.Link, dir string, links bool) {
	p := &place{t, l, dir, links}
	t.Run("files are taken and moved", p.moved)
	t.Run("a file comes again when the process dies behind the commit", p.again)
	t.Run("lines go on where they stood", p.lines)
	t.Run("a file that cannot be cut is kept", p.broken)
	t.Run("files are renamed or removed", p.then)
	t.Run("files are written", p.written)
	t.Run("names stay within", p.within)
	t.Run("people are told what is there", p.told)
}

// Objects tries what Folders does of taking, where folders are but parts of names.
func Objects(t *testing.T, l connect.Link, dir string) {
	p := &place{t, l, dir, false}
	t.Run("objects are taken and moved", p.moved)
	t.Run("an object comes again when the process dies behind the commit", p.again)
	t.Run("lines go on where they stood", p.lines)
	t.Run("an object that cannot be cut is kept", p.broken)
	t.Run("objects are renamed or removed", p.then)
}

// place is a place with files.
type place struct {
	t    *testing.T
	link connect.Link
	dir  string

	links bool
}

func (p *place) has(name, body string) {
	p.t.Helper()
	path := filepath.Join(p.dir, name)
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		p.t.Fatal(err)
	}
	if err := os.WriteFile(path, []byte(body), 0o644); err != nil {
		p.t.Fatal(err)
	}
	// Whole seconds, as some protocols have no others.
	at := time.Date(2026, 3, 17, 6, 0, 0, 0, time.UTC)
	if err := os.Chtimes(path, at, at); err != nil {
		p.t.Fatal(err)
	}
}

// holds gives what a file holds, "-" where it is not there.
func (p *place) holds(name string) string {
	b, err := os.ReadFile(filepath.Join(p.dir, name))
	if err != nil {
		return "-"
	}
	return string(b)
}

func (p *place) names(dir string) (out []string) {
	entries, _ := os.ReadDir(filepath.Join(p.dir, dir))
	for _, e := range entries {
		out = append(out, e.Name())
	}
	return out
}

func (p *place) moved(t *testing.T) {
	p.t = t
	p.has("in/b.json", `{"n":2}`)
	p.has("in/a.csv", "n\n1\n")
	p.has("in/.hidden.csv", "n\n1\n")
	p.has("in/other.bin", "x")
	in := Receive(t, p.link, `{"folder":"in","names":"*.csv *.json","settled":"1ms","every":"1s"}`, nil, nil)
	got := in.Until(t, 2)
	if string(got[0].Body) != "n\n1\n" || string(got[1].Body) != `{"n":2}` {
		t.Errorf("%s, %s", got[0].Body, got[1].Body)
	}
	for name, want := range map[string]string{"content-type": "text/csv", "file-name": "a.csv", "file-folder": "in",
		"file-size":     "4",
		"file-modified": "2026-03-17T06:00:00Z"} {
		if is := Header(got[0], name); is != want {
			t.Errorf("%s is %q", name, is)
		}
	}
	Eventually(t, "the files are moved", func() bool { return len(p.names("in/done")) == 2 })
	p.has("in/a.csv", "n\n3\n") // another one of the same name
	in.Until(t, 3)
	// Objects are moved by a copy, and then removed: both have to be seen before it is stopped.
	Eventually(t, "another one is moved beside it", func() bool {
		return p.holds("in/done/a-1.csv") == "n\n3\n" && p.holds("in/a.csv") == "-"
	})
	in.Stop()
	if left := p.names("in"); !slices.Equal(left, []string{".hidden.csv", "done", "other.bin"}) {
		t.Errorf("left: %q", left)
	}
}

func (p *place) again(t *testing.T) {
	p.t = t
	p.has("again/a.txt", "stored")
	died := errors.New("the process dies")
	const intake = `{"folder":"again","settled":"1ms","every":"1s"}`
	in := Receive(t, p.link, intake, nil, died)
	first := in.Until(t, 1)[0]
	if err := <-in.Failed; !errors.Is(err, died) {
		t.Fatal(err)
	}
	if p.holds("again/a.txt") != "stored" {
		t.Error("the file was moved before it was stored")
	}
	in = Receive(t, p.link, intake, nil, nil)
	if second := in.Until(t, 1)[0]; second.ID != first.ID || first.ID == "" {
		t.Errorf("it comes as %q, and again as %q", first.ID, second.ID)
	}
	Eventually(t, "the file is moved", func() bool { return p.holds("again/done/a.txt") == "stored" })
}

func (p *place) lines(t *testing.T) {
	p.t = t
	var text strings.Builder
	for n := range 200 {
		if n == 100 {
			text.WriteString("stored\n")
			continue
		}
		fmt.Fprintf(&text, "line %d\n", n)
	}
	p.has("lines/all.txt", text.String())
	const intake = `{"folder":"lines","take":"line","settled":"1ms","every":"1s","then":"remove"}`
	in := Receive(t, p.link, intake, nil, errors.New("the process dies"))
	<-in.Failed
	got, mark := in.Got()
	if len(mark) == 0 || len(got) >= 200 {
		t.Fatalf("%d messages, mark %q", len(got), mark)
	}
	seen := map[string]bool{}
	for _, a := range got {
		seen[a.ID] = true
	}
	was := len(got)
	in = Receive(t, p.link, intake, mark, nil)
	Eventually(t, "the file is removed", func() bool { return p.holds("lines/all.txt") == "-" })
	got, _ = in.Got()
	if len(got) != 200-was {
		t.Errorf("%d messages behind the crash, %d before", len(got), was)
	}
	for _, a := range got {
		if seen[a.ID] {
			t.Errorf("%s comes twice, though the mark says that it is stored", a.ID)
		}
		seen[a.ID] = true
	}
	if len(seen) != 200 || Header(got[len(got)-1], "file-record") != "200" {
		t.Errorf("%d of 200 lines; the last is number %s", len(seen), Header(got[len(got)-1], "file-record"))
	}
}

func (p *place) broken(t *testing.T) {
	p.t = t
	p.has("broken/a.csv", "n;m\n1;2\n1;2;3\n4;5\n")
	in := Receive(t, p.link, `{"folder":"broken","take":"csv","separator":"semicolon","settled":"1ms","every":"1s"}`,
		nil, nil)
	got := in.Until(t, 2)
	if string(got[0].Body) != `{"n":"1","m":"2"}` || got[0].Refused != "" || Header(got[0],
		"content-type") != "application/json" {
		t.Errorf("%s %q", got[0].Body, got[0].Refused)
	}
	if string(got[1].Body) != "1;2;3\n4;5\n" || !strings.Contains(got[1].Refused, "3 fields") || Header(got[1],
		"content-type") != "text/csv" {
		t.Errorf("%s %q", got[1].Body, got[1].Refused)
	}
	Eventually(t, "the file is moved", func() bool { return p.holds("broken/done/a.csv") != "-" })
}

func (p *place) then(t *testing.T) {
	p.t = t
	p.has("renamed/a.txt", "1")
	p.has("removed/below/a.txt", "2")
	in := Receive(t, p.link, `{"folder":"renamed","settled":"1ms","every":"1s","then":"rename","ending":".taken"}`,
		nil, nil)
	other := Receive(t, p.link, `{"folder":"removed","below":true,"settled":"1ms","every":"1s","then":"remove"}`, nil, nil)
	in.Until(t, 1)
	if got := other.Until(t, 1)[0]; Header(got, "file-folder") != "removed/below" {
		t.Errorf("%+v", got.Headers)
	}
	Eventually(t, "one is renamed, the other removed", func() bool {
		return p.holds("renamed/a.txt.taken") == "1" && p.holds("removed/below/a.txt") == "-"
	})
	if got, _ := in.Got(); len(got) != 1 {
		t.Errorf("%d messages of one file", len(got))
	}
}

func (p *place) sends(settings, id, body string) string {
	p.t.Helper()
	r, err := Send(p.link, settings, id, body)
	if err != nil {
		return "error: " + err.Error()
	}
	return string(r.Outcome) + " " + r.Code
}

func (p *place) written(t *testing.T) {
	p.t = t
	p.has("out/there.txt", "old")
	for _, c := range []struct{ settings, id, body, comes, name, holds string }{
		{`{"folder":"out","name":"new.txt"}`, "1", "one", "delivered written", "out/new.txt", "one"},
		{`{"folder":"out","name":"new.txt"}`, "1", "one", "delivered written", "out/new.txt", "one"}, // a second try
		{`{"folder":"out","name":"there.txt"}`, "2", "new", "never exists", "out/there.txt", "old"},
		{`{"folder":"out","name":"there.txt","exists":"replace"}`, "3", "new", "delivered written", "out/there.txt", "new"},
		{`{"folder":"out","name":"log.txt","exists":"append","behind":"line-end"}`, "4", "a", "delivered written",
			"out/log.txt", "a\n"},
		{`{"folder":"out","name":"log.txt","exists":"append","behind":"line-end"}`, "5", "b\n", "delivered written",
			"out/log.txt", "a\nb\n"},
		{`{"folder":"out/far/away","name":"x","make":true}`, "6", "", "delivered written", "out/far/away/x", ""},
		{`{"folder":"nowhere","name":"x"}`, "7", "x", "never not there", "nowhere/x", "-"},
	} {
		if comes := p.sends(c.settings, c.id, c.body); comes != c.comes {
			t.Errorf("%s: %s", c.settings, comes)
		}
		if holds := p.holds(c.name); holds != c.holds {
			t.Errorf("%s holds %q", c.name, holds)
		}
	}
	const beside = `{"folder":"out","name":"there.txt","exists":"beside"}`
	for range 2 { // the same delivery writes the same file
		if comes := p.sends(beside, "8", "beside"); comes != "delivered written" {
			t.Error(comes)
		}
	}
	p.streamed(t)
	all := p.names("out")
	beginning := func(s string) bool { return strings.HasPrefix(s, "there-") && strings.HasSuffix(s, ".txt") }
	if len(all) != 7 || !slices.ContainsFunc(all, beginning) {
		t.Errorf("%q", all)
	}
}

// streamed tries bodies that lie on our disk: they are read in pieces, and more than once.
func (p *place) streamed(t *testing.T) {
	const size = 300_000
	whole := strings.Repeat("all the same ", size/13+1)[:size]
	for _, c := range []struct{ settings, comes, name, holds string }{
		{`{"folder":"out","name":"large"}`, "delivered written", "out/large", whole},
		{`{"folder":"out","name":"large"}`, "delivered written", "out/large", whole}, // a second try
		{`{"folder":"out","name":"large","behind":"line-end"}`, "never exists", "out/large", whole},
		{`{"folder":"out","name":"large","behind":"line-end","exists":"replace"}`, "delivered written", "out/large",
			whole + "\n"},
		{`{"folder":"out","name":"larger","exists":"append"}`, "delivered written", "out/larger", whole},
		{`{"folder":"out","name":"larger","exists":"append"}`, "delivered written", "out/larger", whole + whole},
	} {
		r := Request(c.settings, "large", "")
		r.Body, r.Size = nil, size
		r.Content = func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(whole)), nil }
		came, err := p.link.(connect.Sender).Send(t.Context(), r)
		if comes := fmt.Sprint(came.Outcome, " ", came.Code); err != nil || comes != c.comes {
			t.Errorf("%s: %s %v", c.settings, comes, err)
		}
		if p.holds(c.name) != c.holds {
			t.Errorf("%s holds %d bytes, want %d", c.name, len(p.holds(c.name)), len(c.holds))
		}
	}
	if !p.link.(connect.Streamer).Streams() {
		t.Error("it does not say that it takes bodies as they come")
	}
}

func (p *place) within(t *testing.T) {
	p.t = t
	outside := filepath.Join(filepath.Dir(p.dir), "outside")
	if err := os.MkdirAll(outside, 0o755); err != nil {
		t.Fatal(err)
	}
	for _, settings := range []string{
		`{"folder":"../outside","name":"x"}`, `{"folder":"out/../../outside","name":"x"}`,
		`{"folder":"` + outside + `","name":"x"}`,
		`{"name":"../outside/x"}`, `{"name":".."}`, `{"name":"a/b"}`, `{"name":""}`, `{"name":"a\u0000b"}`,
		`{"name":"a\\b"}`, `{"name":"a\nb"}`,
		`{"name":"` + strings.Repeat("x", 256) + `"}`, `{"folder":"` + strings.Repeat("x/", 70) + `x","name":"x"}`,
	} {
		_, err := Send(p.link, settings, "x", "x")
		if !errors.Is(err, connect.ErrCannotSend) || !errors.Is(err, connect.ErrBadData) {
			t.Errorf("%s: %v", settings, err)
		}
	}
	if !p.links {
		return
	}
	if err := os.Symlink(outside, filepath.Join(p.dir, "link")); err != nil {
		t.Fatal(err)
	}
	if r, err := Send(p.link, `{"folder":"link","name":"x"}`, "x", "x"); err == nil && r.Outcome == retry.Delivered {
		t.Error("a link leads out of the place")
	}
	if left, _ := os.ReadDir(outside); len(left) > 0 {
		t.Errorf("outside: %v", left)
	}
	if err := os.WriteFile(filepath.Join(outside, "secret"), []byte("secret"), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink(filepath.Join(outside, "secret"), filepath.Join(p.dir, "leak")); err != nil {
		t.Fatal(err)
	}
	if a, err := p.link.(connect.Peeker).Peek(t.Context(), system.Schema(`{"names":"leak"}`)); err == nil {
		t.Errorf("a link leads out of the place: %s", a.Body)
	}
	if a, err := p.link.(connect.Peeker).Peek(t.Context(), system.Schema(`{"folder":"link"}`)); err == nil {
		t.Errorf("a link leads out of the place: %s", a.Body)
	}
}

func (p *place) told(t *testing.T) {
	p.t = t
	p.has("told/a.xml", `<all><one n="1"/><one n="2"/></all>`)
	ctx := context.Background()
	if r, err := p.link.Check(ctx); err != nil || !r.OK || len(r.Steps) < 2 {
		t.Errorf("%+v %v", r, err)
	}
	if a, err := p.link.(connect.Peeker).Peek(ctx,
		system.Schema(`{"folder":"told","take":"xml","element":"one"}`)); err != nil || string(a.Body) != `<one n="1"/>` {
		t.Errorf("%+v %v", a, err)
	}
	if p.holds("told/a.xml") == "-" {
		t.Error("a sample was taken away")
	}
	if all, err := p.link.(connect.Lister).List(ctx, "folder"); err != nil || !slices.Contains(all, "told") ||
		!slices.Contains(all, "out/far/away") {
		t.Errorf("%q %v", all, err)
	}
	for _, c := range []struct {
		intake   bool
		settings string
		ok       bool
		says     string
	}{
		{true, `{"folder":"told"}`, true, "1 files fit"}, {true, `{"folder":"nowhere"}`, false, "is not there"},
		{true, `{"folder":"../x"}`, false, "dots"}, {false, `{"folder":"told","name":"x"}`, true, "may be written to"},
		{false, `{"folder":"${body.x}","name":"x"}`, true, "depends on the message"},
		{false, `{"folder":"new","name":"x","make":true}`, true, "is made with the first file"},
	} {
		s := p.link.(connect.Inspector).Inspect(ctx, connect.Use{Flow: "f", Intake: c.intake,
			Settings: system.Schema(c.settings)})
		if s.OK != c.ok || !strings.Contains(s.Detail, c.says) || !s.OK && s.Repair == "" {
			t.Errorf("%s: %+v", c.settings, s)
		}
	}
	if left := p.names("told"); len(left) != 1 {
		t.Errorf("%q", left)
	}
}

// MisbehavingFolders tries a place with files whose server does not do as it is asked.
// behave tells it to refuse so many writes with a status over HTTP that means the same; -1
// breaks the connection off, -2 says nothing.
func MisbehavingFolders(t *testing.T, s connect.System, c *connect.Connection, dir string, behave func(times,
	with int), comes map[int]string) {
	const settings = `{"folder":"in","name":"a.txt"}`
	if err := os.Mkdir(filepath.Join(dir, "in"), 0o700); err != nil {
		t.Fatal(err)
	}
	for with, want := range comes {
		one := *c
		if with < 0 {
			one.TimeLimit = 300 * time.Millisecond
		}
		p := &place{t: t, link: Open(t, s, &one), dir: dir}
		behave(1, with)
		if got := p.sends(settings, "1", "whole"); !strings.HasPrefix(got, want) {
			t.Errorf("%d: %s", with, got)
		}
		behave(0, 0)
		if p.holds("in/a.txt") != "-" {
			t.Errorf("%d: the file is there", with)
		}
		p = &place{t: t, link: Open(t, s, c), dir: dir} // whatever became of the first
		if got := p.sends(settings, "1", "whole"); got != "delivered written" || p.holds("in/a.txt") != "whole" {
			t.Errorf("%d: the next try %s", with, got)
		}
		if err := os.Remove(filepath.Join(dir, "in/a.txt")); err != nil {
			t.Fatal(err)
		}
	}
}

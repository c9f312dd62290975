package main

import (
	"bytes"
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"
)

// written gives the commands of a document, each as it stands there, without those that are
// only named.
func written(t *testing.T, text string) (out []string) {
	t.Helper()
	blocks := regexp.MustCompile("(?s)```\n(.*?)```")
	for _, b := range blocks.FindAllStringSubmatch(text, -1) {
		for _, line := range strings.Split(b[1], "\n") {
			if strings.HasPrefix(line, "readyferry ") {
				out = append(out, line)
			}
		}
	}
	for _, m := range regexp.MustCompile("`(readyferry [^`]+)`").FindAllStringSubmatch(blocks.ReplaceAllString(text, ""), -1) {
		out = append(out, strings.Join(strings.Fields(m[1]), " "))
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// operated is a folder in which the commands of docs/operating.md are tried.
type operated struct {
	t         *testing.T
	dir, file string
	replace   *strings.Replacer
}

// args gives the words of a command with what stands in it for names.
func (o *operated) args(command string) []string {
	return strings.Fields(o.replace.Replace(strings.TrimPrefix(command, "readyferry ")))
}

// run runs a command to its end.
func (o *operated) run(command string, codes ...int) string {
	o.t.Helper()
	cmd := exec.Command(o.file, o.args(command)...)
	cmd.Dir = o.dir
	out, err := cmd.CombinedOutput()
	if code := cmd.ProcessState.ExitCode(); err != nil && !slices.Contains(codes, code) {
		o.t.Errorf("%s: exit %d\n%s", command, code, out)
	}
	return string(out)
}

// serve runs a command that serves, until the function that it gives is called.
func (o *operated) serve(command string) (stop func()) {
	o.t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Minute)
	cmd := exec.CommandContext(ctx, o.file, o.args(command)...)
	cmd.Dir = o.dir
	cmd.Cancel = func() error { return cmd.Process.Signal(os.Interrupt) }
	said := &lockedBuffer{}
	cmd.Stdout, cmd.Stderr = said, said
	if err := cmd.Start(); err != nil {
		o.t.Fatal(err)
	}
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	for !strings.Contains(said.String(), "Ready Ferry is at ") {
		select {
		case err := <-ended:
			o.t.Fatalf("%s: %v\n%s", command, err, said.String())
		case <-time.After(20 * time.Millisecond):
		}
	}
	return func() {
		cancel()
		<-ended
	}
}

// lockedBuffer is written by one and read by another.
type lockedBuffer struct {
	mu  sync.Mutex
	buf bytes.Buffer
}

// Write implements io.Writer.
func (b *lockedBuffer) Write(p []byte) (int, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.buf.Write(p)
}

func (b *lockedBuffer) String() string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.buf.String()
}

// Every command of docs/operating.md is run as it stands there, in the order in which somebody
// who operates the application would; so is every flag and target of make that it names there.
func TestOperatingAsWritten(t *testing.T) {
	t.Parallel()
	text, err := os.ReadFile("../../docs/operating.md")
	if err != nil {
		t.Fatal(err)
	}
	all := written(t, string(text))
	dir := t.TempDir()
	address := freeAddress(t)
	put(t, dir, map[string]string{
		"config.yaml":              "readyferry: config/1\nvalues: {a: 1}\n",
		"flows/flows/f/flow.yaml":  "readyferry: flow/1\nname: f\nintake: {kind: webhook, path: /f}\nsteps: []\n",
		"flows/flows/f/state.json": `{"live": true}`,
	})
	o := &operated{t: t, dir: dir, file: program(t)}
	key := ""
	names := func() {
		o.replace = strings.NewReplacer("/var/lib/readyferry", "data", "DIR", "data", "NEW", "restored", "FILE.tar", "backup.tar",
			"127.0.0.1:8420", address, "NAME", "maud", "FOLDER", "flows", "--config FILE", "--config config.yaml --listen "+freeAddress(t),
			"URL", "http://"+address, "KEY", key)
	}
	names()
	left := slices.Clone(all)
	tried := func(command string) string {
		t.Helper()
		i := slices.Index(left, command)
		if i < 0 {
			t.Fatalf("docs/operating.md does not have: %s\nit has %s", command, strings.Join(left, "\n"))
		}
		left = slices.Delete(left, i, i+1)
		return command
	}
	o.run(tried("readyferry version"))
	stop := o.serve(tried("readyferry serve --data /var/lib/readyferry --listen 127.0.0.1:8420 --public-url https://ferry.example.org"))
	o.run("readyferry people add NAME --data DIR --role owner@*")
	made := o.run("readyferry keys make deploy --data DIR --may read,manage --on *")
	for _, word := range strings.Fields(made) {
		if strings.HasPrefix(word, "rfk_") {
			key = word
		}
	}
	names()
	o.run(tried("readyferry backup --data DIR --to FILE.tar"))
	if out := o.run(tried("readyferry doctor --data DIR"), 1); !strings.Contains(out, "maud") && !strings.Contains(out, "deploy") {
		t.Errorf("the doctor says %s", out)
	}
	o.run(tried("readyferry people reset NAME --data DIR"))
	o.run(tried("readyferry people unlock NAME --data DIR"))
	o.run(tried("readyferry people sign-out NAME --data DIR"))
	stop()
	stop = o.serve("readyferry serve --data DIR --listen 127.0.0.1:8420 --host 127.0.0.1")
	o.run(strings.Replace(tried("readyferry export FOLDER --from URL --key KEY"), "FOLDER", "exported", 1))
	o.run("readyferry keys make maud --data DIR --may read --on *")
	o.run(tried("readyferry keys end NAME --data DIR"))
	stop()
	o.run(tried("readyferry rotate-key --data DIR"))
	o.run(tried("readyferry audit verify --data DIR"))
	o.run(tried("readyferry restore --from FILE.tar --data NEW"))
	o.run(tried("readyferry verify --data NEW"))
	o.serve(tried("readyferry serve --config FILE"))()
	names()
	o.serve(tried("readyferry serve --flows FOLDER") + " --listen " + freeAddress(t))()
	named := []string{"readyferry export", "readyferry.service"}
	left = slices.DeleteFunc(left, func(c string) bool { return slices.Contains(named, c) })
	if len(left) > 0 {
		t.Errorf("not tried: %s", strings.Join(left, "\n"))
	}

	flags, _, _ := execute(t, o.file, "serve", "--help")
	for _, f := range regexp.MustCompile(`--[a-z][a-z-]+`).FindAllString(string(text), -1) {
		known := strings.Contains(flags, f+" ") || strings.Contains(flags, f+"\n")
		if !known && !slices.Contains([]string{"--data", "--to", "--from", "--key", "--now"}, f) {
			t.Errorf("serve has no %s", f)
		}
	}
	makefile, err := os.ReadFile("../../Makefile")
	if err != nil {
		t.Fatal(err)
	}
	for _, m := range regexp.MustCompile("`make ([a-z-]+)`").FindAllStringSubmatch(string(text), -1) {
		if !strings.Contains(string(makefile), "\n"+m[1]+":") {
			t.Errorf("there is no make %s", m[1])
		}
	}
	for _, name := range []string{"packaging/Containerfile", "packaging/readyferry.default"} {
		if _, err := os.Stat(filepath.Join("../..", name)); err != nil {
			t.Error(err)
		}
	}
}

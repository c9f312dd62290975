package readyferry_test

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// released copies what a release is made with into a folder, as a commit of its own.
func released(t *testing.T, dir string) (run func(name string, args ...string) string) {
	t.Helper()
	run = func(name string, args ...string) string {
		t.Helper()
		cmd := exec.Command(name, args...)
		cmd.Dir = dir
		cmd.Env = append(os.Environ(), "GOFLAGS=", "GIT_AUTHOR_DATE=2026-01-02T03:04:05Z",
			"GIT_COMMITTER_DATE=2026-01-02T03:04:05Z")
		var aside bytes.Buffer // also what is downloaded the first time
		cmd.Stderr = &aside
		out, err := cmd.Output()
		if err != nil {
			t.Fatalf("%s %v: %v\n%s%s", name, args, err, out, aside.Bytes())
		}
		return string(out)
	}
	for _, name := range []string{"packaging", "docs", "README.md", "CHANGELOG.md", "LICENSE"} {
		from, to := name, filepath.Join(dir, name)
		if info, err := os.Stat(from); err == nil && info.IsDir() {
			if err := os.CopyFS(to, os.DirFS(from)); err != nil {
				t.Fatal(err)
			}
			continue
		}
		text, err := os.ReadFile(from)
		if err == nil {
			err = os.WriteFile(to, text, 0o600)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	if err := os.WriteFile(filepath.Join(dir, "program"), []byte("#!/bin/sh\n"), 0o755); err != nil {
		t.Fatal(err)
	}
	run("git", "init", "-q")
	run("git", "add", ".")
	run("git", "-c", "user.name=x", "-c", "user.email=x@localhost", "commit", "-qm", "all")
	return run
}

// The same commit gives the same bytes in any folder, and a package has what it should, where it should be.
func TestAReleaseIsTheSameAnywhere(t *testing.T) {
	if testing.Short() {
		t.Skip("builds the tool that makes packages")
	}
	one, other := t.TempDir(), filepath.Join(t.TempDir(), "elsewhere")
	if err := os.Mkdir(other, 0o700); err != nil {
		t.Fatal(err)
	}
	run := released(t, one)
	first := run("packaging/release", "program")
	if second := released(t, other)("packaging/release", "program"); first != second {
		t.Errorf("one folder gives\n%s\nand another\n%s", first, second)
	}
	packages, err := filepath.Glob(filepath.Join(one, "dist", "readyferry_0.20260102.030405+*.deb"))
	if err != nil || len(packages) != 1 {
		t.Fatalf("%v %v in %s", packages, err, run("ls", "dist"))
	}
	if _, err := exec.LookPath("dpkg-deb"); err == nil {
		in := strings.Fields(run("dpkg-deb", "-c", packages[0]))
		for _, name := range []string{"./usr/bin/readyferry", "./usr/lib/systemd/system/readyferry.service",
			"./etc/default/readyferry",
			"./usr/share/doc/readyferry/operating.md", "./usr/share/doc/readyferry/copyright"} {
			if !slices.Contains(in, name) {
				t.Errorf("the package has no %s: %v", name, in)
			}
		}
	}
	if list := run("sh", "-c", "tar tzf dist/*.tar.gz"); !strings.Contains(list, "/readyferry.service") {
		t.Errorf("the archive has %s", list)
	}
}

// The service is one that systemd takes, and it shuts in what it can.
func TestTheServiceIsShutIn(t *testing.T) {
	unit, err := os.ReadFile("packaging/readyferry.service")
	if err != nil {
		t.Fatal(err)
	}
	for _, line := range []string{"User=readyferry", "NoNewPrivileges=yes", "ProtectSystem=strict",
		"CapabilityBoundingSet=", "UMask=0077",
		"StateDirectory=readyferry", "RestrictAddressFamilies=AF_INET AF_INET6 AF_UNIX", "SystemCallFilter=@system-service"} {
		if !slices.Contains(strings.Split(string(unit), "\n"), line) {
			t.Errorf("it does not say %s", line)
		}
	}
	analyze, err := exec.LookPath("systemd-analyze")
	if err != nil {
		t.Skip("systemd-analyze is not here")
	}
	// Where it runs, the program is elsewhere; true stands for it.
	dir := t.TempDir()
	file := filepath.Join(dir, "readyferry.service")
	text := strings.Replace(string(unit), "/usr/bin/readyferry", "/bin/true", 1)
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	out, err := exec.Command(analyze, "verify", "--man=no", file).CombinedOutput()
	if about := string(out); err != nil || strings.Contains(about, "readyferry.service:") {
		t.Errorf("systemd says %v: %s", err, out)
	}
}

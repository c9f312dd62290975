package main

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// A demo is exported over HTTP with a key into a folder, imported into another one, twice, and a flow
// is promoted from the one to the other, whose connections stay as they are.
func TestExportImportAndPromote(t *testing.T) {
	file, dir := program(t), t.TempDir()
	test, live, out := filepath.Join(dir, "test"), filepath.Join(dir, "live"), filepath.Join(dir, "out")
	printed := servingWith(t, file, "demo", "--with-sign-in", "--trickle", "0", "--data", test, "--listen", "127.0.0.1:0")
	base := regexp.MustCompile(`at (http://127\S+)`).FindStringSubmatch(printed)[1]
	run := func(want int, args ...string) string {
		t.Helper()
		said, errs, code := execute(t, file, args...)
		if code != want {
			t.Fatalf("%v: %d %s %s", args[:2], code, said, errs)
		}
		return said
	}
	key := strings.TrimSpace(run(0, "keys", "make", "mover", "--may", "read,manage", "--on", "*", "--data", test))
	secret := filepath.Join(dir, "key")
	if err := os.WriteFile(secret, []byte(key+"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	for range 400 { // the application looks at keys every two seconds
		if _, _, code := execute(t, file, "export", out, "--from", base, "--key", "@"+secret); code == 0 {
			break
		}
	}
	if _, err := os.Stat(filepath.Join(out, "flows/hold-requests/flow.yaml")); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(out, "README.md"), []byte("ours"), 0o600); err != nil {
		t.Fatal(err)
	}
	preview := run(0, "import", out, "--data", live, "--preview")
	done := run(0, "import", out, "--data", live, "--note", "moved")
	if strings.TrimSuffix(preview, "nothing was changed: this is a preview\n") != done || !strings.Contains(done,
		"publishes flow hold-requests") {
		t.Errorf("the preview said %d lines, the import %d", strings.Count(preview, "\n"), strings.Count(done, "\n"))
	}
	if again := run(0, "import", out, "--data", live); again != "nothing is different\n" {
		t.Errorf("a second import: %s", again)
	}
	again := filepath.Join(dir, "again")
	run(0, "export", again, "--data", live)
	for _, part := range []string{"flows", "connections", "tables"} {
		if said, errs, code := execute(t, "diff", "-r", filepath.Join(out, part), filepath.Join(again, part)); code != 0 {
			t.Errorf("%s differ: %s %s", part, said, errs)
		}
	}
	address := freeAddress(t)
	servingWith(t, file, "serve", "--data", live, "--listen", address)
	if _, errs, code := execute(t, file, "import", out, "--data", live); code == 0 || errs == "" {
		t.Errorf("a folder that is served is imported into: %d %s", code, errs)
	}
	if _, errs, code := execute(t, file, "promote", "hold-requests", "--from", base, "--from-key", "@"+secret, "--to",
		"http://"+address,
		"--key", "rfk_none"); code != 1 || !strings.Contains(errs, "answers 401") {
		t.Errorf("without a key: %d %s", code, errs)
	}
	there := strings.TrimSpace(run(0, "keys", "make", "mover", "--may", "read,manage", "--on", "*", "--data", live))
	said := ""
	for range 400 {
		var code int
		if said, _, code = execute(t, file, "promote", "hold-requests", "--from", base, "--from-key", "@"+secret, "--to",
			"http://"+address,
			"--key", there, "--publish"); code == 0 {
			break
		}
	}
	if said != "nothing is different\n" {
		t.Errorf("promoted as it was: %s", said)
	}
}

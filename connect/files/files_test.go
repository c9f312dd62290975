package files

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"readyferry/connect"
	"readyferry/connect/connecttest"
)

func reaches(t *testing.T, address string, allowed ...string) connect.Link {
	t.Helper()
	return connecttest.Open(t, New(allowed, ""), &connect.Connection{Name: "exchange", Kind: Kind, Address: address,
		TimeLimit: 10 * time.Second})
}

func TestFiles(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "allowed", "exchange")
	if err := os.MkdirAll(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	connecttest.Folders(t, reaches(t, "file://"+dir, "/nowhere", filepath.Dir(dir)), dir, true)
}

// Only what lies below the folders that the operator names is reached.
func TestOnlyWhatTheOperatorNames(t *testing.T) {
	dir := t.TempDir()
	allowed, other := filepath.Join(dir, "allowed"), filepath.Join(dir, "allowed-not")
	for _, d := range []string{allowed, other} {
		if err := os.Mkdir(d, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Symlink(other, filepath.Join(allowed, "link")); err != nil {
		t.Fatal(err)
	}
	for address, ok := range map[string]bool{
		"file://" + allowed: true, "file://" + allowed + "/": true, "file://" + other: false,
		"file://" + allowed + "/../allowed-not": false,
		"file:///":                              false, "file://" + allowed + "/link": false,
		"file://" + allowed + "/nowhere":            false,
		"stand-in://x":                              false,
		"file://" + allowed + "/%2e%2e/allowed-not": false,
	} {
		r, err := reaches(t, address, allowed).Check(context.Background())
		if err != nil || r.OK != ok {
			t.Errorf("%s: %+v %v", address, r, err)
		}
		if last := r.Steps[len(r.Steps)-1]; !ok && r.Steps[0].Repair+last.Repair == "" && (len(r.Steps) < 2 ||
			r.Steps[len(r.Steps)-2].Repair == "") {
			t.Errorf("%s: it does not say what to do: %+v", address, r.Steps)
		}
	}
	if r, _ := reaches(t, "file://"+allowed).Check(context.Background()); r.OK || !strings.Contains(r.Detail,
		"not started for this folder") {
		t.Errorf("%+v", r)
	}
}

// A pipe in a folder holds nobody up, whether it is read or written.
func TestAPipeIsNoFile(t *testing.T) {
	dir := t.TempDir()
	if err := mkfifo(filepath.Join(dir, "pipe")); err != nil {
		t.Skip("no pipes can be made here")
	}
	l := reaches(t, "file://"+dir, dir)
	for _, exists := range []string{"append", "refuse"} {
		r, err := connecttest.Send(l, `{"name":"pipe","exists":"`+exists+`"}`, "x", "x")
		if err == nil && r.Outcome == "delivered" {
			t.Errorf("%s: %+v", exists, r)
		}
	}
}

// What was changed is seen at once, not when it is looked for.
func TestAChangeWakes(t *testing.T) {
	dir := t.TempDir()
	in := connecttest.Receive(t, reaches(t, "file://"+dir, dir), `{"settled":"1ms","every":"24h"}`, nil, nil).Ready(t)
	if err := os.WriteFile(filepath.Join(dir, "new.txt"), []byte("x"), 0o600); err != nil {
		t.Fatal(err)
	}
	in.Until(t, 1)
}

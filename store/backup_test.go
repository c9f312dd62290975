package store

import (
	"archive/tar"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// backedUp gives a folder with some of everything, and its backup.
func backedUp(t *testing.T) (dir string, backup []byte) {
	t.Helper()
	dir = t.TempDir()
	s := open(t, dir)
	for i := range 50 {
		add(t, s, "f", UnderWay, fmt.Sprint("R-", i))
	}
	for name, text := range map[string]string{"loads/a.csv": "x,y", "stand-ins/files/shelf/in/b.txt": "b"} {
		file := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	var b bytes.Buffer
	if _, err := Backup(t.Context(), dir, &b, func(int64, int64) {}); err != nil { // while the store is open
		t.Fatal(err)
	}
	left, err := filepath.Glob(filepath.Join(dir, "backup-*"))
	if err != nil || len(left) > 0 {
		t.Errorf("the backup leaves %v %v", left, err)
	}
	return dir, b.Bytes()
}

func TestABackupComesBackAsItWas(t *testing.T) {
	dir, backup := backedUp(t)
	to := filepath.Join(t.TempDir(), "new", "data")
	m, err := Restore(t.Context(), bytes.NewReader(backup), to)
	if err != nil || len(m.Files) != 4 || m.Schema != lastMigration {
		t.Fatalf("%+v %v", m, err)
	}
	for _, name := range []string{"seal.key", "loads/a.csv", "stand-ins/files/shelf/in/b.txt"} {
		was, bad := os.ReadFile(filepath.Join(dir, name))
		is, err := os.ReadFile(filepath.Join(to, name))
		if bad != nil || err != nil || !bytes.Equal(was, is) {
			t.Errorf("%s: %q, was %q, %v %v", name, is, was, bad, err)
		}
	}
	s := open(t, to)
	all, err := s.Transactions(Filter{Limit: 100})
	if err != nil || len(all) != 50 {
		t.Errorf("%d transactions, %v", len(all), err)
	}
	if _, err := Restore(t.Context(), bytes.NewReader(backup), to); err == nil || !strings.Contains(err.Error(), "is not empty") {
		t.Errorf("it is restored over another one: %v", err)
	}
}

// made makes an archive of names and texts, in this order.
func made(t *testing.T, files ...[2]string) []byte {
	t.Helper()
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for _, f := range files {
		if err := w.WriteHeader(&tar.Header{Name: f[0], Size: int64(len(f[1])), Mode: 0o600}); err != nil {
			t.Fatal(err)
		}
		if _, err := io.WriteString(w, f[1]); err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

// What is cut off, changed or no backup makes no folder.
func TestABackupThatIsNotWholeIsRefused(t *testing.T) {
	_, backup := backedUp(t)
	changed := bytes.Clone(backup)
	changed[bytes.Index(changed, []byte("x,y"))] = 'z'
	manifest := func(m Manifest) string {
		b, err := json.Marshal(m)
		if err != nil {
			t.Fatal(err)
		}
		return string(b)
	}
	link := &bytes.Buffer{}
	w := tar.NewWriter(link)
	if err := w.WriteHeader(&tar.Header{Name: "loads", Typeflag: tar.TypeSymlink, Linkname: "/tmp"}); err != nil {
		t.Fatal(err)
	}
	_ = w.Close()
	for why, archive := range map[string][]byte{
		"ends without its manifest":     made(t, [2]string{dbFile, "x"}),
		"unexpected EOF":                backup[:len(backup)/2],
		"is not as it was when":         changed,
		"it is no backup":               []byte(strings.Repeat("no archive", 100)),
		"is no file of a data folder":   made(t, [2]string{"../out", "x"}),
		`"/etc/out" is no file`:         made(t, [2]string{"/etc/out", "x"}),
		`"loads" is no file`:            link.Bytes(),
		"this release reads":            made(t, [2]string{manifestFile, manifest(Manifest{Format: "other/9"})}),
		"made by a later release":       made(t, [2]string{manifestFile, manifest(Manifest{Format: backupFormat, Schema: "9999"})}),
		"has 1 files, and its manifest": made(t, [2]string{"x", "y"}, [2]string{manifestFile, manifest(Manifest{Format: backupFormat})}),
		"it has no journal":             made(t, [2]string{manifestFile, manifest(Manifest{Format: backupFormat})}),
		"manifest cannot be read":       made(t, [2]string{manifestFile, "{"}),
	} {
		parent := t.TempDir()
		to := filepath.Join(parent, "data")
		if _, err := Restore(t.Context(), bytes.NewReader(archive), to); err == nil || !strings.Contains(err.Error(), why) {
			t.Errorf("%s: %v", why, err)
		}
		if left, err := os.ReadDir(parent); err != nil || len(left) > 0 {
			t.Errorf("%s: it leaves %v %v", why, left, err)
		}
	}
}

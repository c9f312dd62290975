package bench

import (
	"fmt"
	"os"
	"path/filepath"
	"sync/atomic"
	"testing"
)

// Files of a folder, beside a program that only reads and renames them, and one that only
// writes them under another name and renames them.
func BenchmarkFiles(b *testing.B) {
	dir := b.TempDir()
	for _, name := range []string{"in", "aside", "seen", "out", "bare"} {
		if err := os.Mkdir(filepath.Join(dir, name), 0o700); err != nil {
			b.Fatal(err)
		}
	}
	made := 0
	write := func(folder string, n int) {
		for range n {
			made++
			part := filepath.Join(dir, folder, fmt.Sprint(".", made))
			if err := os.WriteFile(part, fmt.Appendf(nil, `{"n":%d}`, made), 0o600); err != nil {
				b.Fatal(err)
			}
			if err := os.Rename(part, filepath.Join(dir, folder, fmt.Sprint(made, ".json"))); err != nil {
				b.Fatal(err)
			}
		}
	}
	var heard atomic.Int64
	aside := func(n int) {
		write("aside", n)
		all, err := os.ReadDir(filepath.Join(dir, "aside"))
		if err != nil {
			b.Fatal(err)
		}
		for _, f := range all {
			at := filepath.Join(dir, "aside", f.Name())
			if _, err := os.ReadFile(at); err != nil {
				b.Fatal(err)
			}
			if err := os.Rename(at, filepath.Join(dir, "seen", f.Name())); err != nil {
				b.Fatal(err)
			}
			heard.Add(1)
		}
	}
	measure(b, counterpart{connection: "kind: files\naddress: file://" + dir,
		intake:  "kind: files, folder: in, settled: 1ms, every: 1s",
		deliver: "folder: out, name: '${body.n}.json', exists: replace", put: func(n int) { write("in", n) }, putAside: aside,
		putOut: func(n int) { write("bare", n) }, heard: &heard})
}

package readyferry_test

import (
	"bufio"
	"bytes"
	"io/fs"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"unicode/utf8"
)

// sources are the files below root with one of the ends, as paths with slashes.
func sources(t *testing.T, root string, ends ...string) []string {
	t.Helper()
	var all []string
	err := filepath.WalkDir(root, func(p string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.IsDir() && slices.Contains([]string{"node_modules", "dist", ".git"}, d.Name()) {
			return fs.SkipDir
		}
		if slices.Contains(ends, filepath.Ext(p)) {
			all = append(all, filepath.ToSlash(p))
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	return all
}

// The picture shows the imports of today.
func TestThePictureIsDrawnFromTheImports(t *testing.T) {
	want, err := exec.Command("go", "run", "./docs/draw").Output()
	if err != nil {
		t.Fatal(err)
	}
	if have, err := os.ReadFile("docs/architecture.svg"); err != nil || !bytes.Equal(have, want) {
		t.Errorf("docs/architecture.svg is not what the imports say (%v); draw it with `make picture`", err)
	}
}

var webImport = regexp.MustCompile(`(?:from |import |import\()"(\.[^"]*)"`)

// No file of the browser's sources comes back to itself by its imports. An import
// on demand counts, too: it still ties the two files together.
func TestTheBrowsersSourcesHaveNoCircle(t *testing.T) {
	imports := map[string][]string{}
	files := sources(t, "web/src", ".ts", ".tsx")
	if len(files) < 40 {
		t.Fatalf("only %d files were found", len(files))
	}
	for _, f := range files {
		text, err := os.ReadFile(f)
		if err != nil {
			t.Fatal(err)
		}
		for _, m := range webImport.FindAllStringSubmatch(string(text), -1) {
			to := path.Join(path.Dir(f), m[1])
			for _, end := range []string{".ts", ".tsx", "/index.ts", "/index.tsx", ".d.ts"} {
				if slices.Contains(files, to+end) {
					imports[f] = append(imports[f], to+end)
				}
			}
		}
	}
	done := map[string]bool{}
	var follow func(f string, way []string)
	follow = func(f string, way []string) {
		if i := slices.Index(way, f); i >= 0 {
			t.Errorf("a circle: %s", strings.Join(append(way[i:], f), " → "))
			return
		}
		if done[f] {
			return
		}
		for _, to := range imports[f] {
			follow(to, append(slices.Clone(way), f))
		}
		done[f] = true
	}
	for _, f := range files {
		follow(f, nil)
	}
}

// A change can be read and reviewed in two columns: no line of Go is over 160
// letters long and at most one in two hundred over 120; none of openapi.yaml is.
func TestLinesAreShortEnoughToRead(t *testing.T) {
	lines, long := 0, 0
	for _, f := range append(sources(t, ".", ".go"), "api/openapi.yaml") {
		text, err := os.ReadFile(f)
		if err != nil {
			t.Fatal(err)
		}
		s := bufio.NewScanner(bytes.NewReader(text))
		s.Buffer(nil, len(text)+1)
		for n := 1; s.Scan(); n++ {
			lines++
			switch size := utf8.RuneCountInString(s.Text()); {
			case size > 160, size > 120 && strings.HasSuffix(f, ".yaml"):
				t.Errorf("%s:%d has %d letters", f, n, size)
			case size > 120:
				long++
			}
		}
	}
	if long*200 > lines {
		t.Errorf("%d of %d lines are longer than 120 letters", long, lines)
	}
}

package folder

import (
	"errors"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"readyferry/core/system"
)

// still is a place with files that a test changes.
type still struct {
	Tree
	files []Info
}

func (s *still) List(string, int) ([]Info, error) { return s.files, nil }
func (s *still) Close() error                     { return nil }

// A file is taken when its size and time have not changed for as long as the intake says.
func TestAFileIsTakenWhenItIsWhole(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		in, err := readIntake(system.Schema(`{"settled":"5s","names":"*.csv b?.txt","order":"time"}`))
		if err != nil {
			t.Fatal(err)
		}
		at := time.Date(2026, 3, 17, 6, 0, 0, 0, time.UTC)
		place := &still{files: []Info{{Name: "b.csv", Size: 1, Modified: at}, {Name: "a.csv", Size: 1, Modified: at.Add(time.Minute)},
			{Name: "b1.txt", Size: 1, Modified: at.Add(-time.Minute)}, {Name: "c.txt", Size: 1}, {Name: ".d.csv", Size: 1}, {Name: "d.csv", Dir: true}}}
		r := &receiving{in: in, tree: place, seen: map[string]sight{}}
		names := func() string {
			t.Helper()
			files, wait, err := r.look(time.Now())
			if err != nil || wait <= 0 || wait > in.every {
				t.Fatal(wait, err)
			}
			var all []string
			for _, f := range files {
				all = append(all, f.path)
			}
			return strings.Join(all, " ")
		}
		for _, step := range []struct {
			wait time.Duration
			grow int // which file somebody writes meanwhile, -1 for none
			want string
		}{
			{0, -1, ""}, {4 * time.Second, -1, ""}, {2 * time.Second, 0, "b1.txt a.csv"}, {4 * time.Second, -1, "b1.txt a.csv"},
			{time.Second, -1, "b1.txt b.csv a.csv"},
		} {
			time.Sleep(step.wait)
			if step.grow >= 0 {
				place.files[step.grow].Size++
			}
			if got := names(); got != step.want {
				t.Errorf("after %s: %q, want %q", step.wait, got, step.want)
			}
		}
	})
}

func TestWhatIntakesSayIsRead(t *testing.T) {
	for settings, wrong := range map[string]string{
		`{}`: "", `{"folder":"/x"}`: "slash", `{"folder":"x/../y"}`: "dots", `{"to":"../x"}`: "dots", `{"then":"rename","ending":"/x"}`: "character",
		`{"names":"[a"}`: "no pattern", `{"every":"1ms"}`: "once a second", `{"settled":"soon"}`: "span", `{"take":"xml"}`: "element",
	} {
		_, err := readIntake(system.Schema(settings))
		if wrong == "" && err != nil || wrong != "" && (err == nil || !strings.Contains(err.Error(), wrong)) {
			t.Errorf("%s: %v", settings, err)
		}
	}
}

// A sample becomes a file of which the intake makes that sample.
func TestASampleBecomesAFile(t *testing.T) {
	for _, c := range []struct{ settings, called, body, name, file string }{
		{`{"folder":"in","names":"cat-*.csv","take":"csv","separator":"semicolon"}`, "cat-1.csv", `{"a":"1;2","b":"3"}`, "in/cat-1.csv", "a;b\r\n\"1;2\";3\r\n"},
		{`{"names":"cat-*.csv"}`, "../../x", `x`, "cat-sample.csv", "x"},
		{`{"take":"line"}`, "", "a line", "sample", "a line\n"},
	} {
		name, file, err := Whole(system.Schema(c.settings), c.called, []byte(c.body))
		if err != nil || name != c.name || string(file) != c.file {
			t.Errorf("%s: %s %q %v", c.settings, name, file, err)
		}
	}
}

// Whatever a name holds, a path never leaves the place.
func FuzzBelow(f *testing.F) {
	for _, s := range []string{"a/b", "../x", "/etc", "a/../../b", "a//b", "a\x00", `a\b`, ".", "", "a/.", "…", "a/./b"} {
		f.Add(s, "name")
	}
	f.Fuzz(func(t *testing.T, dir, name string) {
		at, err := Below(dir, name)
		if err != nil {
			if !errors.Is(err, errName) {
				t.Error(err)
			}
			return
		}
		if strings.HasPrefix(at, "/") || strings.ContainsAny(at, "\\\x00\n\r") {
			t.Errorf("%q", at)
		}
		for _, part := range strings.Split(at, "/") {
			if part == ".." || part == "." || at != "" && part == "" {
				t.Errorf("%q", at)
			}
		}
	})
}

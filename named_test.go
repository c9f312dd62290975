package readyferry_test

import (
	"os"
	"os/exec"
	"regexp"
	"strings"
	"testing"
)

// Each test that the documents name is there.
func TestNamedTestsAreThere(t *testing.T) {
	out, err := exec.Command("git", "grep", "-hE", "^func (Test|Fuzz)[A-Za-z0-9]+\\(").Output()
	if err != nil {
		t.Fatal(err)
	}
	there := map[string]bool{}
	for _, m := range regexp.MustCompile(`func ((?:Test|Fuzz)\w+)\(`).FindAllStringSubmatch(string(out), -1) {
		there[m[1]] = true
	}
	n := 0
	for _, file := range []string{"docs/security.md", "docs/asvs.md", "docs/architecture.md", "docs/performance.md",
		"README.md"} {
		text, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		for _, m := range regexp.MustCompile(`\b(Test|Fuzz)[A-Z]\w+(…)?`).FindAllString(string(text), -1) {
			n++
			if begin, cut := strings.CutSuffix(m, "…"); cut {
				found := false
				for name := range there {
					found = found || strings.HasPrefix(name, begin)
				}
				if found {
					continue
				}
			}
			if !there[m] {
				t.Errorf("%s names %s, which is not there", file, m)
			}
		}
		for _, m := range regexp.MustCompile(`e2e/[\w-]+\.spec\.ts`).FindAllString(string(text), -1) {
			n++
			if _, err := os.Stat(m); err != nil {
				t.Errorf("%s names %s, which is not there", file, m)
			}
		}
	}
	if n < 100 {
		t.Errorf("only %d are named", n)
	}
}

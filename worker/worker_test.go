package worker

import (
	"errors"
	"fmt"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"readyferry/core/script"
)

// The test's own program is the worker.
func TestMain(m *testing.M) {
	if len(os.Args) > 1 && os.Args[1] == Argument {
		if err := Serve(os.Stdin, os.Stdout); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(2)
		}
		return
	}
	os.Exit(m.Run())
}

func pool(t testing.TB) *Pool {
	t.Helper()
	p, err := New("")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := p.Close(); err != nil {
			t.Error(err)
		}
	})
	return p
}

func TestScriptsRunInWorkers(t *testing.T) {
	p := pool(t)
	for source, want := range map[string]string{
		"return body.a + 1":                         "42",
		"return [typeof part, now, {b: undefined}]": `["undefined","2026",{}]`,
		"return 'é' + body.a":                       `"é41"`,
	} {
		got, err := p.Run(source, time.Second, []byte(`{"body": {"a": 41}, "now": "2026"}`))
		if err != nil || string(got) != want {
			t.Errorf("%s: %s, %v", source, got, err)
		}
	}
	for source, want := range map[string]string{
		"throw new Error('no')": "line 1: it threw Error: no",
		"return body.x.y":       "line 1: it threw TypeError",
		"return":                "returns nothing",
		"return (":              "Unexpected token",
	} {
		if _, err := p.Run(source, time.Second, []byte(`{"body": {}}`)); err == nil || !strings.Contains(err.Error(), want) ||
			errors.Is(err, script.ErrLimit) {
			t.Errorf("%s: %v", source, err)
		}
	}
}

// What no sandbox can interrupt is ended from outside; the others do not notice.
func TestWhatCannotBeInterruptedIsEnded(t *testing.T) {
	p := pool(t)
	var all sync.WaitGroup
	for _, source := range []string{
		"return [...Array(5e7)].length",
		"return String.fromCharCode.apply(null, {length: 5e7}).length",
		"return 'x'.repeat(2 ** 28).split('').length",
		"return Array(1e8).fill(7).map(x => x + 1).length",
		"return JSON.stringify(Array(3e7).fill('abcdefgh')).length",
		"for (;;) {}",
		"let a = []; for (;;) a.push(new Array(1000).fill(1))",
		"return 'a'.padEnd(2 ** 29, 'bc').length",
		"return Array(2e7).fill(0).sort(() => 1).length",
	} {
		all.Go(func() {
			if got, err := p.Run(source, 200*time.Millisecond, []byte(`{}`)); !errors.Is(err, script.ErrLimit) &&
				(err == nil || !strings.Contains(err.Error(), "it threw RangeError")) {
				t.Errorf("%s: %.50s, %v", source, got, err)
			} else if strings.Count(err.Error(), "stopped") > 1 {
				t.Errorf("it says twice that it was stopped: %v", err)
			}
		})
	}
	all.Wait()
	for range 4 {
		if got, err := p.Run("return 7", time.Second, []byte(`{}`)); err != nil || string(got) != "7" {
			t.Errorf("behind them: %s, %v", got, err)
		}
	}
}

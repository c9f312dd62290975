package engine

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"testing"
	"testing/synctest"

	"readyferry/engine/intake"
	"readyferry/engine/journal"
	"readyferry/store"
)

// engines are those of several partitions, which ask each other.
type engines struct {
	of []*world

	mu    sync.Mutex // held for what follows
	asked int
	loses func(asked int) error // what becomes of the answer to what is asked for the nth time
}

func (e *engines) Ask(ctx context.Context, part int, a journal.Asked) (journal.Done, error) {
	done, err := e.of[part].Engine.DoAsked(ctx, a)
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.asked++; err == nil && e.loses != nil {
		err = e.loses(e.asked)
	}
	return done, err
}

// lose says what becomes of answers from now on.
func (e *engines) lose(how func(asked int) error) {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.loses = how
}

// partitions starts the engines of so many, each of which has the same flows; the first asks the others.
func partitions(t *testing.T, n int, documents ...string) *engines {
	all := &engines{of: make([]*world, n)}
	for part := n - 1; part >= 0; part-- {
		w := startWith(t, t.TempDir(), &target{}, func(c *Config) {
			c.Partition = journal.Partition{This: part, Of: n}
			c.Opener = registry(t)
			if part == 0 {
				c.Others = all
			}
		})
		w.connect("out", "")
		for _, d := range documents {
			w.publish(d)
		}
		all.of[part] = w
	}
	return all
}

// Records of a load are taken in the partitions that calls with their values belong to, each once, wherever the line
// breaks or the load stops meanwhile.
func TestALoadIsSpreadOverPartitions(t *testing.T) {
	for name, loses := range map[string]func(asked int) error{
		"all answer":        nil,
		"an answer is lost": func(n int) error { return map[int]error{2: errors.New("the line broke")}[n] },
		"it fails and is resumed": func(n int) error {
			return map[int]error{1: journal.ErrDecision, 4: journal.ErrDecision}[n]
		},
	} {
		t.Run(name, func(t *testing.T) { synctest.Test(t, func(t *testing.T) { loadedEverywhere(t, loses) }) })
	}
}

func loadedEverywhere(t *testing.T, loses func(asked int) error) {
	e := partitions(t, 3, `
readyferry: flow/1
name: members
intake: {kind: webhook, path: /members, format: json, order: body.v, once: 'body.v + "/" + body.n', reference: 'body.v + "/" + body.n'}
steps:
  - {id: n, kind: note, text: '${body.n}'}
`)
	e.lose(loses)
	w, ctx := e.of[0], context.Background()
	var file strings.Builder
	const n = 700
	for i := range n {
		fmt.Fprintf(&file, "{\"v\":\"v%d\",\"n\":\"%d\"}\n", i%7, i/7)
	}
	l := w.load(intake.NewLoad{Format: "jsonl", Filter: `record.v != "v6"`, File: strings.NewReader(file.String())}, store.LoadReady)
	for do := "start"; ; do = "resume" {
		if err := w.SetLoad(ctx, l.ID, do); err != nil {
			t.Fatal(err)
		}
		if l = w.loadIs(l.ID, store.LoadDone, store.LoadFailed); l.State == store.LoadDone {
			break
		}
	}
	if l.Taken != 600 || l.Skipped != 100 || l.Read != n {
		t.Errorf("%+v", l)
	}
	found := map[string]int{}
	for part, w := range e.of {
		w.until("all have gone through", func() bool {
			list, err := w.store.Transactions(store.Filter{Limit: 1000})
			if err != nil {
				t.Fatal(err)
			}
			for _, x := range list {
				if x.State < store.Delivered {
					return false
				}
			}
			return true
		})
		list, _ := w.store.Transactions(store.Filter{Limit: 1000})
		for _, x := range list {
			found[x.Reference]++
			if x.OrderValue == "" || w.Partition.Holding(x.OrderValue) != part {
				t.Errorf("%s is in partition %d", x.Reference, part)
			}
		}
	}
	for v := range 6 {
		for i := range 100 {
			if at := fmt.Sprintf("v%d/%d", v, i); found[at] != 1 {
				t.Errorf("%s came %d times", at, found[at])
			}
		}
	}
	if len(found) != 600 {
		t.Errorf("%d are there", len(found))
	}
}

// A query that is read again may bring other rows under the numbers that were handed over: those that were taken are
// known all the same, and none that was not is left out.
func TestRowsThatHaveMovedAreKnown(t *testing.T) {
	e := partitions(t, 2, `
readyferry: flow/1
name: members
intake: {kind: webhook, path: /members, format: json, order: body.v, reference: body.v}
steps: []
`)
	w, ctx := e.of[1], context.Background()
	hand := func(behind int64, rows ...string) {
		t.Helper()
		p := intake.LoadPart{ID: store.ID{1}, Flow: "members", Title: "rows", Behind: behind}
		for i, r := range rows {
			if r != "" { // it belongs elsewhere
				p.Records = append(p.Records, intake.LoadRecord{N: behind + int64(i) + 1, Body: fmt.Appendf(nil, `{"v":%q}`, r)})
			}
		}
		if err := w.TakeLoadPart(ctx, p); err != nil {
			t.Fatal(err)
		}
	}
	is := func(wanted map[string]int) {
		t.Helper()
		if got := w.references("members"); fmt.Sprint(got) != fmt.Sprint(wanted) {
			t.Errorf("there are %v, not %v", got, wanted)
		}
	}
	hand(0, "a", "b", "", "c", "c")
	is(map[string]int{"a": 1, "b": 1, "c": 2})
	hand(0, "a", "b", "", "c", "c") // once more
	is(map[string]int{"a": 1, "b": 1, "c": 2})
	hand(0, "b", "", "new", "c", "c", "c", "d") // a is gone, there are others
	is(map[string]int{"a": 1, "b": 1, "c": 3, "d": 1, "new": 1})
	hand(3, "c", "c", "c", "d", "e") // the load stands behind the third
	is(map[string]int{"a": 1, "b": 1, "c": 3, "d": 1, "e": 1, "new": 1})
	hand(7, "e", "c") // behind d, of which nothing comes again
	is(map[string]int{"a": 1, "b": 1, "c": 4, "d": 1, "e": 1, "new": 1})
}

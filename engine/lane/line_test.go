package lane

import (
	"fmt"
	"testing"
	"time"

	"readyferry/core/plan"
	"readyferry/engine/catalog"
	"readyferry/engine/journal"
	"readyferry/store"
)

// A flow whose message comes behind a hundred thousand of another is served at its next
// turn, and weights are the shares of the turns.
func TestLinesTakeTurnsByWeight(t *testing.T) {
	reader, err := plan.NewReader()
	if err != nil {
		t.Fatal(err)
	}
	s, err := store.OpenUnsynced(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	doc := "readyferry: flow/1\nname: %s\nweight: %d\nintake: {kind: webhook, path: /%[1]s}\nsteps: []\n"
	weights := map[string]int{"much": 1, "heavy": 3, "late": 1}
	err = s.Write(t.Context(), func(tx *store.Tx) error {
		for name, weight := range weights {
			text := fmt.Sprintf(doc, name, weight)
			if err := tx.SaveFlow(&store.Flow{Name: name, Draft: text, Live: 1}); err != nil {
				return err
			}
			if err := tx.AddVersion(&store.Version{Flow: name, N: 1, Document: text, Rules: 2}); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	known, err := catalog.New(s, reader, nil, nil, nil)
	if err != nil {
		t.Fatal(err)
	}
	j := journal.New(journal.Config{Store: s, Catalog: known, Now: time.Now, Life: journal.NewLife()})
	l := &lane{Lanes: &Lanes{Journal: j}, target: "t", known: map[store.ID]*line{}, lines: map[string]*line{}}
	put := func(flow string, n int) {
		for range n {
			l.add(l.lineOf(flow), journal.Ready{ID: store.NewID(), Flow: flow})
		}
	}
	served := map[string]int{}
	serve := func() string {
		r, ok, err := l.next(time.Now())
		if err != nil || !ok {
			t.Fatal(ok, err)
		}
		served[r.Flow]++
		return r.Flow
	}
	put("much", 100_000)
	put("heavy", 300)
	for range 400 {
		serve()
	}
	if served["heavy"] < 299 || served["much"] < 99 {
		t.Errorf("of 400 turns, one of weight 3 had %d", served["heavy"])
	}
	put("late", 1)
	for i := range 3 {
		if serve() == "late" {
			break
		} else if i == 2 {
			t.Error("one message waits behind very many of another flow")
		}
	}
}

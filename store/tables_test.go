package store

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"readyferry/core/format/json"
	"readyferry/core/message"
	"readyferry/core/table"
)

// The file finds the row that the rules in memory find.
func TestTheFileFindsWhatTheRulesFind(t *testing.T) {
	s := open(t, t.TempDir())
	d, findings := table.Read(
		[]byte("readyferry: table/1\nname: bands\nkeys: [[zone], [code]]\nrange: {from: lo, to: hi}\n"),
	)
	if d == nil {
		t.Fatal(findings)
	}
	r := rand.New(rand.NewPCG(5, 6))
	var rows []*message.Node
	for i := range 60 {
		lo := r.IntN(300) - 100
		n, err := json.Decode(
			fmt.Appendf(
				nil,
				`{"zone":"z%d","lo":%d,"hi":%.1f,"code":"c%d"}`,
				r.IntN(3),
				lo,
				float64(lo+r.IntN(8))+0.5,
				i,
			),
		)
		if err != nil {
			t.Fatal(err)
		}
		err = s.Write(t.Context(), func(tx *Tx) error {
			other, err := tx.Clashing(&Table{}, d, 1, n.Root)
			if err != nil {
				return err
			}
			if clash := table.Check(d, append(append([]*message.Node{}, rows...), n.Root)) != nil; clash != (other != nil) {
				t.Fatalf("row %s: the file says clash %v, the rules %v", json.Encode(n.Root), other != nil, clash)
			}
			if other != nil {
				return nil
			}
			rows = append(rows, n.Root)
			return tx.AddRows(d, []table.Row{{Value: n.Root}}, 1)
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	if err := s.Write(t.Context(), func(tx *Tx) error {
		return tx.SaveTable(&Table{Name: "bands", Document: json.Encode(d.Tree()), Version: 1, Next: 1})
	}); err != nil {
		t.Fatal(err)
	}
	filed, err := s.LookIn().Table("bands")
	if err != nil {
		t.Fatal(err)
	}
	memory, err := table.InMemory(d, rows)
	if err != nil {
		t.Fatal(err)
	}
	found := 0
	for range 2000 {
		p := table.Place{
			Key: fmt.Sprintf("z%d", r.IntN(4)),
			Lo:  table.SortKey(fmt.Sprintf("%.1f", r.Float64()*320-110)),
		}
		a, err := filed.Find(0, p)
		if err != nil {
			t.Fatal(err)
		}
		b, _ := memory.Find(0, p)
		if (a == nil) != (b == nil) || a != nil && string(json.Encode(a.Value)) != string(json.Encode(b.Value)) {
			t.Fatalf("%+v: the file finds %v, the rules %v", p, a, b)
		}
		if a != nil {
			found++
		}
	}
	if found < 100 {
		t.Errorf("only %d were found, too few to tell", found)
	}
}

package table

import (
	"fmt"
	"strings"

	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
)

// What to do with a pair that clashes with one that is there.
const (
	ConflictError   = "error"   // refuse the new one
	ConflictKeep    = "keep"    // leave the old one
	ConflictReplace = "replace" // the new one stands, and what it clashes with goes
)

// Pairing is what writing a pair comes to.
type Pairing struct {
	Said   string        // paired, paired already, changed, kept or replaced
	Row    *message.Node // what stands afterwards
	Add    bool          // Row is to be added
	Remove []*Row        // what goes
}

// Conflict is a pair that clashes with one that is there.
type Conflict struct{ Reason string }

func (e *Conflict) Error() string { return e.Reason }

// Pair decides what writing a row into a cross-reference table comes to. The
// error is a *Conflict where the row clashes and conflict is ConflictError.
func Pair(t Table, row *message.Node, conflict string) (Pairing, error) {
	d := t.Definition()
	if !d.Cross {
		return Pairing{}, fmt.Errorf("the table %q is no cross-reference table, so flows do not write it", d.Name)
	}
	places, err := d.Places(row)
	if err != nil {
		return Pairing{}, err
	}
	var old []*Row
	for k, p := range places {
		r, err := t.Find(k, p)
		if err != nil {
			return Pairing{}, err
		}
		if r != nil && (len(old) == 0 || old[0].N != r.N) {
			old = append(old, r)
		}
	}
	if len(old) == 0 {
		return Pairing{Said: "paired", Row: row, Add: true}, nil
	}
	if len(old) == 1 {
		had, err := d.Places(old[0].Value)
		if err != nil {
			return Pairing{}, err
		}
		if had[0].Key == places[0].Key && had[1].Key == places[1].Key {
			merged := old[0].Value
			for _, m := range row.Members {
				merged = merged.With(m.Name, m.Value)
			}
			if string(jsonfmt.Encode(merged)) == string(jsonfmt.Encode(old[0].Value)) {
				return Pairing{Said: "paired already", Row: old[0].Value}, nil
			}
			return Pairing{Said: "changed", Row: merged, Add: true, Remove: old}, nil
		}
	}
	switch conflict {
	case ConflictKeep:
		return Pairing{Said: "kept the old one", Row: old[0].Value}, nil
	case ConflictReplace:
		return Pairing{Said: "replaced", Row: row, Add: true, Remove: old}, nil
	}
	var stand []string
	for _, r := range old {
		stand = append(stand, d.both(r.Value))
	}
	return Pairing{}, &Conflict{
		fmt.Sprintf("the pair %s conflicts with %s in the table %q", d.both(row), strings.Join(stand, " and "), d.Name),
	}
}

// both shows the two keys of a pair.
func (d *Definition) both(row *message.Node) string {
	return d.shownKey(0, row) + " = " + d.shownKey(1, row)
}

// Scratch lets a rehearsal write on top of tables: nothing of it leaves.
type Scratch struct {
	Under Tables
	over  map[string]*written
}

type written struct {
	Table
	added []*Row
	gone  map[int64]bool
	next  int64
}

// Table implements Tables.
func (s *Scratch) Table(name string) (Table, error) {
	if w := s.over[name]; w != nil {
		return w, nil
	}
	return s.Under.Table(name)
}

// Write does what a pairing in a table says.
func (s *Scratch) Write(name string, t Table, p Pairing) {
	if s.over == nil {
		s.over = map[string]*written{}
	}
	w := s.over[name]
	if w == nil {
		w = &written{Table: t, gone: map[int64]bool{}, next: -1}
		s.over[name] = w
	}
	for _, r := range p.Remove {
		w.gone[r.N] = true
	}
	if p.Add {
		w.added = append(w.added, &Row{N: w.next, Value: p.Row})
		w.next--
	}
}

// Find implements Table.
func (w *written) Find(key int, at Place) (*Row, error) {
	for _, r := range w.added {
		if w.gone[r.N] {
			continue
		}
		places, err := w.Definition().Places(r.Value)
		if err != nil {
			return nil, err
		}
		if p := places[key]; p.Key == at.Key &&
			(key > 0 || w.Definition().Range == nil || w.Definition().Covers(p, at.Lo)) {
			return r, nil
		}
	}
	r, err := w.Table.Find(key, at)
	if err != nil || r == nil || w.gone[r.N] {
		return nil, err
	}
	return r, nil
}

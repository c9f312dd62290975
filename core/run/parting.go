package run

import (
	"fmt"
	"slices"
	"strings"

	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
	"readyferry/core/pointer"
	"readyferry/core/want"
)

// Parting is the first place where two walks of a flow part, and the values that did it.
type Parting struct {
	Path, Step, Kind string
	Was, Is          string // what the step came to in the one and in the other; "" where it was not reached
	Values           []PartingValue
}

// PartingValue is a value that the step reads and that is another in the two walks.
type PartingValue struct {
	Name    string // as expressions name it
	Was, Is string // JSON; "" where there is none
	// Table and Version are of a row that was found in another place or another version.
	Table             string
	WasFound, IsFound string // the key, and the version
}

// Part finds where two walks part: the first step to which they come differently. nil where
// they do all alike.
func Part(a, b *Rehearsal) *Parting {
	for i := 0; i < len(a.Trace) || i < len(b.Trace); i++ {
		var was, is *Entry
		if i < len(a.Trace) {
			was = &a.Trace[i]
		}
		if i < len(b.Trace) {
			is = &b.Trace[i]
		}
		switch {
		case was == nil:
			return &Parting{Path: is.Path, Step: is.Step, Kind: is.Kind, Is: is.Outcome, Values: []PartingValue{}}
		case is == nil:
			return &Parting{Path: was.Path, Step: was.Step, Kind: was.Kind, Was: was.Outcome, Values: []PartingValue{}}
		case was.Path == is.Path && was.State == is.State && was.Caught == is.Caught && slices.Equal(was.Ways, is.Ways) &&
			(was.Error == nil) == (is.Error == nil):
			continue
		case was.Path != is.Path && i > 0:
			// The step before let them go to different ones, though it came to the same in words.
			was, is = &a.Trace[i-1], &b.Trace[i-1]
		}
		return &Parting{
			Path:   was.Path,
			Step:   was.Step,
			Kind:   was.Kind,
			Was:    was.Outcome,
			Is:     is.Outcome,
			Values: values(was, is),
		}
	}
	return nil
}

// values lists what a step reads that is not the same in both walks.
func values(a, b *Entry) []PartingValue {
	out := []PartingValue{}
	was, is := bodyOf(a), bodyOf(b)
	seen := map[string]bool{}
	for _, p := range append(slices.Clone(a.Reads), b.Reads...) {
		if seen[p] {
			continue
		}
		seen[p] = true
		if v, w := at(was, p), at(is, p); v != w {
			out = append(out, PartingValue{Name: "body" + strings.ReplaceAll(p, "/", "."), Was: v, Is: w})
		}
	}
	names := map[string][2]string{}
	for i, e := range []*Entry{a, b} {
		for _, n := range e.Names {
			both := names[n.Name]
			both[i] = n.JSON
			names[n.Name] = both
		}
	}
	for name, both := range names {
		if both[0] != both[1] {
			out = append(out, PartingValue{Name: name, Was: both[0], Is: both[1]})
		}
	}
	slices.SortStableFunc(out, func(x, y PartingValue) int { return strings.Compare(x.Name, y.Name) })
	for i := range max(len(a.Looked), len(b.Looked)) {
		v := PartingValue{}
		if i < len(a.Looked) {
			v.Table, v.WasFound, v.Was = foundIn(&a.Looked[i])
		}
		if i < len(b.Looked) {
			v.Table, v.IsFound, v.Is = foundIn(&b.Looked[i])
		}
		if v.Was != v.Is || v.WasFound != v.IsFound {
			v.Name = "table " + v.Table
			out = append(out, v)
		}
	}
	return out
}

func bodyOf(e *Entry) *message.Node {
	if e.Before == nil {
		return nil
	}
	text := e.Before.Tree
	if text == nil {
		text = e.Before.Text
	}
	if text == nil {
		return nil
	}
	d, err := jsonfmt.Decode([]byte(*text))
	if err != nil {
		return nil
	}
	return d.Root
}

// at gives the JSON of what a pointer names, "" where there is nothing.
func at(root *message.Node, p string) string {
	ptr, err := pointer.Parse(p)
	if err != nil || root == nil {
		return ""
	}
	n, err := ptr.Get(root)
	if err != nil {
		return ""
	}
	return string(jsonfmt.Encode(n))
}

func foundIn(l *want.Looked) (table, key, row string) {
	return l.Table, fmt.Sprintf("%s (version %d)", l.Key, l.Version), string(l.Row)
}

package hl7

import (
	"slices"
	"strings"

	"readyferry/core/format/hl7/dictionary"
)

// order gives the segments of the message's kind as the standard has them, by MSH-9 and
// MSH-12, without those that stand at several places; nil where it is not known.
func (w *Writer) order() []string {
	if w.known != nil || len(w.m.Segments) == 0 || w.m.Segments[0].Name != "MSH" {
		return w.known
	}
	head := w.m.Segments[0]
	kind := strings.Split(head.field(9), string(w.m.Sep.Component))
	if len(kind[0]) != 3 {
		return nil
	}
	kind = append(kind, "", "")
	if m := dictionary.Of(head.field(12)).Message(kind[0], kind[1], kind[2]); m != nil {
		return slices.DeleteFunc(slices.Clone(m.Segments), func(name string) bool { return slices.Contains(m.Several, name) })
	}
	return nil
}

// place gives the number at which a new segment stands: before the first one that comes
// behind it in the structure of the message, else at the end. What may stand at several
// places, such as a note, stands where it is written.
func (w *Writer) place(name string) int {
	order := w.order()
	mine := slices.Index(order, name)
	if mine < 0 {
		return len(w.m.Segments)
	}
	for i, s := range w.m.Segments {
		if slices.Index(order, s.Name) > mine {
			return i
		}
	}
	return len(w.m.Segments)
}

// Row begins a message that is one row of a loop, which writes segments of these names. Where
// the message has such rows already and patterned is true, the first of them is what the row
// begins with, so that what a template says of a row is said of every one.
func (w *Writer) Row(names []string, patterned bool) *Writer {
	row := &Writer{m: Message{Sep: w.m.Sep, keep: w.m.keep}, known: w.order()}
	if patterned {
		at, first, _ := w.rows(names)
		row.m.Segments = slices.Clone(w.m.Segments[at : at+first])
	}
	return row
}

// rows finds the rows of a loop that stand in a message: the number of the first segment, and
// how many belong to the first row and to all. A row reaches to the next segment of the name
// that it begins with; the last, and one alone, as far as segments are such as a row has.
func (w *Writer) rows(names []string) (at, first, all int) {
	list := w.m.Segments
	at = slices.IndexFunc(list, func(s *Segment) bool { return slices.Contains(names, s.Name) })
	if at < 0 {
		return 0, 0, 0
	}
	has := slices.Clone(names)
	starts := []int{}
	for i := at; i < len(list); i++ {
		if list[i].Name == list[at].Name {
			starts = append(starts, i)
		}
	}
	if len(starts) > 1 { // what stands between two of them belongs to a row, too
		for _, s := range list[at:starts[1]] {
			has = append(has, s.Name)
		}
	}
	end := at
	for end < len(list) && slices.Contains(has, list[end].Name) {
		end++
	}
	first = end - at
	if len(starts) > 1 && starts[1] < end {
		first = starts[1] - at
	}
	return at, first, end - at
}

// Put writes rows into the message: in place of those that stood there as a pattern, else
// where segments of their kind belong.
func (w *Writer) Put(names []string, rows []*Writer, patterned bool) {
	var segments []*Segment
	for _, r := range rows {
		segments = append(segments, r.m.Segments...)
	}
	at, _, all := w.rows(names)
	switch {
	case patterned && all > 0:
	case len(segments) == 0:
		return
	case all > 0 && slices.Contains(names, segments[0].Name): // behind others of their kind
		at, all = w.behind(names), 0
	default:
		at, all = w.place(segments[0].Name), 0
	}
	w.m.Segments = slices.Replace(w.m.Segments, at, at+all, segments...)
	w.index = nil
}

// behind gives the number behind the last segment of these names.
func (w *Writer) behind(names []string) int {
	for i, s := range slices.Backward(w.m.Segments) {
		if slices.Contains(names, s.Name) {
			return i + 1
		}
	}
	return len(w.m.Segments)
}

package step

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"readyferry/core/expr"
	"readyferry/core/format"
)

// Where each value of a map came from, and where it went: what a person sees who points at
// either. Inside of loops both are those of the item at hand.

// looped is a loop around a field, at one of its items.
type looped struct {
	name    string // of the item in expressions
	from    string // of the item in the body: a JSON Pointer, "" where it cannot be told
	known   bool
	segment string // of HL7 v2: the item is the nth of these, and what follows it
	nth     int    // from 0, in the body
	row     int    // from 0, in the target
}

// groupsOf finds a list of groups of segments.
var groupsOf = regexp.MustCompile(`^\s*hl7Groups\(\s*body\s*,\s*["']([A-Z][A-Z0-9]{2})["']\s*\)\s*$`)

// plainList finds a list that is a path, or one or a list of it.
var plainList = regexp.MustCompile(`^\s*(?:many\()?[\w.\[\]"'?-]+\)?\s*$`)

// entered gives the loop f at the nth item of its list, which is the one for the row.
func (run *mapRun) entered(f *mapField, nth, row int, single bool) looped {
	l := looped{name: f.name, nth: nth, row: row}
	if m := groupsOf.FindStringSubmatch(f.each.Source); m != nil {
		l.segment = m[1]
		return l
	}
	if len(f.each.Reads) != 1 || !plainList.MatchString(f.each.Source) {
		return l
	}
	if l.from, l.known = run.place(f.each.Reads[0]); l.known && !single {
		l.from += fmt.Sprintf("/%d", nth)
	}
	return l
}

// place gives where a path stands in the body: a JSON Pointer, or of HL7 v2 what reads it.
func (run *mapRun) place(p expr.Path) (string, bool) {
	if p.Root == "body" {
		return p.Pointer(), true
	}
	for i := len(run.loops) - 1; i >= 0; i-- {
		l := run.loops[i]
		if l.name != p.Root {
			continue
		}
		if l.segment == "" {
			return l.from + p.Pointer(), l.known
		}
		at := p.Pointer()
		if l.nth > 0 { // the first has no number
			at = strings.Replace(at, `"`+l.segment+"-", fmt.Sprintf(`"%s[%d]-`, l.segment, l.nth+1), 1)
		}
		return strings.Replace(at, "hl7("+l.name, "hl7(body", 1), strings.HasPrefix(at, "hl7(")
	}
	return "", false
}

// reads lists what a program reads in the body, at the items at hand.
func (run *mapRun) reads(p *expr.Program) []string {
	if !run.trace || len(run.loops) == 0 {
		return bodyReads(p)
	}
	out := []string{}
	for _, r := range p.Reads {
		if at, known := run.place(r); known && !slices.Contains(out, at) {
			out = append(out, at)
		}
	}
	return out
}

// at gives where a field writes, with the numbers of the rows at hand; "" where it cannot be told.
func (run *mapRun) at(f *mapField) string {
	if !run.trace {
		return ""
	}
	out := f.source
	if run.r.as == format.HL7 && len(run.loops) > 1 {
		return "" // rows of loops in one another are counted through
	}
	for _, l := range run.loops {
		switch run.r.as {
		case format.XML:
			out = strings.Replace(out, "[]", fmt.Sprintf("[%d]", l.row+1), 1)
		case format.HL7:
			out = strings.TrimPrefix(out, "[]")
			if l.row > 0 {
				out = strings.Replace(out, "-", fmt.Sprintf("[%d]-", l.row+1), 1)
			}
		case format.CSV, format.Fixed:
			out = strings.Replace(out, "[]", fmt.Sprintf("/%d/", l.row), 1)
		default:
			out = strings.Replace(out, "[]", fmt.Sprintf("/%d", l.row), 1)
		}
	}
	return out
}

package run

import (
	"strings"

	"readyferry/core/expr"
	"readyferry/core/step"
)

// Need names a path below the body that a setting of a step cannot do without.
type Need struct {
	Step string
	At   string // of the setting, in the document
	Path string
}

// needs notes what of the paths that a step needs is there. Those of its condition are looked
// for where it stands, all others where the condition holds.
func (w *walker) needs(s *step.Compiled, st *step.State, condition bool) {
	if !w.in.Trace {
		return
	}
	for i := range s.Needs {
		n := &s.Needs[i]
		if (n.At == s.Pointer+"/when") != condition {
			continue
		}
		key := Need{s.ID, n.At, n.Path.String()}
		if is, known := w.result.Needs[key]; known && is == nil {
			continue
		}
		if w.result.Needs == nil {
			w.result.Needs = map[Need]*expr.MissingError{}
		}
		w.result.Needs[key] = n.Path.Absent(st.Message.Body)
	}
}

// NoSuchPath gives what of the needed paths no message had that came there, with what it has.
func NoSuchPath(all []Rehearsal) map[Need]*expr.MissingError {
	out, there := map[Need]*expr.MissingError{}, map[Need]bool{}
	for i := range all {
		for need, missing := range all[i].Needs {
			if missing == nil {
				there[need] = true
			} else if out[need] == nil || len(out[need].Near) == 0 {
				out[need] = missing
			}
		}
	}
	for need := range there {
		delete(out, need)
	}
	return out
}

// Instead writes the paths that are most like one that is not there.
func Instead(need Need, missing *expr.MissingError) string {
	if len(missing.Near) == 0 {
		return ""
	}
	rest := strings.TrimPrefix(need.Path, missing.Path)
	var out []string
	for _, name := range missing.Near {
		out = append(out, expr.Below(missing.At, name)+rest)
	}
	return "did you mean " + strings.Join(out, " or ") + "?"
}

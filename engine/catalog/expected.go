package catalog

import (
	"fmt"
	"slices"

	"readyferry/core/run"
)

// most is how many breaks of a sample are named.
const mostBreaks = 5

// Breaks says in words how a rehearsal is not as expected; nothing where it is.
func (x *Expectation) Breaks(r *run.Rehearsal) (out []string) {
	if x.State != r.State {
		out = append(out, "was "+run.InSentence(x.State)+", now "+run.InSentence(r.State)+place(r))
	}
	if x.Answer != 0 && (r.Answer == nil || r.Answer.Status != x.Answer) {
		now := "nothing"
		if r.Answer != nil {
			now = fmt.Sprint(r.Answer.Status)
		}
		out = append(out, fmt.Sprintf("its caller got %d, now %s", x.Answer, now))
	}
	seen := map[string]bool{}
	for i := range r.Trace {
		e := &r.Trace[i]
		seen[e.Path] = true
		switch was, known := x.Outcomes[e.Path]; {
		case !known:
			out = append(out, "did not come to "+e.Path+", now does: "+said(e.Outcome))
		case was != e.Outcome:
			out = append(out, fmt.Sprintf("at %s it was %s, now %s", e.Path, said(was), said(e.Outcome)))
		}
	}
	var gone []string
	for path := range x.Outcomes {
		if !seen[path] {
			gone = append(gone, path)
		}
	}
	slices.Sort(gone)
	for _, path := range gone {
		out = append(out, "came to "+path+", now does not")
	}
	if more := len(out) - mostBreaks; more > 0 {
		out = append(out[:mostBreaks], fmt.Sprintf("and %d more", more))
	}
	return out
}

// place says where and why a message ended as it was not expected to.
func place(r *run.Rehearsal) string {
	for i := range r.Trace {
		if e := &r.Trace[i]; e.Error != nil && e.Caught == "" {
			return " at " + e.Path + ": " + *e.Error
		}
	}
	if r.Reason != nil {
		return ": " + *r.Reason
	}
	return ""
}

// said gives an outcome, of which some have no words.
func said(outcome string) string {
	if outcome == "" {
		return "done"
	}
	return outcome
}

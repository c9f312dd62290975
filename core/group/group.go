// Package group holds the rules by which messages are gathered: when a group
// closes, what becomes of late members, and how messages get back into the
// order of their numbers. It keeps nothing: the engine keeps groups in its
// store, a rehearsal in memory, and both ask these rules.
//
// The rules in one place: a group closes when its count is reached, its condition
// holds, nothing has come for its quiet time, it has its greatest age, or all parts
// of its split have come, whichever is first. A member that comes for a group which
// closed less than late-for ago is late; then it is turned away, added by itself,
// or the first of a new group. In a resequence the next number has its turn, a gap
// is waited for until its time ends, and a number that was passed is late.
package group

import (
	"fmt"
	"time"

	"readyferry/core/message"
)

// Late says what becomes of a member whose group has closed.
type Late int

// What becomes of a late member.
const (
	NewGroup Late = iota // it opens another group
	TurnAway             // it ends there, with the reason
	Add                  // it goes on at once, as an addition to the group
)

// Limits of a step that says nothing.
const (
	DefaultLimit  = 10_000   // members of one group
	DefaultBytes  = 64 << 20 // of the items of one group, as JSON
	DefaultGroups = 100_000  // groups of one step that are open at once
	DefaultLate   = 24 * time.Hour
)

// Rules say when a group closes. Zero values are rules that are not there.
type Rules struct {
	Count      int
	When       func(*Group) (bool, error) `json:"-"` // over the group with its newest member
	Condition  string                     // the same as it was written
	NeedsItems bool                       // whether When looks at the items
	Quiet      time.Duration              // so long without another member
	Age        time.Duration              // so long since the first member
	Parts      string                     // id of the split all of whose parts are to be here, or ""

	Late    Late
	LateFor time.Duration // how long a closed group is remembered
	Limit   int           // members of one group
	Bytes   int64         // of the items of one group
	Groups  int           // groups open at once
}

// Group is a group as its rules see it.
type Group struct {
	Key              string
	Count            int
	OpenedAt, LastAt time.Time
	Newest           *message.Node
	Items            []*message.Node // only where the rules need them
	// Awaited is how many parts of its split are still to come; -1 where that
	// is not known.
	Awaited int
}

// Full tells why a group of so many members and bytes does not take another
// member, or "".
func (r *Rules) Full(count int, bytes, more int64) string {
	switch {
	case count >= r.Limit:
		return fmt.Sprintf("it has %d members, its limit; raise limit, or close it earlier", count)
	case bytes+more > r.Bytes:
		return fmt.Sprintf(
			"its items have %d bytes, and its limit is %d; raise bytes, bring less into it, or close it earlier",
			bytes,
			r.Bytes,
		)
	}
	return ""
}

// Closes tells why a group closes now that its newest member has come, or "".
// The error is that of the condition.
func (r *Rules) Closes(g *Group) (why string, err error) {
	if r.When != nil {
		holds, err := r.When(g)
		if err != nil {
			return "", err
		}
		if holds {
			return "by condition", nil
		}
	}
	if r.Count > 0 && g.Count >= r.Count {
		return fmt.Sprintf("by count, %d", r.Count), nil
	}
	if r.Complete(g.Awaited) {
		return "all parts are here", nil
	}
	return "", nil
}

// Complete tells whether a group closes because no more parts can come.
func (r *Rules) Complete(awaited int) bool { return r.Parts != "" && awaited == 0 }

// Deadline tells when time closes a group, and why; the zero time for never.
func (r *Rules) Deadline(opened, last time.Time) (at time.Time, why string) {
	if r.Age > 0 {
		at, why = opened.Add(r.Age), "by age, "+short(r.Age)
	}
	if q := last.Add(r.Quiet); r.Quiet > 0 && (at.IsZero() || q.Before(at)) {
		at, why = q, "by quiet, "+short(r.Quiet)
	}
	return at, why
}

// Missing says in words what an open group waits for.
func (r *Rules) Missing(g *Group) []string {
	var out []string
	if r.Count > 0 {
		out = append(out, fmt.Sprintf("%d more", max(0, r.Count-g.Count)))
	}
	if r.When != nil {
		out = append(out, "until "+r.Condition)
	}
	if r.Parts != "" && g.Awaited >= 0 {
		out = append(out, fmt.Sprintf("%d parts of %s", g.Awaited, r.Parts))
	}
	return out
}

func short(d time.Duration) string {
	s := d.String()
	for _, tail := range []string{"m0s", "h0m"} {
		if len(s) > len(tail) && s[len(s)-len(tail):] == tail {
			s = s[:len(s)-2]
		}
	}
	return s
}

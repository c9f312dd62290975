// Package verify looks at a journal from outside and says whether it keeps what the engine
// promises: that every transaction has ended or waits for something that exists, that what
// is counted beside agrees with what it counts, that every body is there and unchanged, and
// that what is tried again is due when its plan says.
//
// It trusts nothing that the engine has in memory and shares none of its walks: it reads the
// file alone, while nobody works on it.
package verify

import (
	"context"
	"fmt"
	"time"

	"readyferry/core/retry"
	"readyferry/engine/journal"
	"readyferry/store"
)

// mostShown is how many rows are named of which a check does not hold.
const mostShown = 20

// Finding is a check that does not hold.
type Finding struct {
	Check  string
	Broken []store.Broken // the first of them
}

// Run looks at a journal. tell hears, before each check, what is looked at now.
func Run(ctx context.Context, s *store.Store, tell func(what string)) ([]Finding, error) {
	var out []Finding
	found := func(check string, broken []store.Broken) {
		if len(broken) > 0 {
			out = append(out, Finding{check, broken})
		}
	}
	const sound = "the pages of the file are sound"
	tell(sound)
	broken, err := s.Sound(ctx)
	if err != nil {
		return nil, err
	}
	found(sound, broken)
	for _, c := range store.Checks() {
		tell(c.Name)
		if broken, err = s.Holds(ctx, c, mostShown); err != nil {
			return nil, err
		}
		found(c.Name, broken)
	}
	const kept = "each kept content is the one whose key it has"
	tell(kept)
	broken = nil
	err = s.EachBody(ctx, func(b store.Broken) {
		if len(broken) < mostShown {
			broken = append(broken, b)
		}
	})
	if err != nil {
		return nil, err
	}
	found(kept, broken)
	const planned = "what is tried again is due when its plan says"
	tell(planned)
	if broken, err = schedules(ctx, s); err != nil {
		return nil, err
	}
	found(planned, broken)
	return out, nil
}

// schedules compares when deliveries are tried again with what their plans say.
func schedules(ctx context.Context, s *store.Store) ([]store.Broken, error) {
	var out []store.Broken
	for last := int64(0); ctx.Err() == nil; {
		some, err := s.Retried(last, 500)
		if err != nil || len(some) == 0 {
			return out, err
		}
		for i := range some {
			last = some[i].Seq
			if why := off(&some[i]); why != "" && len(out) < mostShown {
				out = append(out, store.Broken{Which: "deliveries " + some[i].ID.String(), What: why})
			}
		}
	}
	return out, ctx.Err()
}

// off says why a delivery is not due when its plan says; "" where it is. The next try
// comes as long behind the end of the last one as the plan says, or later where the target
// asked for it, and never behind the end of the plan; a person may have moved it.
func off(d *store.Tried) string {
	plan, err := retry.Decode(d.Plan)
	if err != nil {
		return "its plan cannot be read: " + err.Error()
	}
	if d.NextWhy == journal.AskedFor || d.FirstAt == nil || d.NextAt == nil {
		return ""
	}
	if d.Tries >= plan.Tries {
		return fmt.Sprintf("it waits for try %d, and its plan has %d", d.Tries+1, plan.Tries)
	}
	const exact = 2 * time.Microsecond // how exact times are in the file
	ended := time.UnixMicro(d.LastAt + d.LastTook)
	wait := plan.Wait(journal.Seed(d.ID, d.Round), d.Tries)
	if early := ended.Add(wait).Sub(*d.NextAt); early > exact {
		return fmt.Sprintf("it is due %s earlier than its plan says", early)
	}
	if late := d.NextAt.Sub(d.FirstAt.Add(plan.Within)); late > exact {
		return fmt.Sprintf("it is due %s behind the end of its plan", late)
	}
	return ""
}

// Package cause finds what dead letters have in common, and whose fault it is.
//
// Two letters have the same cause when their reasons are the same but for what belongs to
// the one message: ids, long numbers, and quoted values. What is quoted and stands in the
// flow itself (the name of a table, a column, a step) stays, because it tells causes apart.
//
// Whose fault it is, is judged from evidence, not from the kind of step alone: a condition
// that fails for one message of a hundred is a matter of that message, one that has failed
// for every message since a version began is a matter of the flow.
package cause

import (
	"fmt"
	"regexp"
	"time"
)

var (
	uuids   = regexp.MustCompile(`[0-9a-fA-F]{8}(-[0-9a-fA-F]{4}){3}-[0-9a-fA-F]{12}`)
	quoted  = regexp.MustCompile(`"[^"]*"`)
	numbers = regexp.MustCompile(`\b[0-9]{4,}\b`)
	tails   = regexp.MustCompile(`; (it has|near it) .*$`)
)

// longest is how many characters of a reason are compared.
const longest = 200

// Text takes what differs from message to message out of a reason. known tells of a quoted
// text whether the flow itself has it; nil knows none.
func Text(reason string, known func(text string) bool) string {
	reason = tails.ReplaceAllString(reason, "")
	reason = uuids.ReplaceAllString(reason, "…")
	reason = quoted.ReplaceAllStringFunc(reason, func(q string) string {
		if known != nil && known(q[1:len(q)-1]) {
			return q
		}
		return `"…"`
	})
	reason = numbers.ReplaceAllString(reason, "…")
	if r := []rune(reason); len(r) > longest {
		reason = string(r[:longest])
	}
	return reason
}

// Class says whose matter a cause is.
type Class string

// The classes.
const (
	Data   Class = "data"   // the message is not as expected
	Flow   Class = "flow"   // the flow is wrong
	Target Class = "target" // the outside system does not take what it should
	Limit  Class = "limit"  // a limit of ours was reached: a size, a number, a time
)

// Evidence is what is known around the letters of one cause.
type Evidence struct {
	Said   Class // what the failing step says of it by itself
	Phase  string
	Flow   string
	Target string // the connection, "" where the step has none
	Status int    // that the target answered last, 0 for none
	Count  int64  // letters of the cause
	Since  time.Time
	// Version is the one that the letters died under, Began when it went live; Sound counts
	// messages that were delivered under it since the first of the letters or, of those
	// before, since it began.
	Version int
	Began   time.Time
	Sound   int64
	// Through and Failed count what else went to the target since the first of the letters;
	// both are 0 where nothing is known.
	Through, Failed int64
}

// soon is the time behind the beginning of a version within which what fails is laid to it,
// as long as nothing else is known.
const soon = time.Hour

// Judge says whose matter a cause is, and why, in sentences.
func Judge(e Evidence) (Class, []string) {
	var why []string
	say := func(format string, args ...any) { why = append(why, fmt.Sprintf(format, args...)) }
	judged := e.Said
	if e.Said == Limit || e.Phase == "limit" {
		say("a limit was reached, which the message alone does not explain")
		return Limit, why
	}
	if e.Target != "" && e.Phase != "message" {
		return judgeTarget(e, say), why
	}
	early := !e.Began.IsZero() && e.Since.Sub(e.Began) < soon
	switch {
	case e.Sound > 0:
		say(
			"%s of %s came through under version %d, so the flow can do it",
			counted(e.Sound, "other message", "other messages"),
			e.Flow,
			e.Version,
		)
		if judged == Flow && e.Count < e.Sound {
			judged = Data
		}
	case !e.Began.IsZero() && (early || e.Count > 1):
		say("no message has come through under version %d, which began %s before the first of these", e.Version,
			span(e.Since.Sub(e.Began)))
		judged = Flow
	}
	return judged, why
}

// judgeTarget weighs a delivery or question that an outside system did not take.
func judgeTarget(e Evidence, say func(string, ...any)) Class {
	refused := e.Status >= 400 && e.Status < 500 && e.Status != 408 && e.Status != 425 && e.Status != 429
	switch {
	case e.Through > 0 && refused:
		say("%s answered %d to these and took %s meanwhile", e.Target, e.Status, counted(e.Through, "other", "others"))
		return Data
	case refused && e.Said == Data:
		say("%s answered %d, which says that the message is at fault", e.Target, e.Status)
		return Data
	case e.Through > 0:
		say("%s took %s meanwhile", e.Target, counted(e.Through, "other", "others"))
		return Target
	case e.Failed > 0:
		say("%s took nothing else meanwhile either", e.Target)
		return Target
	}
	return e.Said
}

func counted(n int64, one, many string) string {
	if n == 1 {
		return "one " + one
	}
	return fmt.Sprint(n) + " " + many
}

// span says a duration roughly.
func span(d time.Duration) string {
	switch {
	case d < 0:
		return "0 s"
	case d < time.Minute:
		return fmt.Sprintf("%d s", int(d.Seconds()))
	case d < time.Hour:
		return fmt.Sprintf("%d min", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h", int(d.Hours()))
	}
	return fmt.Sprintf("%d days", int(d.Hours()/24))
}

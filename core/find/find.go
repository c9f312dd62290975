// Package find reads what people type to find transactions: filters by name, such as
//
//	flow:holds state:waiting tries:>2 took:>5s from:yesterday reference:"HR 20"
//
// and words, which are looked for in everything that is indexed. All of them have to hold. A
// value with blanks stands in double quotes; a filter with - before it must not hold.
package find

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Keys are the names of filters, with what each takes.
var Keys = []Key{
	{"flow", "the name of a flow", true},
	{"state", "under way, waiting, delivered, turned away or dead letter", true},
	{"reference", "a part of the reference, upper and lower case and blanks alike", false},
	{"from", "a time, a day, today, yesterday, or 2h, 7d ago", false},
	{"to", "the same", false},
	{"target", "a connection, queue or topic that it was handed to", true},
	{"way", "a way that it took, such as by-home.digital", true},
	{"step", "the id of a step that it came to", true},
	{"tries", "how many, such as 3, >2 or <5", false},
	{"took", "how long it was under way, such as >5s or <200ms", false},
	{"header", "the name of a header, or name=value, of those that its flow marks", false},
	{"note", "words of its notes", false},
	{"size", "bytes that came in, such as >10kB", false},
}

// Key is the name of a filter.
type Key struct {
	Name  string
	Takes string
	Fixed bool // its values are names, which can be offered
}

// Term is one thing that has to hold. Key is "" for a word.
type Term struct {
	Key   string
	Not   bool
	Op    string // "", < or >, of numbers
	Value string
	At    int // where it stands, in bytes
}

// Error says what of a query cannot be read, and where.
type Error struct {
	At      int
	Message string
	Repair  string
}

func (e *Error) Error() string {
	text := fmt.Sprintf("at %d: %s", e.At+1, e.Message)
	if e.Repair != "" {
		text += "; " + e.Repair
	}
	return text
}

// Read reads a query.
func Read(text string) ([]Term, error) {
	var out []Term
	for at := 0; at < len(text); {
		if text[at] == ' ' || text[at] == '\t' {
			at++
			continue
		}
		t, next, err := readTerm(text, at)
		if err != nil {
			return nil, err
		}
		out, at = append(out, t), next
	}
	return out, nil
}

func readTerm(text string, at int) (t Term, next int, err error) {
	t.At = at
	if text[at] == '-' && at+1 < len(text) {
		t.Not, at = true, at+1
	}
	end := at
	for end < len(text) && text[end] != ' ' && text[end] != '"' && text[end] != ':' {
		end++
	}
	if end < len(text) && text[end] == ':' {
		name := strings.ToLower(text[at:end])
		if !slices.ContainsFunc(Keys, func(k Key) bool { return k.Name == name }) {
			return t, 0, &Error{at, fmt.Sprintf("there is no filter %q", name), "the filters are " + names()}
		}
		t.Key, at = name, end+1
	}
	if at < len(text) && (text[at] == '<' || text[at] == '>') && numeric[t.Key] {
		t.Op, at = text[at:at+1], at+1
	}
	if at < len(text) && text[at] == '"' {
		stop := strings.IndexByte(text[at+1:], '"')
		if stop < 0 {
			return t, 0, &Error{at, "the quote does not end", "put a second \" behind the value"}
		}
		t.Value, next = text[at+1:at+1+stop], at+stop+2
	} else {
		next = at
		for next < len(text) && text[next] != ' ' {
			next++
		}
		t.Value = text[at:next]
	}
	if t.Value == "" && t.Key != "" {
		return t, 0, &Error{t.At, fmt.Sprintf("nothing stands behind %s:", t.Key), "it takes " + takes(t.Key)}
	}
	return t, next, check(&t)
}

var numeric = map[string]bool{"tries": true, "took": true, "size": true}

func names() string {
	all := make([]string, len(Keys))
	for i, k := range Keys {
		all[i] = k.Name
	}
	return strings.Join(all, ", ")
}

func takes(name string) string {
	for _, k := range Keys {
		if k.Name == name {
			return k.Takes
		}
	}
	return ""
}

// check refuses a value that its filter cannot take.
func check(t *Term) error {
	bad := false
	switch t.Key {
	case "tries":
		_, err := strconv.Atoi(t.Value)
		bad = err != nil
	case "took":
		_, err := Duration(t.Value)
		bad = err != nil
	case "size":
		_, err := Bytes(t.Value)
		bad = err != nil
	case "from", "to":
		_, err := Moment(t.Value, time.Unix(1_700_000_000, 0), time.UTC)
		bad = err != nil
	case "state":
		bad = !slices.Contains(
			[]string{"under way", "waiting", "delivered", "turned away", "dead letter"},
			State(t.Value),
		)
	}
	if bad {
		return &Error{t.At, fmt.Sprintf("%s does not take %q", t.Key, t.Value), "it takes " + takes(t.Key)}
	}
	return nil
}

// State gives a state as it is called: hyphens stand for blanks, so that none need be quoted.
func State(value string) string { return strings.ReplaceAll(strings.ToLower(value), "-", " ") }

// Duration reads how long something took: 200ms, 5s, 2m, 3h, 1d.
func Duration(text string) (time.Duration, error) {
	if days, ok := strings.CutSuffix(text, "d"); ok {
		n, err := strconv.ParseFloat(days, 64)
		return time.Duration(n * 24 * float64(time.Hour)), err
	}
	return time.ParseDuration(text)
}

// Bytes reads a size: 512, 10kB, 2MB, 1GiB. (k is 1,000, Ki 1,024, as IEC 80000-13 has it.)
func Bytes(text string) (int64, error) {
	end := strings.IndexFunc(text, func(r rune) bool { return (r < '0' || r > '9') && r != '.' })
	unit := ""
	if end >= 0 {
		text, unit = text[:end], strings.ToLower(strings.TrimSuffix(strings.ToLower(text[end:]), "b"))
	}
	factor, ok := map[string]float64{"": 1, "k": 1e3, "m": 1e6, "g": 1e9, "ki": 1 << 10, "mi": 1 << 20, "gi": 1 << 30}[unit]
	n, err := strconv.ParseFloat(text, 64)
	if !ok || err != nil {
		return 0, fmt.Errorf("%q is no size", text+unit)
	}
	return int64(n * factor), nil
}

// Moment reads a time: an instant (RFC 3339), a minute or a day in a place, today, yesterday,
// or so long ago (2h, 7d).
func Moment(text string, now time.Time, in *time.Location) (time.Time, error) {
	local := now.In(in)
	midnight := time.Date(local.Year(), local.Month(), local.Day(), 0, 0, 0, 0, in)
	switch strings.ToLower(text) {
	case "now":
		return now, nil
	case "today":
		return midnight, nil
	case "yesterday":
		return midnight.AddDate(0, 0, -1), nil
	}
	if t, err := time.Parse(time.RFC3339, text); err == nil {
		return t, nil
	}
	for _, layout := range []string{"2006-01-02T15:04:05", "2006-01-02T15:04", "2006-01-02 15:04", "2006-01-02", "2006-01", "2006"} {
		if t, err := time.ParseInLocation(layout, text, in); err == nil {
			return t, nil
		}
	}
	if d, err := Duration(strings.TrimPrefix(text, "-")); err == nil {
		return now.Add(-d), nil
	}
	return time.Time{}, fmt.Errorf("%q is no time", text)
}

// Folded gives a reference as it is compared: in lower case, without blanks.
func Folded(reference string) string {
	return strings.Map(func(r rune) rune {
		if r == ' ' || r == '\t' || r == '\n' || r == '\u00a0' {
			return -1
		}
		return r
	}, strings.ToLower(reference))
}

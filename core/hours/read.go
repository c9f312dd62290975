package hours

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	ics "github.com/arran4/golang-ical"
	"github.com/teambition/rrule-go"
)

// The most that a calendar may hold.
const (
	MostBytes  = 1 << 20
	MostEvents = 5000
	MostRules  = 500 // events that recur
	FirstYear  = 1900
	LastYear   = 2199
)

// mostYearsUntil is how long behind its start an event that recurs may take place first, in years.
const mostYearsUntil = 50

// event is one of a calendar, or a single occurrence that was moved.
type event struct {
	summary string
	start   time.Time
	days    int           // it lasts so many days of the calendar
	length  time.Duration // and this long besides
	rule    *rrule.RRule  // nil: it is once
	also    []time.Time
	not     map[int64]bool // starts that do not take place, in Unix seconds
}

// Read reads an iCalendar file. Times without a zone of their own are those of zone. The error
// says which event it is about.
func Read(text string, zone *time.Location) (*Calendar, error) {
	if len(text) > MostBytes {
		return nil, fmt.Errorf("a calendar may have %d bytes at most", MostBytes)
	}
	if !strings.Contains(text, "BEGIN:VCALENDAR") {
		return nil, errors.New("it is no iCalendar file: it must begin with BEGIN:VCALENDAR")
	}
	file, err := ics.ParseCalendar(strings.NewReader(text))
	if err != nil {
		return nil, fmt.Errorf("it cannot be read as iCalendar: %w", err)
	}
	all := file.Events()
	if len(all) > MostEvents {
		return nil, fmt.Errorf("a calendar may have %d events at most", MostEvents)
	}
	sum := sha256.Sum256([]byte(zone.String() + "\n" + text))
	c, rules := &Calendar{stamp: hex.EncodeToString(sum[:8])}, 0
	moved := map[string][]time.Time{} // occurrences that are told by an event of their own, by UID
	for _, v := range all {
		r := reader{v, zone}
		at, err := r.times(ics.ComponentPropertyRecurrenceId)
		if err != nil {
			return nil, r.wrong(err)
		}
		moved[v.Id()] = append(moved[v.Id()], at...)
	}
	for _, v := range all {
		r := reader{v, zone}
		if r.text("STATUS") == "CANCELLED" || r.text("TRANSP") == "TRANSPARENT" {
			continue
		}
		e, err := r.event()
		if err != nil {
			return nil, r.wrong(err)
		}
		if e.rule != nil {
			if rules++; rules > MostRules {
				return nil, fmt.Errorf("a calendar may have %d events at most that recur", MostRules)
			}
		}
		if r.text("RECURRENCE-ID") == "" {
			for _, at := range moved[v.Id()] {
				e.not[at.Unix()] = true
			}
		}
		c.events = append(c.events, e)
	}
	if err := c.takesPlace(); err != nil {
		return nil, err
	}
	return c, nil
}

// takesPlace refuses a calendar with an event that recurs and takes place on no day, such as the
// 30th of every February: it would be looked for until the year 9999, each time. One such search
// takes less than a second.
func (c *Calendar) takesPlace() error {
	for i := range c.events {
		e := &c.events[i]
		if e.rule == nil {
			continue
		}
		first, ok := e.rule.Iterator()()
		if !ok || first.Year() > e.start.Year()+mostYearsUntil {
			return fmt.Errorf("the event %q recurs on no day", e.summary)
		}
	}
	return nil
}

// reader reads one event.
type reader struct {
	v    *ics.VEvent
	zone *time.Location
}

func (r reader) wrong(err error) error {
	name := r.text("SUMMARY")
	if name == "" {
		name = r.v.Id()
	}
	return fmt.Errorf("the event %q: %w", name, err)
}

func (r reader) text(property string) string {
	if p := r.v.GetProperty(ics.ComponentProperty(property)); p != nil {
		return strings.TrimSpace(p.Value)
	}
	return ""
}

func (r reader) event() (e event, err error) {
	e = event{summary: r.text("SUMMARY"), not: map[int64]bool{}}
	starts, err := r.times(ics.ComponentPropertyDtStart)
	if err != nil {
		return e, err
	}
	if len(starts) != 1 {
		return e, errors.New("it has no DTSTART")
	}
	e.start = starts[0]
	if err := r.lasts(&e); err != nil {
		return e, err
	}
	if e.also, err = r.times(ics.ComponentPropertyRdate); err != nil {
		return e, err
	}
	not, err := r.times(ics.ComponentPropertyExdate)
	for _, at := range not {
		e.not[at.Unix()] = true
	}
	if err == nil {
		e.rule, err = r.rule(e.start)
	}
	return e, err
}

// lasts reads how long an event is: by DTEND or DURATION; without either, a day where it begins
// on one, else no time at all (RFC 5545, 3.6.1).
func (r reader) lasts(e *event) error {
	ends, err := r.times(ics.ComponentPropertyDtEnd)
	switch {
	case err != nil:
		return err
	case len(ends) == 1:
		if !ends[0].After(e.start) {
			return errors.New("it ends before it begins")
		}
		if r.wholeDays() {
			// Counted at noon in UTC, where every day has 24 hours.
			e.days = int(noon(ends[0]).Sub(noon(e.start)) / (24 * time.Hour))
			return nil
		}
		e.length = ends[0].Sub(e.start)
	case r.text("DURATION") != "":
		e.days, e.length, err = duration(r.text("DURATION"))
		return err
	case r.wholeDays():
		e.days = 1
	}
	return nil
}

func noon(t time.Time) time.Time {
	y, m, d := t.Date()
	return time.Date(y, m, d, 12, 0, 0, 0, time.UTC)
}

func (r reader) wholeDays() bool {
	p := r.v.GetProperty(ics.ComponentPropertyDtStart)
	return p != nil && len(p.Value) == len("20060102")
}

// rule reads how an event recurs. What comes more often than every day is refused: it is no
// calendar that a person keeps, and would take long to work out.
func (r reader) rule(start time.Time) (*rrule.RRule, error) {
	all := r.v.GetProperties(ics.ComponentPropertyRrule)
	if len(all) == 0 {
		return nil, nil
	}
	if len(all) > 1 {
		return nil, errors.New("it has more than one RRULE")
	}
	option, err := rrule.StrToROptionInLocation(all[0].Value, start.Location())
	if err != nil {
		return nil, fmt.Errorf("its RRULE %q cannot be read: %w", all[0].Value, err)
	}
	if option.Freq == rrule.HOURLY || option.Freq == rrule.MINUTELY || option.Freq == rrule.SECONDLY {
		return nil, errors.New("it recurs more often than every day; DAILY is the shortest here")
	}
	option.Dtstart = start
	rule, err := rrule.NewRRule(*option)
	if err != nil {
		return nil, fmt.Errorf("its RRULE %q is wrong: %w", all[0].Value, err)
	}
	return rule, nil
}

// times reads the moments of a property: days, times in UTC, in a zone, or as the clock on the
// wall has them.
func (r reader) times(property ics.ComponentProperty) (out []time.Time, err error) {
	for _, p := range r.v.GetProperties(property) {
		zone := r.zone
		if id := p.ICalParameters["TZID"]; len(id) == 1 {
			if zone, err = time.LoadLocation(strings.TrimPrefix(id[0], "/")); err != nil {
				return nil, fmt.Errorf(
					"%s has the zone %q; name one of the IANA database, such as Europe/Dublin",
					property,
					id[0],
				)
			}
		}
		for text := range strings.SplitSeq(p.Value, ",") {
			at, err := moment(strings.TrimSpace(text), zone)
			if err != nil {
				return nil, fmt.Errorf("%s: %w", property, err)
			}
			out = append(out, at)
		}
	}
	return out, nil
}

func moment(text string, zone *time.Location) (time.Time, error) {
	text, _, _ = strings.Cut(text, "/") // of a period, its start
	for _, form := range []struct {
		layout string
		zone   *time.Location
	}{{"20060102T150405Z", time.UTC}, {"20060102T150405", zone}, {"20060102", zone}} {
		at, err := time.ParseInLocation(form.layout, text, form.zone)
		if err != nil {
			continue
		}
		if at.Year() < FirstYear || at.Year() > LastYear {
			return at, fmt.Errorf("%q is not between the years %d and %d", text, FirstYear, LastYear)
		}
		return at, nil
	}
	return time.Time{}, fmt.Errorf("%q is no time; write 20270104T090000 or 20270104", text)
}

var durationForm = regexp.MustCompile(`^\+?P(?:(\d+)W)?(?:(\d+)D)?(?:T(?:(\d+)H)?(?:(\d+)M)?(?:(\d+)S)?)?$`)

// duration reads one (RFC 5545, 3.3.6): its days are those of the calendar, what is less is exact.
func duration(text string) (days int, exact time.Duration, err error) {
	parts := durationForm.FindStringSubmatch(text)
	if parts == nil || len(text) > 30 {
		return 0, 0, fmt.Errorf("DURATION %q is none; write PT8H or P1D", text)
	}
	n := func(i int) int { v, _ := strconv.Atoi(parts[i]); return min(v, 100_000) }
	days = 7*n(1) + n(2)
	exact = time.Duration(n(3))*time.Hour + time.Duration(n(4))*time.Minute + time.Duration(n(5))*time.Second
	return days, exact, nil
}

// spans gives what an event covers that touches the time between two moments.
func (e *event) spans(from, to time.Time) (out []Span) {
	add := func(start time.Time) {
		s := Span{start, start.AddDate(0, 0, e.days).Add(e.length)}
		if !e.not[start.Unix()] && s.To.After(from) && s.From.Before(to) && s.From.Before(s.To) {
			out = append(out, s)
		}
	}
	if e.rule == nil {
		add(e.start)
	} else {
		long := time.Duration(e.days)*25*time.Hour + e.length
		for _, at := range e.rule.Between(from.Add(-long), to, true) {
			add(at)
		}
	}
	for _, at := range e.also {
		add(at)
	}
	return out
}

// Happening is an event that takes place.
type Happening struct {
	Span
	Summary string
}

// Happenings lists the events that touch the time between two moments, the first ones first.
// What other calendars leave out of them is in them.
func (c *Calendar) Happenings(from, to time.Time) (out []Happening) {
	for i := range c.events {
		for _, s := range c.events[i].spans(from, to) {
			out = append(out, Happening{s, c.events[i].summary})
		}
	}
	slices.SortStableFunc(out, func(a, b Happening) int { return a.From.Compare(b.From) })
	return out
}

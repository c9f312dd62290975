// Package timing says when a schedule is due: by a cron expression in a time
// zone, or every so often.
//
// A cron expression has five fields: minute, hour, day of the month, month, day
// of the week (0 or 7 is Sunday); a field of seconds may stand before them. *,
// lists, ranges and steps are known, names of months and days, and @hourly,
// @daily, @weekly, @monthly, @yearly. Where both days are given, either will do
// (POSIX, crontab). Daylight saving follows the clock on the wall, as
// robfig/cron does: a time that the clock skips in spring is not due on that
// day, and a time that it passes twice in autumn is due twice. Who wants
// neither chooses the zone UTC.
//
// "every" counts from 1970-01-01 00:00 UTC, so that it is due at the same times
// after every start.
package timing

import (
	"errors"
	"fmt"
	"regexp"
	"strings"
	"time"

	"github.com/robfig/cron/v3"
)

// Schedule says when something is due.
type Schedule struct {
	spec  cron.Schedule
	zone  *time.Location
	every time.Duration
	hours Hours
}

// Hours are times that a schedule is bound to; a calendar of package hours is.
type Hours interface {
	Covers(at time.Time) bool
	NextStart(at time.Time) time.Time // the first moment at or after another; zero for none
}

// During gives a schedule that is due at the times of this one that fall into hours.
func (s *Schedule) During(h Hours) *Schedule {
	c := *s
	c.hours = h
	return &c
}

// Shortest is the least time between two times of a schedule by every.
const Shortest = time.Second

// Cron reads a cron expression for a zone of the IANA database; "" is UTC.
func Cron(spec, zone string) (*Schedule, error) {
	if strings.Contains(spec, "TZ=") {
		return nil, errors.New("the zone stands beside the expression: write zone: Europe/Dublin")
	}
	if strings.HasPrefix(strings.TrimSpace(spec), "@every") {
		return nil, errors.New("write every: 15m in place of @every")
	}
	loc, err := Zone(zone)
	if err != nil {
		return nil, err
	}
	p := cron.NewParser(
		cron.SecondOptional | cron.Minute | cron.Hour | cron.Dom | cron.Month | cron.Dow | cron.Descriptor,
	)
	s, err := p.Parse(sundays(spec))
	if err != nil {
		return nil, fmt.Errorf("%q is no cron expression: %s", spec, plain(err.Error()))
	}
	return &Schedule{spec: s, zone: loc}, nil
}

// said are the words of the reader of cron expressions, and what they mean.
var said = []struct {
	words *regexp.Regexp
	means string
}{
	{regexp.MustCompile(`^expected \d+ to \d+ fields, found (\d+):.*$`),
		"it has $1 fields; there are five (minute, hour, day of the month, month, day of the week), or six with the second in front"},
	{
		regexp.MustCompile(`^failed to parse (?:int|number) (?:from )?([^:]*):.*$`),
		"$1 is no number, and no name of a month or day",
	},
	{regexp.MustCompile(`^(?:end|beginning) of range \((\d+)\) above maximum \((\d+)\).*$`), "$1 is above $2"},
	{regexp.MustCompile(`^(?:end|beginning) of range \((\d+)\) below minimum \((\d+)\).*$`), "$1 is below $2"},
	{
		regexp.MustCompile(`^beginning of range \((\d+)\) beyond end of range \((\d+)\).*$`),
		"a range begins with $1 and ends with $2",
	},
	{regexp.MustCompile(`^step of range should be a positive number.*$`), "a step must be 1 or more"},
	{regexp.MustCompile(`^too many (?:hyphens|slashes): (.*)$`), "$1 is no range"},
}

func plain(words string) string {
	for _, s := range said {
		if s.words.MatchString(words) {
			return s.words.ReplaceAllString(words, s.means)
		}
	}
	return words
}

// sundays lets 7 stand for Sunday, as crontab does, where it is a field alone.
func sundays(spec string) string {
	fields := strings.Fields(spec)
	if n := len(fields); n >= 5 && fields[n-1] == "7" {
		fields[n-1] = "0"
		return strings.Join(fields, " ")
	}
	return spec
}

// Zone gives a time zone of the IANA database; "" is UTC.
func Zone(name string) (*time.Location, error) {
	if name == "Local" {
		return nil, errors.New("name the zone itself, such as Europe/Dublin")
	}
	loc, err := time.LoadLocation(name)
	if err != nil {
		return nil, fmt.Errorf("%q is no time zone; write one such as Europe/Dublin or UTC", name)
	}
	return loc, nil
}

// Every makes a schedule that is due every so often.
func Every(d time.Duration) (*Schedule, error) {
	if d < Shortest {
		return nil, fmt.Errorf("%s is too short; the shortest time is %s", d, Shortest)
	}
	return &Schedule{every: d, zone: time.UTC}, nil
}

// Read makes a schedule of texts: a cron expression with its zone, or every so
// often, such as 15m, in their place.
func Read(cron, zone, every string) (*Schedule, error) {
	if every == "" {
		return Cron(cron, zone)
	}
	d, err := time.ParseDuration(every)
	if err != nil {
		return nil, fmt.Errorf("%q is no span of time; write it as 30s, 15m or 24h", every)
	}
	return Every(d)
}

// Next gives the first time after another; zero when there is none within the
// next five years, as for 31 April, or none that falls into its hours.
func (s *Schedule) Next(after time.Time) time.Time {
	for range mostSkipped {
		at := s.plainNext(after)
		if s.hours == nil || at.IsZero() || s.hours.Covers(at) {
			return at
		}
		opens := s.hours.NextStart(at)
		if opens.IsZero() {
			return time.Time{}
		}
		after = opens.Add(-time.Nanosecond)
	}
	return time.Time{}
}

// mostSkipped is how many times outside of its hours a schedule passes over before it counts as
// one that is never due.
const mostSkipped = 5000

func (s *Schedule) plainNext(after time.Time) time.Time {
	if s.every > 0 {
		return time.UnixMilli(0).UTC().Add(after.Sub(time.UnixMilli(0)).Truncate(s.every)).Add(s.every)
	}
	return s.spec.Next(after.In(s.zone))
}

// Zone gives the zone in which the schedule's times are read.
func (s *Schedule) Zone() *time.Location { return s.zone }

// Times lists the next n times after another.
func (s *Schedule) Times(after time.Time, n int) []time.Time {
	out := []time.Time{}
	for len(out) < n {
		after = s.Next(after)
		if after.IsZero() {
			return out
		}
		out = append(out, after)
	}
	return out
}

// Missed counts the times after one moment and up to another, at most so many.
func (s *Schedule) Missed(after, until time.Time, most int) (n int, last time.Time) {
	for n < most {
		next := s.Next(after)
		if next.IsZero() || next.After(until) {
			return n, last
		}
		n++
		after, last = next, next
	}
	return n, last
}

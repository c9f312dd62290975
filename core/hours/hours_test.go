package hours

import (
	"strings"
	"testing"
	"time"
	_ "time/tzdata"
)

func zone(t *testing.T, name string) *time.Location {
	t.Helper()
	z, err := time.LoadLocation(name)
	if err != nil {
		t.Fatal(err)
	}
	return z
}

func read(t *testing.T, z *time.Location, events ...string) *Calendar {
	t.Helper()
	c, err := Read(file(events...), z)
	if err != nil {
		t.Fatal(err)
	}
	return c
}

func file(events ...string) string {
	var b strings.Builder
	b.WriteString("BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//Larkfield//EN\r\n")
	for i, e := range events {
		b.WriteString("BEGIN:VEVENT\r\nDTSTAMP:20260101T000000Z\r\n")
		if !strings.Contains(e, "UID:") {
			b.WriteString("UID:e" + string(rune('a'+i)) + "\r\n")
		}
		b.WriteString(strings.ReplaceAll(e, "\n", "\r\n") + "\r\nEND:VEVENT\r\n")
	}
	b.WriteString("END:VCALENDAR\r\n")
	return b.String()
}

// The examples of RFC 5545, 3.8.5.3, with the dates that it gives for them; written from memory.
// Each event there begins at nine in New York; here it is an hour long.
func TestExamplesOfTheStandard(t *testing.T) {
	ny := zone(t, "America/New_York")
	for _, c := range []struct{ start, rule, from, to, want string }{
		{"19970902T090000", "FREQ=DAILY;COUNT=10", "19970901", "19980101",
			"9-2 9-3 9-4 9-5 9-6 9-7 9-8 9-9 9-10 9-11"},
		{"19970902T090000", "FREQ=DAILY;INTERVAL=10;COUNT=5", "19970901", "19980101", "9-2 9-12 9-22 10-2 10-12"},
		{"19970902T090000", "FREQ=WEEKLY;COUNT=10", "19970901", "19980101",
			"9-2 9-9 9-16 9-23 9-30 10-7 10-14 10-21 10-28 11-4"},
		{"19970902T090000", "FREQ=WEEKLY;UNTIL=19971007T000000Z;WKST=SU;BYDAY=TU,TH", "19970901", "19980101",
			"9-2 9-4 9-9 9-11 9-16 9-18 9-23 9-25 9-30 10-2"},
		{"19970902T090000", "FREQ=WEEKLY;INTERVAL=2;COUNT=8;WKST=SU;BYDAY=TU,TH", "19970901", "19980101",
			"9-2 9-4 9-16 9-18 9-30 10-2 10-14 10-16"},
		{"19970905T090000", "FREQ=MONTHLY;COUNT=10;BYDAY=1FR", "19970901", "19990101",
			"9-5 10-3 11-7 12-5 1-2 2-6 3-6 4-3 5-1 6-5"},
		{"19970907T090000", "FREQ=MONTHLY;INTERVAL=2;COUNT=10;BYDAY=1SU,-1SU", "19970901", "19990101",
			"9-7 9-28 11-2 11-30 1-4 1-25 3-1 3-29 5-3 5-31"},
		{"19970922T090000", "FREQ=MONTHLY;COUNT=6;BYDAY=-2MO", "19970901", "19990101", "9-22 10-20 11-17 12-22 1-19 2-16"},
		{"19970928T090000", "FREQ=MONTHLY;BYMONTHDAY=-3", "19970901", "19980228", "9-28 10-29 11-28 12-29 1-29 2-26"},
		{"19970930T090000", "FREQ=MONTHLY;COUNT=10;BYMONTHDAY=1,-1", "19970901", "19990101",
			"9-30 10-1 10-31 11-1 11-30 12-1 12-31 1-1 1-31 2-1"},
		{"19970610T090000", "FREQ=YEARLY;COUNT=10;BYMONTH=6,7", "19970101", "20050101",
			"6-10 7-10 6-10 7-10 6-10 7-10 6-10 7-10 6-10 7-10"},
		{"19970519T090000", "FREQ=YEARLY;BYDAY=20MO", "19970101", "20000101", "5-19 5-18 5-17"},
		{"19970512T090000", "FREQ=YEARLY;BYWEEKNO=20;BYDAY=MO", "19970101", "20000101", "5-12 5-11 5-17"},
		{"19970313T090000", "FREQ=YEARLY;BYMONTH=3;BYDAY=TH", "19970101", "19980101", "3-13 3-20 3-27"},
		{"19970913T090000", "FREQ=MONTHLY;BYDAY=SA;BYMONTHDAY=7,8,9,10,11,12,13", "19970901", "19980701",
			"9-13 10-11 11-8 12-13 1-10 2-7 3-7 4-11 5-9 6-13"},
		{"19961105T090000", "FREQ=YEARLY;INTERVAL=4;BYMONTH=11;BYDAY=TU;BYMONTHDAY=2,3,4,5,6,7,8", "19960101", "20050101",
			"11-5 11-7 11-2"},
		{"19970904T090000", "FREQ=MONTHLY;COUNT=3;BYDAY=TU,WE,TH;BYSETPOS=3", "19970901", "19980101", "9-4 10-7 11-6"},
		{"19970929T090000", "FREQ=MONTHLY;BYDAY=MO,TU,WE,TH,FR;BYSETPOS=-2", "19970901", "19980401",
			"9-29 10-30 11-27 12-30 1-29 2-26 3-30"},
		{"19970805T090000", "FREQ=WEEKLY;INTERVAL=2;COUNT=4;BYDAY=TU,SU;WKST=MO", "19970801", "19980101", "8-5 8-10 8-19 8-24"},
		{"19970805T090000", "FREQ=WEEKLY;INTERVAL=2;COUNT=4;BYDAY=TU,SU;WKST=SU", "19970801", "19980101", "8-5 8-17 8-19 8-31"},
		{"20070115T090000", "FREQ=MONTHLY;BYMONTHDAY=15,30;COUNT=5", "20070101", "20080101", "1-15 1-30 2-15 3-15 3-30"},
	} {
		cal := read(t, time.UTC, "DTSTART;TZID=America/New_York:"+c.start+"\nDURATION:PT1H\nRRULE:"+c.rule)
		day := func(text string) time.Time {
			at, err := time.ParseInLocation("20060102", text, ny)
			if err != nil {
				t.Fatal(err)
			}
			return at
		}
		var got []string
		for _, s := range cal.Spans(day(c.from), day(c.to)) {
			at := s.From.In(ny)
			if at.Hour() != 9 || s.To.Sub(s.From) != time.Hour {
				t.Errorf("%s: %s to %s", c.rule, s.From, s.To)
			}
			got = append(got, at.Format("1-2"))
		}
		if strings.Join(got, " ") != c.want {
			t.Errorf("%s:\n got %s\nwant %s", c.rule, strings.Join(got, " "), c.want)
		}
	}
}

const weekdays = "DTSTART;TZID=Europe/Dublin:20260105T090000\nDTEND;TZID=Europe/Dublin:20260105T173000\n" +
	"RRULE:FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR\nSUMMARY:open"

// The clocks of Ireland go forward on 29 March 2026 (IANA time zone database): what opens at nine
// opens at nine on both sides of it.
func TestOpeningHoursFollowTheClockOnTheWall(t *testing.T) {
	dublin := zone(t, "Europe/Dublin")
	c := read(t, dublin, weekdays)
	at := func(day, hour, minute int) time.Time { return time.Date(2026, 3, day, hour, minute, 0, 0, dublin) }
	for _, x := range []struct {
		at   time.Time
		open bool
	}{
		{at(27, 8, 59), false}, {at(27, 9, 0), true}, {at(27, 17, 29), true}, {at(27, 17, 30), false},
		{at(28, 12, 0), false}, {at(30, 8, 59), false}, {at(30, 9, 0), true}, {at(30, 17, 30), false},
	} {
		if c.Covers(x.at) != x.open {
			t.Errorf("%s: open is %v", x.at, !x.open)
		}
	}
	if got := c.NextStart(at(27, 18, 0)); !got.Equal(at(30, 9, 0)) {
		t.Errorf("behind Friday it opens %s", got)
	}
	if got := c.NextEnd(at(27, 10, 0)); !got.Equal(at(27, 17, 30)) {
		t.Errorf("on Friday it closes %s", got)
	}
	if got := c.Within(at(27, 17, 0), at(30, 9, 45)); got != 75*time.Minute {
		t.Errorf("from Friday to Monday it is open for %s", got)
	}
}

func TestHolidaysAreLeftOut(t *testing.T) {
	dublin := zone(t, "Europe/Dublin")
	holidays := read(t, dublin, "DTSTART;VALUE=DATE:20260317\nSUMMARY:holiday\nRRULE:FREQ=YEARLY",
		"DTSTART;VALUE=DATE:20261224\nDTEND;VALUE=DATE:20261227\nSUMMARY:three days",
		"DTSTART:20260320T120000\nDURATION:PT2H\nSUMMARY:as the clock on the wall has it",
		"DTSTART;VALUE=DATE:20260318\nTRANSP:TRANSPARENT", "DTSTART;VALUE=DATE:20260319\nSTATUS:CANCELLED")
	c := read(t, dublin, weekdays).Except(holidays)
	for day, want := range map[string]time.Duration{
		"2026-03-16": 510 * time.Minute, "2026-03-17": 0, "2026-03-18": 510 * time.Minute, "2026-03-19": 510 * time.Minute,
		"2026-03-20": 390 * time.Minute, "2027-03-17": 0, "2026-12-24": 0, "2026-12-25": 0, "2026-12-28": 510 * time.Minute,
	} {
		at, err := time.ParseInLocation(time.DateOnly, day, dublin)
		if err != nil {
			t.Fatal(err)
		}
		if got := c.Within(at, at.AddDate(0, 0, 1)); got != want {
			t.Errorf("%s: open for %s, not %s", day, got, want)
		}
	}
}

// A day of the change is as long as the clock makes it.
func TestAWholeDayIsOneOfTheCalendar(t *testing.T) {
	dublin := zone(t, "Europe/Dublin")
	c := read(t, dublin, "DTSTART;VALUE=DATE:20260329", "DTSTART;VALUE=DATE:20261025\nDURATION:P1D")
	for _, x := range []struct {
		month time.Month
		day   int
		want  time.Duration
	}{{3, 29, 23 * time.Hour}, {10, 25, 25 * time.Hour}} {
		at := time.Date(2026, x.month, x.day, 0, 0, 0, 0, dublin)
		if got := c.Within(at.AddDate(0, 0, -3), at.AddDate(0, 0, 3)); got != x.want {
			t.Errorf("%s: %s", at, got)
		}
	}
}

// RFC 5545, 3.8.4.4 and 3.8.5: single occurrences that are moved, left out and added.
func TestSingleOccurrences(t *testing.T) {
	c := read(t, time.UTC, "UID:w\nDTSTART:20260105T090000Z\nDURATION:PT1H\nRRULE:FREQ=DAILY;COUNT=5\n"+
		"EXDATE:20260106T090000Z\nRDATE:20260110T120000Z,20260111T120000Z",
		"UID:w\nRECURRENCE-ID:20260107T090000Z\nDTSTART:20260107T150000Z\nDURATION:PT2H")
	var got []string
	from := time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)
	for _, s := range c.Spans(from, from.AddDate(0, 1, 0)) {
		got = append(got, s.From.Format("2T15")+"+"+s.To.Sub(s.From).String())
	}
	want := "5T09+1h0m0s 7T15+2h0m0s 8T09+1h0m0s 9T09+1h0m0s 10T12+1h0m0s 11T12+1h0m0s"
	if strings.Join(got, " ") != want {
		t.Errorf("got %v", got)
	}
}

func TestWhatIsWrongIsSaid(t *testing.T) {
	many := make([]string, MostRules+1)
	for i := range many {
		many[i] = "DTSTART:20260105T090000Z\nDURATION:PT1H\nRRULE:FREQ=DAILY"
	}
	for text, want := range map[string]string{
		"hello": "no iCalendar file",
		file("SUMMARY:a\nDTSTART;TZID=Nowhere/Else:20260105T090000"):                          "name one of the IANA database",
		file("SUMMARY:a\nDURATION:PT1H"):                                                      `the event "a": it has no DTSTART`,
		file("SUMMARY:a\nDTSTART:20260105T090000Z\nDTEND:20260105T080000Z"):                   "ends before it begins",
		file("SUMMARY:a\nDTSTART:20260105T090000Z\nRRULE:FREQ=SECONDLY"):                      "DAILY is the shortest",
		file("SUMMARY:a\nDTSTART:20260105T090000Z\nRRULE:FREQ=WEEKLY;BYDAY=XX"):               "cannot be read",
		file("SUMMARY:a\nDTSTART:20260105T090000Z\nDURATION:tomorrow"):                        "DURATION",
		file("SUMMARY:a\nDTSTART:5 January"):                                                  "is no time",
		file("SUMMARY:a\nDTSTART:20260105T090000Z\nRRULE:FREQ=DAILY;BYMONTH=2;BYMONTHDAY=30"): "on no day",
		file("SUMMARY:a\nDTSTART:00010101T090000Z\nRRULE:FREQ=DAILY"):                         "between the years",
		file(many...): "that recur",
		"BEGIN:VCALENDAR\n" + strings.Repeat("X", MostBytes):                              "bytes at most",
		file("SUMMARY:a\nDTSTART:20260105T090000Z\nRRULE:FREQ=DAILY\nRRULE:FREQ=MONTHLY"): "more than one RRULE",
	} {
		if _, err := Read(text, time.UTC); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%.60q: %v, not %q", text, err, want)
		}
	}
}

// Whatever somebody brings as a calendar is read or refused, and tells its times within bounds.
func FuzzRead(f *testing.F) {
	f.Add(file(weekdays, "DTSTART;VALUE=DATE:20260317\nRRULE:FREQ=YEARLY"))
	f.Add(file("UID:w\nDTSTART:20260105T090000Z\nDURATION:P1DT1H\nRRULE:FREQ=MONTHLY;BYDAY=1MO,-1FR;BYSETPOS=2\nEXDATE:20260106T090000Z"))
	f.Add("BEGIN:VCALENDAR\r\nBEGIN:VEVENT\r\nUID:a\r\nDTSTART:19000101\r\nRRULE:FREQ=DAILY;INTERVAL=0\r\nEND:VEVENT\r\nEND:VCALENDAR")
	from := time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC)
	f.Fuzz(func(t *testing.T, text string) {
		if len(text) > 2000 {
			return
		}
		c, err := Read(text, time.UTC)
		if err != nil {
			return
		}
		last := time.Time{}
		for _, s := range c.Spans(from, from.AddDate(0, 2, 0)) {
			if s.From.Before(last) || !s.From.Before(s.To) || s.From.Before(from) {
				t.Fatalf("%s to %s behind %s", s.From, s.To, last)
			}
			last = s.To
		}
	})
}

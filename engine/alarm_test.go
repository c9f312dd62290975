package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"readyferry/core/access"
	core "readyferry/core/alarm"
	"readyferry/engine/alarm"
	"readyferry/store"
)

// Every day, nine to half past five; the clock of a test begins on 1 January 2000.
const daily = "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//Larkfield//EN\r\nBEGIN:VEVENT\r\nUID:a\r\nDTSTAMP:20000101T000000Z\r\n" +
	"DTSTART:20000101T090000\r\nDTEND:20000101T173000\r\nRRULE:FREQ=DAILY\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n"

// Half an hour from one on and from three on.
const halves = "BEGIN:VCALENDAR\r\nBEGIN:VEVENT\r\nUID:a\r\nDTSTART:20000101T010000\r\nDURATION:PT30M\r\n" +
	"RRULE:FREQ=DAILY\r\nRDATE:20000101T030000\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n"

func (w *world) calendar(name, text, except string) {
	w.t.Helper()
	c := &store.Calendar{Name: name, Title: name, Text: text, Except: except}
	if _, err := w.Alarm.SaveCalendar(context.Background(), c, nil); err != nil {
		w.t.Fatal(err)
	}
}

func (w *world) rule(name string, r core.Rule) {
	w.t.Helper()
	if r.Title == "" {
		r.Title = name
	}
	if _, err := w.Alarm.SaveRule(context.Background(), name, &r, nil); err != nil {
		w.t.Fatal(err)
	}
}

// look looks for alarms each half a minute.
func (w *world) look(span time.Duration) {
	w.t.Helper()
	for until := time.Now().Add(span); time.Now().Before(until); {
		time.Sleep(30 * time.Second)
		if err := w.Alarm.Look(); err != nil {
			w.t.Fatal(err)
		}
		synctest.Wait()
	}
}

// at sleeps until a time of the clock.
func at(day, hour, minute int) {
	time.Sleep(time.Until(time.Date(2000, 1, day, hour, minute, 0, 0, time.UTC)))
}

// ringing gives what rings now, as rule/subject.
func (w *world) ringing() string {
	w.t.Helper()
	rings, err := w.store.OpenRings()
	if err != nil {
		w.t.Fatal(err)
	}
	var out []string
	for _, r := range rings {
		out = append(out, r.Rule+"/"+r.Subject)
	}
	return strings.Join(out, " ")
}

// notices gives what a path was told, as what/rule/subject, one line a notice.
func (w *world) notices(path string) (out []string) {
	w.t.Helper()
	for _, c := range w.out.got() {
		if c.path != path {
			continue
		}
		var told alarm.Told
		if err := json.Unmarshal([]byte(c.body), &told); err != nil {
			w.t.Fatal(err)
		}
		var words []string
		for _, a := range told.Alarms {
			words = append(words, a.What+"/"+a.Rule+"/"+a.About)
		}
		out = append(out, strings.Join(words, " "))
	}
	return out
}

func TestSilenceRingsInOpeningHoursOnly(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := start(t, t.TempDir(), &target{})
		w.connect("out", fast)
		w.calendar("open", halves, "")
		w.publish("readyferry: flow/1\nname: f\nintake: {kind: webhook, path: /f}\nsteps: []\n")
		w.rule("quiet", core.Rule{Watch: "silence", Limit: 15, During: "open",
			Tell: []core.Receiver{{Connection: "out", Path: "/told"}}})
		at(1, 1, 0)
		w.look(5 * time.Minute)
		w.accepted("/f", `{}`)
		w.look(14 * time.Minute)
		if got := w.ringing(); got != "" {
			t.Errorf("a quarter of an hour has not passed, and it rings: %s", got)
		}
		w.look(3 * time.Minute)
		if got := w.ringing(); got != "quiet/f" {
			t.Errorf("behind a quarter of an hour there rings %q", got)
		}
		w.accepted("/f", `{}`)
		w.look(3 * time.Minute)
		if got := w.ringing(); got != "" {
			t.Errorf("a message has come, and it rings: %s", got)
		}
		at(1, 1, 29) // seven minutes of opening hours have passed, and the last one passes now
		w.look(time.Minute)
		at(1, 2, 57)
		w.look(9 * time.Minute)
		if got := w.ringing(); got != "" {
			t.Errorf("a quarter of an hour of opening hours has not passed, and it rings: %s", got)
		}
		w.look(6 * time.Minute)
		if got := w.ringing(); got != "quiet/f" {
			t.Errorf("behind more than a quarter of an hour of opening hours there rings %q", got)
		}
		w.look(2 * time.Minute)
		want := "rings/quiet/f, resolved/quiet/f, rings/quiet/f"
		if got := strings.Join(w.notices("/told"), ", "); got != want {
			t.Errorf("told: %s\nwant: %s", got, want)
		}
		w.tries("quiet", "f", 2)
	})
}

// tries holds what a rule would have done against what it did, to the minute.
func (w *world) tries(rule, of string, want int) {
	w.t.Helper()
	r, err := w.Alarm.Rule(rule)
	if err != nil {
		w.t.Fatal(err)
	}
	past, err := w.Alarm.Try(&r.Rule, 7*24*time.Hour)
	if err != nil {
		w.t.Fatal(err)
	}
	rang, err := w.store.Rings(rule, nil, 100)
	if err != nil {
		w.t.Fatal(err)
	}
	if past.Total != want || len(rang) != want {
		w.t.Fatalf(
			"it would have rung %d times, and rang %d times, not %d: %+v",
			past.Total,
			len(rang),
			want,
			past.Rings,
		)
	}
	for i, p := range past.Rings { // both the newest first
		if d := p.Began.Sub(rang[i].Began).Abs(); d > 90*time.Second || p.Of != of {
			w.t.Errorf("of %s it would have rung at %s, and rang at %s", p.Of, p.Began, rang[i].Began)
		}
		if rang[i].Ended != nil {
			if d := p.Ended.Sub(*rang[i].Ended).Abs(); d > 90*time.Second {
				w.t.Errorf("it would have been over at %s, and was at %s", p.Ended, rang[i].Ended)
			}
		}
	}
}

func TestAlarmsAreGroupedEscalatedAndAcknowledged(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		dir, out := t.TempDir(), &target{}
		w := start(t, dir, out)
		w.connect("out", fast)
		bad := func(name string) string {
			return "readyferry: flow/1\nname: " + name + "\nintake: {kind: webhook, path: /" + name + "}\n" +
				"steps: [{id: m, kind: map, fields: [{to: /x, from: body.none}]}]\n"
		}
		w.publish(bad("a"))
		w.publish(bad("b"))
		w.rule("dead", core.Rule{Watch: "dead-letters", Limit: 2, Within: core.Span(10 * time.Minute),
			Again: core.Span(time.Hour), Tell: []core.Receiver{{Connection: "out", Path: "/desk"},
				{Connection: "out", Path: "/duty", After: core.Span(20 * time.Minute)}}})
		time.Sleep(10 * time.Second)
		for range 3 {
			w.accepted("/a", `{}`)
			w.accepted("/b", `{}`)
		}
		w.look(5 * time.Minute)
		if got := w.notices("/desk"); len(got) != 1 || got[0] != "rings/dead/a rings/dead/b" {
			t.Fatalf("the desk was told %q: both at once, and once", got)
		}
		w.accepted("/a", `{}`)
		w.close()
		w = start(t, dir, out) // what was told is known over a restart
		for range 5 {
			w.accepted("/a", `{}`)
			w.look(5 * time.Minute)
			if time.Since(time.Date(2000, 1, 1, 0, 0, 0, 0, time.UTC)) < 15*time.Minute {
				rings, _ := w.store.OpenRings()
				for _, r := range rings {
					if r.Subject == "b" {
						if err := w.Alarm.Acknowledge(t.Context(), r.ID, "Maud", "I look at it", true); err != nil {
							t.Fatal(err)
						}
					}
				}
			}
			for range 3 {
				w.accepted("/a", `{}`)
			}
		}
		if got := w.notices("/duty"); len(got) != 1 || got[0] != "rings/dead/a" {
			t.Errorf("who is on duty was told %q; somebody has b in hand", got)
		}
		w.look(time.Hour)
		if got := strings.Join(w.notices("/desk"),
			", "); got != "rings/dead/a rings/dead/b, resolved/dead/b, resolved/dead/a" {
			t.Errorf("the desk was told %q", got)
		}
		if got := w.ringing(); got != "" {
			t.Errorf("it rings on: %s", got)
		}
	})
}

func TestAnAlarmIsToldAgainAndQuietTimesWait(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := start(t, t.TempDir(), &target{})
		w.connect("out", fast)
		w.connect("shut", "retry: {first: 1h, growth: constant, cap: 1h, spread: none, tries: 100, within: 200h}\n")
		w.out.say(func(_ int, c call) (reply, error) {
			return reply{Status: map[bool]int{true: 503, false: 200}[c.path == "/shut"]}, nil
		})
		night := strings.NewReplacer("DTSTART:20000101T090000", "DTSTART:20000101T020000", "DTEND:20000101T173000",
			"DTEND:20000101T040000").Replace(daily)
		w.calendar("night", night, "")
		w.publish(
			"readyferry: flow/1\nname: f\nintake: {kind: webhook, path: /f}\nsteps: [{id: d, kind: deliver, to: shut, path: /shut}]\n",
		)
		w.publish(
			"readyferry: flow/1\nname: desk\nintake: {kind: queue, queue: told}\nsteps: [{id: d, kind: deliver, to: out, path: /desk}]\n",
		)
		age := core.Rule{
			Watch: "unfinished",
			Of:    "f",
			For:   core.Span(30 * time.Minute),
			Quiet: "night",
			Again: core.Span(2 * time.Hour),
		}
		age.Tell = []core.Receiver{{Flow: "desk"}}
		w.rule("calm", age)
		age.Urgent, age.Again, age.Tell = true, 0, []core.Receiver{{Connection: "out", Path: "/duty"}}
		w.rule("urgent", age)
		at(1, 1, 50)
		w.accepted("/f", `{}`)
		w.look(time.Hour)
		if got := w.notices("/duty"); len(got) != 1 {
			t.Errorf("what is urgent was told %q in the night", got)
		}
		if got := w.notices("/desk"); len(got) != 0 {
			t.Errorf("at night the desk was told %q", got)
		}
		at(1, 3, 50)
		w.look(4 * time.Hour)
		if got := strings.Join(w.notices("/desk"), ", "); got != "rings/calm/f, still/calm/f" {
			t.Errorf("in the morning the desk was told %q, by way of its flow", got)
		}
	})
}

func TestANoticeIsTriedAgain(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		out := &target{}
		w := start(t, t.TempDir(), out)
		w.connect("out", "")
		failed := 0
		out.say(func(int, call) (reply, error) {
			if failed++; failed < 4 {
				return reply{}, errors.New("the line is dead")
			}
			return reply{Status: 204}, nil
		})
		w.publish("readyferry: flow/1\nname: f\nintake: {kind: webhook, path: /f}\nsteps: []\n")
		w.rule("much", core.Rule{Watch: "received", Limit: 1, Tell: []core.Receiver{{Connection: "out", Path: "/x"}}})
		w.accepted("/f", `{}`)
		w.accepted("/f", `{}`)
		w.look(10 * time.Minute)
		calls := out.got()
		if len(calls) != 4 {
			t.Fatalf("it was tried %d times", len(calls))
		}
		for _, c := range calls {
			if c.key != calls[0].key {
				t.Error("a repeat has another key")
			}
		}
		rows, err := w.Alarm.Notices(10)
		if err != nil || len(rows) != 1 || !rows[0].Done || rows[0].Tries != 4 {
			t.Errorf("%+v %v", rows, err)
		}
	})
}

// Somebody who guesses is told of: what was refused within ten minutes is counted, and it is over
// when nobody tries any more.
func TestManyRefusalsRing(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := start(t, t.TempDir(), &target{})
		w.rule("many-refused", core.Rule{Watch: "refused", Limit: 20})
		refuse := func(n int) {
			t.Helper()
			for range n {
				ctx, deed := w.Audit.Begin(t.Context(), &access.Who{Kind: access.Person, Name: "maud", From: "192.0.2.7"},
					"sign in",
					access.Thing{})
				if err := w.Audit.End(ctx, deed, "refused: it is not right"); err != nil {
					t.Fatal(err)
				}
			}
		}
		refuse(15)
		w.look(2 * time.Minute)
		if got := w.ringing(); strings.Contains(got, "many-refused") {
			t.Errorf("%s at 15 refusals", got)
		}
		refuse(15)
		w.look(2 * time.Minute)
		if got := w.ringing(); !strings.Contains(got, "many-refused") {
			t.Errorf("%q at 30 refusals", got)
		}
		w.look(14 * time.Minute)
		if got := w.ringing(); strings.Contains(got, "many-refused") {
			t.Errorf("%s when it is over", got)
		}
	})
}

// Depths, ages and what waits are kept by the minute, so that a rule can be tried on the past
// that was made after it.
func TestARuleIsTriedOnThePast(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := start(t, t.TempDir(), &target{})
		w.connect("out", fast)
		w.publish(
			"readyferry: flow/1\nname: g\nintake: {kind: webhook, path: /g}\nsteps: [{id: p, kind: deliver, to: {queue: q, readers: outside}}]\n",
		)
		w.publish("readyferry: flow/1\nname: f\nintake: {kind: queue, queue: q}\nsteps: []\n")
		w.pauseQueueNamed("q", true)
		w.look(time.Minute)
		for n := range 3 {
			for range 4 {
				w.accepted("/g", `{}`)
			}
			w.look(time.Duration(5+n) * time.Minute)
			w.pauseQueueNamed("q", false)
			w.look(5 * time.Minute)
			w.pauseQueueNamed("q", true)
		}
		rule := core.Rule{Title: "deep", Watch: "depth", Limit: 3, For: core.Span(3 * time.Minute)}
		past, err := w.Alarm.Try(&rule, 24*time.Hour)
		if err != nil || past.Total != 3 || past.Most != 4 || past.Of != "q" {
			t.Fatalf("%+v %v", past, err)
		}
		for i, want := range []time.Duration{5 * time.Minute, 4 * time.Minute, 3 * time.Minute} { // and as long in bounds
			if got := past.Rings[i].Ended.Sub(past.Rings[i].Began); (got - want).Abs() > 90*time.Second {
				t.Errorf("ring %d took %s, not %s", i, got, want)
			}
		}
		rule.Limit = 4
		if past, err = w.Alarm.Try(&rule, 24*time.Hour); err != nil || past.Total != 0 {
			t.Errorf("%+v %v", past, err)
		}
	})
}

func TestCalendarsBindSchedulesAndHoldTargets(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := start(t, t.TempDir(), &target{})
		w.calendar("open", halves, "")
		w.connect("out", "hold: {during: open}\n")
		w.connect("free", "")
		w.publish("readyferry: flow/1\nname: s\nintake: {kind: schedule, cron: \"*/10 * * * *\", during: open}\n" +
			"steps: [{id: d, kind: deliver, to: free, path: /s}]\n")
		w.publish(
			"readyferry: flow/1\nname: f\nintake: {kind: webhook, path: /f}\nsteps: [{id: d, kind: deliver, to: out, path: /f}]\n",
		)
		at(1, 0, 59)
		w.becomes(w.accepted("/f", `{}`), store.Delivered)
		at(1, 1, 5)
		held := w.accepted("/f", `{}`)
		at(1, 1, 29)
		if tx, err := w.Transaction(held); err != nil || tx.State == store.Delivered {
			t.Errorf("while it is held: %+v %v", tx.State, err)
		}
		if s := w.Standing("out"); s.Calendar != "open" || s.Until.UTC().Format("15:04") != "01:30" || !w.IsHeld("out") {
			t.Errorf("it stands: %+v", s)
		}
		at(1, 1, 31)
		w.becomes(held, store.Delivered)
		at(1, 4, 30)
		var got []string
		for _, c := range w.out.got() {
			if c.path == "/s" {
				got = append(got, c.at.UTC().Format("15:04"))
			}
		}
		if want := "01:00 01:10 01:20 03:00 03:10 03:20"; strings.Join(got, " ") != want {
			t.Errorf("the schedule was due %v", got)
		}
		if err := w.Alarm.DropCalendar(t.Context(), "open"); !errors.Is(err, ErrInUse) ||
			!strings.Contains(err.Error(), "the flow s") ||
			!strings.Contains(err.Error(), "the connection out") {
			t.Errorf("what is used is removed: %v", err)
		}
		w.calendar("shut", daily, "open")
		err := func() error {
			_, err := w.Alarm.SaveCalendar(t.Context(), &store.Calendar{Name: "open", Text: daily, Except: "shut"}, nil)
			return err
		}()
		if err == nil || !strings.Contains(err.Error(), "leaves out itself") {
			t.Errorf("calendars that leave out each other: %v", err)
		}
	})
}

func TestRulesThatCannotBeAreRefused(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.connect("out", "")
	for i, c := range []struct {
		rule core.Rule
		want string
	}{
		{core.Rule{Title: "x", Watch: "luck"}, `nothing called "luck"`},
		{core.Rule{Watch: "age"}, "title"},
		{core.Rule{Title: "x", Watch: "age", During: "never"}, "no calendar"},
		{core.Rule{Title: "x", Watch: "disk", Of: "f"}, "that of the machine"},
		{core.Rule{Title: "x", Watch: "age", Tell: []core.Receiver{{}}}, "name a connection, or a flow"},
		{core.Rule{Title: "x", Watch: "age", Tell: []core.Receiver{{Connection: "none"}}}, "no connection"},
		{core.Rule{Title: "x", Watch: "age", Tell: []core.Receiver{{Flow: "none"}}}, "no flow"},
		{core.Rule{Title: "x", Watch: "rate", Within: core.Span(time.Second)}, "within"},
	} {
		_, err := w.Alarm.SaveRule(t.Context(), fmt.Sprint("r", i), &c.rule, nil)
		if !errors.Is(err, ErrDecision) || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%+v: %v, not %q", c.rule, err, c.want)
		}
	}
}

// A member of the fleet that is away is told of, and it is over when it is back.
func TestAMemberThatIsAwayIsAnAlarm(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		away := 0
		w := startWith(t, t.TempDir(), &target{}, func(c *Config) { c.Missing = func() int { return away } })
		w.rule("member-away", core.Rule{Watch: "members", Urgent: true})
		w.look(time.Minute)
		if got := w.ringing(); got != "" {
			t.Errorf("all are there: %s", got)
		}
		away = 1
		w.look(2 * time.Minute)
		if got := w.ringing(); got != "member-away/" {
			t.Errorf("one is away: %q", got)
		}
		away = 0
		w.look(2 * time.Minute)
		if got := w.ringing(); got != "" {
			t.Errorf("it is back: %s", got)
		}
		w.close()
	})
}

// The alarm on a full disk is about the member of the fleet that has least room.
func TestTheFullestDiskOfAFleetIsAnAlarm(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		free := int64(0) // nobody says so
		w := startWith(t, t.TempDir(), &target{}, func(c *Config) { c.LeastFree = func() int64 { return free } })
		w.rule("disk", core.Rule{Watch: "disk", Limit: 100})
		for _, c := range []struct {
			free  int64
			rings string
		}{{0, ""}, {50_000_000, "disk/"}, {200_000_000, ""}} {
			free = c.free
			w.look(2 * time.Minute)
			if got := w.ringing(); got != c.rings {
				t.Errorf("with %d bytes: %q, not %q", c.free, got, c.rings)
			}
		}
		w.close()
	})
}

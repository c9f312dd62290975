package alarm

import (
	"slices"
	"strings"
	"time"

	"readyferry/connect"
	core "readyferry/core/alarm"
	"readyferry/store"
)

// measured is what was found at one look.
type measured struct {
	now     map[string]float64 // sampled kinds, by series
	windows map[time.Duration]*window
}

// window is what came of each flow within a span.
type window struct{ received, turned, dead map[string]int64 }

// series names what is kept by the minute.
func series(kind, of string) string { return kind + "/" + of }

// countedUpTo bounds what is counted one by one.
const countedUpTo = 100_000

// measure finds out what the sampled kinds come to, of everything that there is.
func (a *Alarms) measure(now time.Time) (*measured, error) {
	m := &measured{now: map[string]float64{}, windows: map[time.Duration]*window{}}
	for _, find := range []func(*measured, time.Time) error{
		a.ofFlows, a.ofSources, a.ofQueues, a.ofConnections, a.ofKeys, a.ofSilence,
	} {
		if err := find(m, now); err != nil {
			return nil, err
		}
	}
	if free := a.leastFree(); free > 0 {
		m.now[series("disk", "")] = float64(free / 10_000_000 * 10) // in steps: it changes all the time
	}
	refused, err := a.Store.CountRefused(now.Add(-refusedWithin))
	m.now[series("refused", "")] = float64(refused)
	if a.missing != nil {
		m.now[series("members", "")] = float64(a.missing())
	}
	return m, err
}

// leastFree is how much room there is where there is least: on the own disk, or on that of another member.
func (a *Alarms) leastFree() int64 {
	free := a.intake.Room().Free
	if a.least == nil {
		return free
	}
	if least := a.least(); least > 0 && (free == 0 || least < free) {
		return least
	}
	return free
}

// refusedWithin is how far back refusals are counted. The audit keeps up to sixty in a minute.
const refusedWithin = 10 * time.Minute

func (a *Alarms) ofFlows(m *measured, now time.Time) error {
	totals, err := a.watch.Totals()
	if err != nil {
		return err
	}
	unfinished := map[string]int64{}
	for _, t := range totals {
		if t.State == store.UnderWay || t.State == store.Waiting {
			unfinished[t.Flow] += t.N
		}
	}
	letters, err := a.Store.All().OpenLettersByFlow()
	if err != nil {
		return err
	}
	for _, f := range a.Catalog.Flows() {
		n := unfinished[f.Name]
		m.now[series("unfinished", f.Name)] = float64(n)
		m.now[series("open-letters", f.Name)] = float64(letters[f.Name])
		age := 0.0
		if n > 0 {
			oldest, err := a.Store.All().OldestUnfinished(f.Name)
			if err != nil {
				return err
			}
			if oldest != nil {
				age = minutes(now.Sub(*oldest))
			}
		}
		m.now[series("age", f.Name)] = age
	}
	return nil
}

// minutes gives a span in whole minutes, as it is kept and judged.
func minutes(d time.Duration) float64 { return float64(max(0, int64(d/time.Minute))) }

func (a *Alarms) ofSources(m *measured, now time.Time) error {
	troubles, err := a.watch.Troubles()
	if err != nil {
		return err
	}
	for _, f := range a.Catalog.Flows() {
		m.now[series("source", f.Name)] = 0
	}
	for _, t := range troubles { // the longest first
		if key := series("source", t.Flow); t.Load == nil && m.now[key] == 0 {
			m.now[key] = minutes(now.Sub(t.Since))
		}
	}
	return nil
}

func (a *Alarms) ofQueues(m *measured, _ time.Time) error {
	for s := range a.samples { // those that are empty now are in no list
		if strings.HasPrefix(s, "depth/") {
			m.now[s] = 0
		}
	}
	depths, err := a.watch.QueueDepths()
	if err != nil {
		return err
	}
	for _, d := range depths {
		m.now[series("depth", d.Queue)] = float64(d.Depth)
	}
	topics, err := a.watch.Topics()
	if err != nil {
		return err
	}
	next := map[string]int64{}
	for _, t := range topics {
		next[t.Name] = t.Next
	}
	subscriptions, err := a.watch.Subscriptions("")
	if err != nil {
		return err
	}
	for _, s := range subscriptions {
		m.now[series("lag", s.Topic+"/"+s.Name)] = float64(max(0, next[s.Topic]-s.Position))
	}
	return nil
}

func (a *Alarms) ofConnections(m *measured, now time.Time) error {
	for _, c := range a.Catalog.Connections() {
		p := a.links.Pulses.Pulse(c.Name, now)
		down := 0.0
		if p.Condition != connect.Works && p.Condition != connect.Unknown && !a.lane.IsHeld(c.Name) {
			down = minutes(now.Sub(p.Since))
		}
		m.now[series("target", c.Name)] = down
		var behind int64
		for _, n := range p.Backlog {
			behind += n
		}
		m.now[series("backlog", c.Name)] = float64(behind)
		waiting, err := a.Store.All().CountPending(c.Name, countedUpTo)
		if err != nil {
			return err
		}
		m.now[series("waiting", c.Name)] = float64(waiting)
		if ends := a.Catalog.CertificateEnds(c); !ends.IsZero() {
			m.now[series("certificate", c.Name)] = days(ends.Sub(now))
		}
		if !c.SecretUntil.IsZero() {
			m.now[series("secret", c.Name)] = days(c.SecretUntil.Sub(now))
		}
	}
	return nil
}

// days gives a span in whole days, down to what has begun.
func days(d time.Duration) float64 {
	n := int64(d / (24 * time.Hour))
	if d < 0 {
		n--
	}
	return float64(n)
}

func (a *Alarms) ofKeys(m *measured, now time.Time) error {
	keys, err := a.Catalog.Keys()
	if err != nil {
		return err
	}
	for _, k := range keys {
		if k.Until != nil {
			m.now[series("key", k.Name)] = days(k.Until.Sub(now))
		}
	}
	return nil
}

// ofSilence learns which flows had messages since the last look.
func (a *Alarms) ofSilence(_ *measured, now time.Time) error {
	since := now.Add(-2 * time.Minute)
	if a.sampled > 0 {
		since = time.Unix(a.sampled*60, 0).Add(-time.Minute)
	}
	counts, err := a.Store.All().SumCounts(since, now)
	if err != nil {
		return err
	}
	for _, c := range counts {
		if c.N > 0 && c.Minute.After(a.heard[c.Flow]) {
			a.heard[c.Flow] = c.Minute
		}
	}
	for _, f := range a.Catalog.Flows() {
		if _, known := a.heard[f.Name]; known || f.Live == nil {
			continue
		}
		last, err := a.lastHeard(f.Name, f.Version, now)
		if err != nil {
			return err
		}
		a.heard[f.Name] = last
	}
	return nil
}

// lastHeard gives when a flow had its last message before a moment, or when its version was put to
// work, whichever is later.
func (a *Alarms) lastHeard(flow string, version int, before time.Time) (time.Time, error) {
	last, err := a.Store.All().LastReceived(flow, before)
	if err != nil {
		return last, err
	}
	v, err := a.Store.Version(flow, version)
	if err == nil && v.PublishedAt.After(last) && v.PublishedAt.Before(before) {
		last = v.PublishedAt
	}
	return last, nil
}

// window gives what came within a span, counted once a look.
func (a *Alarms) window(m *measured, d time.Duration, now time.Time) (*window, error) {
	if w := m.windows[d]; w != nil {
		return w, nil
	}
	w := &window{map[string]int64{}, map[string]int64{}, map[string]int64{}}
	from := now.Add(-d).Truncate(time.Minute).Add(time.Minute)
	counts, err := a.Store.All().SumCounts(from, now)
	if err != nil {
		return nil, err
	}
	for _, c := range counts {
		w.received[c.Flow] += c.N
		if c.State == store.TurnedAway {
			w.turned[c.Flow] += c.N
		}
	}
	letters, err := a.Store.All().LettersByMinute(from, now.Add(time.Second))
	if err != nil {
		return nil, err
	}
	for _, l := range letters {
		w.dead[l.Flow] += l.N
	}
	m.windows[d] = w
	return w, nil
}

// subjects lists what a rule is about.
func (a *Alarms) subjects(r *core.Rule) (out []string) {
	k := core.Find(r.Watch)
	if r.Of != "" || k.Of == core.OfNothing {
		return []string{r.Of}
	}
	switch k.Of {
	case core.OfFlow:
		for _, f := range a.Catalog.Flows() {
			if f.Version > 0 && (r.Watch != "silence" || !f.Paused) {
				out = append(out, f.Name)
			}
		}
	case core.OfConnection:
		for _, c := range a.Catalog.Connections() {
			out = append(out, c.Name)
		}
	default: // what has been measured
		prefix := series(k.Name, "")
		for s := range a.samples {
			if strings.HasPrefix(s, prefix) {
				out = append(out, strings.TrimPrefix(s, prefix))
			}
		}
		slices.Sort(out)
	}
	return out
}

// value gives what a rule is to judge now.
func (a *Alarms) value(m *measured, r *core.Rule, of string, now time.Time) (core.Value, error) {
	k := core.Find(r.Watch)
	if k.Sampled {
		n, ok := m.now[series(k.Name, of)]
		return core.Value{N: n, Known: ok}, nil
	}
	if k.Name == "silence" {
		last := a.heard[of]
		if f := a.Catalog.Flow(of); f == nil || f.Live == nil || f.Paused || last.IsZero() {
			return core.Value{}, nil
		}
		return core.Known(minutes(a.within(r.During)(last, now))), nil
	}
	w, err := a.window(m, r.Window(), now)
	if err != nil {
		return core.Value{}, err
	}
	return counted(k.Name, w.received[of], w.turned[of], w.dead[of], r.Window()), nil
}

// counted gives the value of a kind that counts.
func counted(kind string, received, turned, dead int64, window time.Duration) core.Value {
	switch kind {
	case "rate":
		return core.Known(float64(received) / window.Minutes())
	case "turned-away":
		return core.Known(float64(turned))
	case "dead-letters":
		return core.Known(float64(dead))
	case "failing-share":
		if received == 0 {
			return core.Value{}
		}
		return core.Known(min(100, 100*float64(turned+dead)/float64(received)))
	}
	return core.Known(float64(received))
}

// within measures time in the hours of a calendar; without one, all of it.
func (a *Alarms) within(calendar string) func(from, to time.Time) time.Duration {
	if c := a.Catalog.Calendar(calendar); c != nil {
		return c.Within
	}
	return func(from, to time.Time) time.Duration { return to.Sub(from) }
}

// prunesEach is how often what is old is removed.
const prunesEach = time.Hour

// sample keeps what has changed since the minute before.
func (a *Alarms) sample(m *measured, now time.Time, ch *changes) {
	minute := now.Unix() / 60
	if minute == a.sampled {
		return
	}
	for s, n := range m.now {
		if old, known := a.samples[s]; !known || old != n {
			ch.measures = append(ch.measures, store.Measure{Series: s, Minute: minute, Value: n})
		}
	}
	a.samples, a.sampled, ch.minute = m.now, minute, true
	if now.Sub(a.pruned) >= prunesEach {
		a.pruned, ch.prune = now, true
	}
}

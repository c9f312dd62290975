package alarm

import (
	"sort"
	"strings"
	"time"

	core "readyferry/core/alarm"
	"readyferry/store"
)

// LongestPast is how far back a rule is tried, as long as measures are kept.
const LongestPast = kept

// shownRings is how many rings of the past are told one by one.
const shownRings = 200

// Past is what a rule would have done.
type Past struct {
	From, To time.Time
	Total    int // how often it would have rung
	Rings    []PastRing
	// Known tells since when there are figures; later than From where they are not kept from so
	// early on. Zero: there are none.
	Known time.Time
	Most  float64 // the worst value that there was, and of what
	Of    string
	Any   bool // there was any value
}

// PastRing is one time that it would have rung.
type PastRing struct {
	core.Ring
	Of string
}

// Try tells when a rule would have rung in the time before now.
func (a *Alarms) Try(r *core.Rule, span time.Duration) (*Past, error) {
	if err := a.check(r); err != nil {
		return nil, err
	}
	to := a.Now().Truncate(time.Minute)
	p := &Past{From: to.Add(-min(span, LongestPast)), To: to, Rings: []PastRing{}}
	a.mu.Lock()
	subjects := a.subjects(r)
	a.mu.Unlock()
	k := core.Find(r.Watch)
	if r.Of == "" && k.Sampled { // what has gone since, too
		known, err := a.Store.MeasuredSeries(series(k.Name, ""))
		if err != nil {
			return nil, err
		}
		subjects = joined(subjects, known, series(k.Name, ""))
	}
	letters, err := a.pastLetters(k, p.From.Add(-r.Window()), to)
	if err != nil {
		return nil, err
	}
	for _, of := range subjects {
		values, known, err := a.pastValues(k, r, of, p.From, to, letters[of])
		if err != nil {
			return nil, err
		}
		p.add(r, of, values, known, a.hours(r.During))
	}
	sort.SliceStable(p.Rings, func(i, j int) bool { return p.Rings[i].Began.After(p.Rings[j].Began) })
	p.Rings = p.Rings[:min(len(p.Rings), shownRings)]
	return p, nil
}

func (p *Past) add(r *core.Rule, of string, values []core.Value, known time.Time, hours core.Hours) {
	if !known.IsZero() && (p.Known.IsZero() || known.Before(p.Known)) {
		p.Known = known
	}
	below := core.Find(r.Watch).Below
	for _, v := range values {
		if v.Known && (!p.Any || v.N > p.Most != below && v.N != p.Most) {
			p.Most, p.Of, p.Any = v.N, of, true
		}
	}
	for _, ring := range r.Past(p.From, time.Minute, values, hours) {
		p.Total++
		p.Rings = append(p.Rings, PastRing{ring, of})
	}
}

func joined(subjects, named []string, prefix string) []string {
	have := map[string]bool{}
	for _, s := range subjects {
		have[s] = true
	}
	for _, s := range named {
		if of := strings.TrimPrefix(s, prefix); !have[of] {
			subjects = append(subjects, of)
		}
	}
	return subjects
}

// pastLetters counts dead letters by flow and minute, where a kind asks for them.
func (a *Alarms) pastLetters(k *core.Kind, from, to time.Time) (map[string]map[int64]int64, error) {
	out := map[string]map[int64]int64{}
	if k.Name != "dead-letters" && k.Name != "failing-share" {
		return out, nil
	}
	rows, err := a.Store.All().LettersByMinute(from, to)
	for _, r := range rows {
		if out[r.Flow] == nil {
			out[r.Flow] = map[int64]int64{}
		}
		out[r.Flow][r.Minute] += r.N
	}
	return out, err
}

// pastValues gives what was to be judged at each minute from one to another, both included, and
// since when that is known.
func (a *Alarms) pastValues(k *core.Kind, r *core.Rule, of string, from, to time.Time, dead map[int64]int64) (
	out []core.Value, known time.Time, err error,
) {
	if k.Sampled {
		rows, err := a.Store.Measures(series(k.Name, of), from.Unix()/60, to.Unix()/60)
		if err != nil || len(rows) == 0 {
			return nil, known, err
		}
		return carried(rows, from, to), time.Unix(rows[0].Minute*60, 0).UTC(), nil
	}
	window := 1
	if k.Window {
		window = int(r.Window() / time.Minute)
	}
	start := from.Add(-time.Duration(window-1) * time.Minute)
	rows, err := a.Store.All().CountsByMinute(of, start, to)
	if err != nil {
		return nil, known, err
	}
	n := int(to.Sub(start)/time.Minute) + 1
	received, turned, died := make([]int64, n), make([]int64, n), make([]int64, n)
	first := start.Unix() / 60
	for _, c := range rows {
		i := c.Minute.Unix()/60 - first
		received[i] += c.N
		if c.State == store.TurnedAway {
			turned[i] += c.N
		}
	}
	for minute, count := range dead {
		if i := minute - first; i >= 0 && i < int64(n) {
			died[i] += count
		}
	}
	if k.Name == "silence" {
		return a.pastSilence(r, of, from, received)
	}
	in, away, gone := core.Windows(received, window), core.Windows(turned, window), core.Windows(died, window)
	out = make([]core.Value, len(in))
	for i := range in {
		out[i] = counted(k.Name, in[i], away[i], gone[i], r.Window())
	}
	return out, from, nil
}

func (a *Alarms) pastSilence(r *core.Rule, of string, from time.Time, came []int64) ([]core.Value, time.Time, error) {
	f := a.Catalog.Flow(of)
	if f == nil || f.Version == 0 {
		return nil, time.Time{}, nil
	}
	last, err := a.lastHeard(of, f.Version, from)
	if err != nil {
		return nil, time.Time{}, err
	}
	return core.Silence(from, came, last, a.within(r.During)), from, nil
}

// carried gives the value of each minute: what was measured last.
func carried(rows []store.Measure, from, to time.Time) []core.Value {
	out := make([]core.Value, to.Sub(from)/time.Minute+1)
	first, at, next := from.Unix()/60, core.Value{}, 0
	for i := range out {
		for next < len(rows) && rows[next].Minute <= first+int64(i) {
			at = core.Known(rows[next].Value)
			next++
		}
		out[i] = at
	}
	return out
}

package repair

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"sync"

	"github.com/google/uuid"

	"readyferry/core/cause"
	"readyferry/core/run"
	"readyferry/engine/journal"
	"readyferry/store"
)

// Look is what a decision would come to, letter by letter, before anything is sent. It goes
// on by itself, says how far it is, and can be stopped.
type Look struct {
	ID    string `json:"id"`
	State string `json:"state"` // running, done, stopped
	Total int    `json:"total"`
	Done  int    `json:"done"`
	// Version is the one that would be taken: what was asked for, or that which the evidence
	// speaks for, with Why in words. Live is the live version of the letters' flow where all
	// are of one; 0 for none.
	Version string `json:"version"`
	Why     string `json:"why"`
	Live    int    `json:"live"`
	Own     int    `json:"own"` // the version that all died under, 0 where they differ
	// Under counts outcomes by version: own, live.
	Under map[string][]Outcome `json:"under"`
	// Made counts deliveries that were made before and are not made again.
	Made int `json:"made"`
}

// Outcome is how many letters would come to the same.
type Outcome struct {
	State string `json:"state"` // of the transaction
	Text  string `json:"text"`  // why, where it is no success
	Count int    `json:"count"`
}

// Seen is what one letter would come to.
type Seen struct {
	Letter    store.ID     `json:"letter"`
	Tx        store.ID     `json:"transaction"`
	Reference string       `json:"reference"`
	State     string       `json:"state"`
	Reason    string       `json:"reason"`
	Error     string       `json:"error"` // why it cannot be sent at all
	Changed   bool         `json:"changed"`
	Made      []MadeBefore `json:"made"`
}

// MadeBefore is a delivery that was made before.
type MadeBefore struct {
	Path   string `json:"path"`
	Target string `json:"target"`
}

type look struct {
	flows []string // that it is about
	mu    sync.Mutex
	about Look
	seen  map[string][]Seen // by version, in order
	at    map[string]map[[2]string]int
	stop  context.CancelFunc
}

// looksKept is how many looks are held in memory, the latest.
const looksKept = 8

// Preview begins to look at what an order would come to.
func (r *Repairs) Preview(ctx context.Context, o Order) (Look, error) {
	if o.What == "discard" {
		return Look{}, fmt.Errorf("%w: a discard sends nothing, so there is nothing to look at", journal.ErrDecision)
	}
	items, err := r.chosen(ctx, o.Choice)
	if err != nil {
		return Look{}, err
	}
	if len(items) == 0 {
		return Look{}, fmt.Errorf("%w: there is nothing that it is about", journal.ErrDecision)
	}
	asked := o.Decision.Version
	if o.Decision.Version == "draft" {
		o.Decision.Version = ""
	}
	if err := r.check(&o, items); err != nil {
		return Look{}, err
	}
	run, stop := context.WithCancel(r.Life.Taking())
	l := &look{
		about: Look{ID: uuid.NewString(), State: "running", Total: len(items), Version: asked},
		seen:  map[string][]Seen{},
		at:    map[string]map[[2]string]int{},
		stop:  stop,
	}
	if l.flows, err = r.flowsOf(items); err != nil {
		stop()
		return Look{}, err
	}
	versions := []string{asked}
	if asked == "" {
		versions = []string{"own", "live"}
	}
	r.mu.Lock()
	r.looks = append(r.looks, l)
	if len(r.looks) > looksKept {
		r.looks[0].stop()
		r.looks = slices.Delete(r.looks, 0, 1)
	}
	r.mu.Unlock()
	began := r.Life.Go(func() {
		defer stop()
		for i := range items {
			if run.Err() != nil {
				break
			}
			r.lookAt(l, &items[i], versions, o.Decision)
		}
		l.finish(run.Err() != nil, asked)
	})
	if !began {
		return Look{}, store.ErrClosed
	}
	return l.view(), nil
}

// lookAt walks one letter under each version.
func (r *Repairs) lookAt(l *look, item *store.RepairItem, versions []string, d journal.Decision) {
	t, err := r.Store.All().Transaction(item.Tx)
	live := 0
	if err == nil {
		if f := r.Catalog.Flow(t.Flow); f != nil {
			live = f.Version
		}
	}
	var made []MadeBefore
	if err == nil && !d.Insist {
		made, err = r.made(&t)
	}
	for _, version := range versions {
		if version == "live" && len(versions) > 1 && (live == 0 || live == t.Version) {
			continue // there is no other
		}
		seen := Seen{Tx: item.Tx, Made: made, Reference: t.Reference}
		if seen.Made == nil {
			seen.Made = []MadeBefore{}
		}
		one := d
		one.Version = version
		var out *run.Rehearsal
		failed := err
		if failed == nil && item.Letter != nil {
			seen.Letter = *item.Letter
			out, seen.Changed, failed = r.watch.PreviewOne(*item.Letter, one)
		} else if failed == nil {
			out, seen.Changed, failed = r.watch.PreviewAgain(item.Tx, one)
		}
		switch {
		case failed != nil:
			seen.State, seen.Error = "refused", failed.Error()
		default:
			if seen.State = out.State; out.Reason != nil {
				seen.Reason = *out.Reason
			}
			if len(out.Unknown) > 0 {
				seen.State, seen.Reason = "not known", "what "+out.Unknown[0].Target+" answers cannot be known beforehand"
			}
		}
		l.add(version, seen)
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.about.Done++
	l.about.Made += len(made)
	if l.about.Done == 1 {
		l.about.Live, l.about.Own = live, t.Version
	}
	if l.about.Live != live {
		l.about.Live = 0
	}
	if l.about.Own != t.Version {
		l.about.Own = 0
	}
}

// made lists the deliveries of a transaction that were made.
func (r *Repairs) made(t *store.Transaction) ([]MadeBefore, error) {
	all, err := r.Store.All().Deliveries(t.ID)
	var out []MadeBefore
	for i := range all {
		if all[i].State == store.Done {
			out = append(out, MadeBefore{all[i].Path, all[i].Target})
		}
	}
	return out, err
}

func (l *look) add(version string, s Seen) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.seen[version] = append(l.seen[version], s)
	if l.at[version] == nil {
		l.at[version] = map[[2]string]int{}
	}
	l.at[version][[2]string{s.State, cause.Text(s.Reason+s.Error, nil)}]++
}

// finish says which version the evidence speaks for, where none was asked for.
func (l *look) finish(stopped bool, asked string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.about.State = "done"
	if stopped {
		l.about.State = "stopped"
	}
	if asked != "" {
		return
	}
	own, live := l.well("own"), l.well("live")
	total := len(l.seen["own"])
	switch {
	case len(l.seen["live"]) == 0:
		l.about.Version, l.about.Why = "own", "the version that they died under is the live one"
	case live > own:
		l.about.Version = "live"
		l.about.Why = fmt.Sprintf("%d of %d come through under the live version, %d under their own", live, total, own)
	case live == own && live > 0 && live == len(l.seen["live"]):
		l.about.Version, l.about.Why = "live", "all of them come through under the live version"
	default:
		l.about.Version = "own"
		l.about.Why = fmt.Sprintf(
			"%d of %d come through under their own version, %d under the live one",
			own,
			total,
			live,
		)
	}
}

// well counts the letters that would not die again under a version.
func (l *look) well(version string) (n int) {
	for _, s := range l.seen[version] {
		if s.State != run.DeadLetter && s.State != "refused" {
			n++
		}
	}
	return n
}

func (l *look) view() Look {
	l.mu.Lock()
	defer l.mu.Unlock()
	out := l.about
	out.Under = map[string][]Outcome{}
	for version, counts := range l.at {
		list := make([]Outcome, 0, len(counts))
		for k, n := range counts {
			list = append(list, Outcome{k[0], k[1], n})
		}
		slices.SortFunc(list, func(a, b Outcome) int {
			if a.Count != b.Count {
				return b.Count - a.Count
			}
			return slices.Compare([]string{a.State, a.Text}, []string{b.State, b.Text})
		})
		out.Under[version] = list
	}
	return out
}

func (r *Repairs) look(id string) (*look, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, l := range r.looks {
		if l.about.ID == id {
			return l, nil
		}
	}
	return nil, fmt.Errorf("%w: there is no look %s; only the latest are kept", journal.ErrNotFound, id)
}

// flowsOf names the flows of what is chosen.
func (r *Repairs) flowsOf(items []store.RepairItem) (out []string, err error) {
	known := map[string]bool{}
	for i := range items {
		t, err := r.Store.All().Transaction(items[i].Tx)
		if err != nil {
			return nil, err
		}
		known[t.Flow] = true
	}
	return slices.Sorted(maps.Keys(known)), nil
}

// FlowsOf names the flows that a look is about.
func (r *Repairs) FlowsOf(id string) ([]string, error) {
	l, err := r.look(id)
	if err != nil {
		return nil, err
	}
	return l.flows, nil
}

// Look tells how far a look has come, and what it has found.
func (r *Repairs) Look(id string) (Look, error) {
	l, err := r.look(id)
	if err != nil {
		return Look{}, err
	}
	return l.view(), nil
}

// StopLook ends a look; what it found so far stays.
func (r *Repairs) StopLook(id string) error {
	l, err := r.look(id)
	if err == nil {
		l.stop()
	}
	return err
}

// Seen lists what letters would come to under a version, from a number on; state chooses
// those that would be in it, "" all. total counts them.
func (r *Repairs) Seen(id, version, state string, from, limit int) (list []Seen, total int, err error) {
	l, err := r.look(id)
	if err != nil {
		return nil, 0, err
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if version == "" {
		version = l.about.Version
	}
	list = []Seen{}
	for _, s := range l.seen[version] {
		if state != "" && s.State != state {
			continue
		}
		if total >= from && len(list) < limit {
			list = append(list, s)
		}
		total++
	}
	return list, total, nil
}

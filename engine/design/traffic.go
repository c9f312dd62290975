package design

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"sync"
	"time"

	"github.com/google/uuid"

	"readyferry/core/plan"
	"readyferry/core/run"
	"readyferry/engine/journal"
	"readyferry/store"
)

// A comparison walks what has really come through a draft, over what it met, and finds
// those messages that would go another way or come out different. It reads alone: nothing
// leaves, nothing is stored, and whatever is under way goes on.

// Span chooses the messages of a comparison: the last of them, or those of a time, or the
// last of a time.
type Span struct {
	Last     int // 0: DefaultLast
	From, To time.Time
}

// How many messages a comparison walks: where nothing is said, and at most.
const (
	DefaultLast = 1000
	MostLast    = 100_000
)

// comparisonsKept is how many comparisons are held in memory, the latest.
const comparisonsKept = 8

// Comparison is how a draft does over real messages.
type Comparison struct {
	ID      string `json:"id"`
	Flow    string `json:"flow"`
	State   string `json:"state"` // running, done, stopped or failed
	Error   string `json:"error,omitempty"`
	Total   int    `json:"total"` // messages that were chosen
	Done    int    `json:"done"`
	Same    int    `json:"same"`
	Other   int    `json:"other"`
	LeftOut int    `json:"leftOut"` // those that never began or cannot be walked any more
	// Why says why one of them was left out.
	Why    string         `json:"why,omitempty"`
	Groups []TrafficGroup `json:"groups"` // the largest first
	Took   int64          `json:"took"`   // milliseconds
}

// TrafficGroup is messages that differ in the same.
type TrafficGroup struct {
	N     int    `json:"n"` // its number in the comparison, by which its messages are found
	Count int    `json:"count"`
	Text  string `json:"text"`
	Dead  bool   `json:"dead"` // they would become dead letters
	// Common is what all its messages have and none of the rest, in words.
	Common string `json:"common,omitempty"`
}

// TrafficMessage is one of a group.
type TrafficMessage struct {
	Transaction store.ID
	Reference   string
	ReceivedAt  time.Time
	Differences []run.Difference
}

// traffic is a comparison under way or ended.
type traffic struct {
	mu     sync.Mutex
	about  Comparison
	groups map[string]*trafficGroup
	order  []*trafficGroup
	stop   context.CancelFunc
	began  time.Time
	draft  *plan.Plan
	common *common
	once   map[string]time.Time // when a value of the draft's once came first
	// nowhere are connections of the draft that there are not.
	nowhere map[string]string
}

type trafficGroup struct {
	TrafficGroup
	messages []TrafficMessage
	shared   map[string]int
}

// Compare begins to walk real messages of a flow through a document, nil for its draft. It
// goes on by itself; a comparison of the same flow before it ends.
func (g *Designs) Compare(name string, document []byte, of Span) (Comparison, error) {
	p, err := g.drafted(name, document)
	if err != nil {
		return Comparison{}, err
	}
	if of.Last = cmp.Or(of.Last, DefaultLast); of.Last < 0 || of.Last > MostLast {
		return Comparison{}, fmt.Errorf("%w: a comparison takes 1 to %d messages", journal.ErrDecision, MostLast)
	}
	ctx, stop := context.WithCancel(context.Background())
	t := &traffic{
		about:   Comparison{ID: uuid.NewString(), Flow: name, State: "running"},
		groups:  map[string]*trafficGroup{},
		stop:    stop,
		began:   time.Now(),
		draft:   p,
		common:  newCommon(),
		once:    map[string]time.Time{},
		nowhere: g.nowhere(p),
	}
	g.mu.Lock()
	for _, old := range g.compared {
		if old.about.Flow == name {
			old.stop()
		}
	}
	g.compared = append(g.compared, t)
	if n := len(g.compared); n > comparisonsKept {
		g.compared[0].stop()
		g.compared = slices.Delete(g.compared, 0, 1)
	}
	g.mu.Unlock()
	go func() {
		defer stop()
		t.end(ctx, g.walkTraffic(ctx, t, of))
	}()
	return t.view(), nil
}

// end says how a comparison ended.
func (t *traffic) end(ctx context.Context, err error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.about.State = "done"
	if err != nil {
		t.about.State, t.about.Error = "failed", err.Error()
	}
	if ctx.Err() != nil {
		t.about.State, t.about.Error = "stopped", ""
	}
	t.about.Took = time.Since(t.began).Milliseconds()
}

// view gives a comparison as it is now.
func (t *traffic) view() Comparison {
	t.mu.Lock()
	defer t.mu.Unlock()
	out := t.about
	if out.State == "running" {
		out.Took = time.Since(t.began).Milliseconds()
	}
	out.Groups = make([]TrafficGroup, len(t.order))
	for i, one := range t.order {
		one.Common = t.common.of(one.shared, one.Count)
		out.Groups[i] = one.TrafficGroup
	}
	slices.SortStableFunc(out.Groups, func(a, b TrafficGroup) int { return b.Count - a.Count })
	return out
}

func (g *Designs) comparison(name, id string) (*traffic, error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	for _, t := range g.compared {
		if t.about.ID == id && t.about.Flow == name {
			return t, nil
		}
	}
	return nil, fmt.Errorf(
		"%w: there is no comparison %s of %s; only the latest are kept",
		journal.ErrNotFound,
		id,
		name,
	)
}

// Comparison tells how far a comparison has come, and what it found.
func (g *Designs) Comparison(name, id string) (Comparison, error) {
	t, err := g.comparison(name, id)
	if err != nil {
		return Comparison{}, err
	}
	return t.view(), nil
}

// StopComparison ends a comparison; what it found so far stays.
func (g *Designs) StopComparison(name, id string) error {
	t, err := g.comparison(name, id)
	if err == nil {
		t.stop()
	}
	return err
}

// Compared lists the messages of a group from some number on, in the order in which they came.
func (g *Designs) Compared(name, id string, group, from, limit int) ([]TrafficMessage, int, error) {
	t, err := g.comparison(name, id)
	if err != nil {
		return nil, 0, err
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	if group < 0 || group >= len(t.order) {
		return nil, 0, fmt.Errorf("%w: the comparison has no group %d", journal.ErrNotFound, group)
	}
	all := t.order[group].messages
	from = min(max(from, 0), len(all))
	return slices.Clone(all[from:min(from+limit, len(all))]), len(all), nil
}

// Sides walks one message of a comparison again and gives both walks with all that they hold.
func (g *Designs) Sides(name, id string, tx store.ID) (*run.Retraced, error) {
	t, err := g.comparison(name, id)
	if err != nil {
		return nil, err
	}
	row, err := g.Store.All().Transaction(tx)
	if err == nil && row.Flow != name {
		err = journal.ErrNotFound
	}
	if err != nil {
		return nil, err
	}
	r, err := g.retrace(t, &row, true)
	return r, err
}

package intake

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"readyferry/core/expr"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
	"readyferry/core/run"
	"readyferry/engine/catalog"
	"readyferry/engine/journal"
	"readyferry/store"
)

// A load is read in the first partition. Each record is taken in the one to which a call with its values belongs: its
// order and its repeats are told there, and its group is there. A batch is handed over before the place behind it is
// kept here, so that a record may be handed over twice and none is left out; whoever takes them knows those of the last
// batches, and takes each once.

// LoadPart is what another partition is to take of a load.
type LoadPart struct {
	ID          store.ID
	Flow, Title string
	Behind      int64 // the record behind which the load stands: none before it is handed over again
	Records     []LoadRecord
}

// LoadRecord is a record of a load by its number, from 1.
type LoadRecord struct {
	N    int64
	Body []byte
}

// How long it is tried to hand records over where a partition does not answer: another member may take it over
// meanwhile.
const (
	handEach  = time.Second
	handTries = 60
)

// handOver has the records of a batch that belong to other partitions be taken there, and marks them.
func (k *Intakes) handOver(f *catalog.Flow, l *store.Load, filter *expr.Program, batch []record) error {
	if k.Others == nil {
		return nil
	}
	ctx := k.Life.Taking()
	parts := make([]LoadPart, k.Partition.Of)
	in := &Intake{Flow: f.Name, version: f.Version, plan: f.Live, trial: f.Trial}
	for i := range batch {
		to, err := k.belongs(ctx, in, filter, batch[i].body)
		if err != nil {
			return err
		}
		if batch[i].elsewhere = to != k.Partition.This; batch[i].elsewhere {
			p := &parts[to]
			p.Records = append(p.Records, LoadRecord{l.Read + int64(i) + 1, batch[i].body})
		}
	}
	for to := range parts {
		parts[to].ID, parts[to].Flow, parts[to].Title, parts[to].Behind = l.ID, l.Flow, l.Title, l.Read
		if err := k.handTo(ctx, to, parts[to]); err != nil {
			return err
		}
	}
	return nil
}

// belongs gives the partition of a record; this one for what the load leaves out, and for what cannot be read.
func (k *Intakes) belongs(ctx context.Context, in *Intake, filter *expr.Program, body []byte) (int, error) {
	if ok, err := passes(filter, body); err != nil || !ok {
		return k.Partition.This, nil
	}
	if _, err := jsonfmt.Decode(body); err != nil {
		return k.Partition.This, nil
	}
	to, _, err := k.partitionOf(ctx, in, run.Envelope{ReceivedAt: k.Now(), Headers: loadedHeaders,
		Params: []message.Header{}, Query: []message.Header{}, Body: body})
	return to, err
}

// handTo hands records over.
func (k *Intakes) handTo(ctx context.Context, to int, p LoadPart) error {
	if len(p.Records) == 0 {
		return nil
	}
	given, err := json.Marshal(p)
	if err != nil {
		return err
	}
	for n := 1; ; n++ {
		_, err := k.Others.Ask(ctx, to, journal.Asked{What: journal.AskLoad, Given: given})
		if err == nil || errors.Is(err, journal.ErrDecision) || n == handTries {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(handEach):
		}
	}
}

// TakeLoaded takes records of a load that another partition reads, each once.
func (k *Intakes) TakeLoaded(ctx context.Context, given []byte) error {
	var p LoadPart
	if err := json.Unmarshal(given, &p); err != nil {
		return err
	}
	return k.TakeLoadPart(ctx, p)
}

// TakeLoadPart takes records of a load, each once.
func (k *Intakes) TakeLoadPart(ctx context.Context, p LoadPart) error {
	if err := k.untilRoom(ctx); err != nil {
		return err
	}
	for left := p.Records; len(left) > 0; {
		taken := 0
		err := k.Do(ctx, p.Flow, func(s *journal.Session) (err error) {
			taken, err = k.takeHanded(s, &p, left)
			return err
		})
		if err != nil {
			return err
		}
		left = left[taken:]
	}
	return nil
}

// takeHanded takes some records and tells how many it has got behind; inside of the writer the load must still stand
// where it was read.
func (k *Intakes) takeHanded(s *journal.Session, p *LoadPart, list []LoadRecord) (taken int, err error) {
	f := k.Catalog.Flow(p.Flow)
	if f == nil || f.Live == nil {
		return 0, fmt.Errorf("%w: the flow %s is not live here", journal.ErrDecision, p.Flow)
	}
	l, err := k.Store.Load(p.ID)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return 0, err
	}
	was, known := l.Last, lately(l.Last)
	known.behind(p)
	for i, r := range list {
		if i > 0 && (i >= mostAtOnce(f, atOneGo) || s.Tired() || s.Crowded()) {
			break // others want to write, too
		}
		if taken++; known.has(r) {
			continue
		}
		if err := s.Take(f, loaded(p.Title, r.N, r.Body), nil, nil); err != nil {
			return 0, err
		}
		known.Taken = append(known.Taken, takenRecord{r.N, hashOf(r.Body)})
	}
	if l.Last, err = json.Marshal(known); err != nil {
		return 0, err
	}
	// It is the work of another partition: nobody here goes on with it, and it goes with what is kept of its time.
	l.ID, l.Flow, l.Title, l.State, l.FinishedAt = p.ID, p.Flow, p.Title, store.LoadDone, &s.At
	s.Then(func(tx *store.Tx, _ *journal.Notice) error {
		present, err := tx.Load(p.ID)
		if errors.Is(err, store.ErrNotFound) {
			err = nil
		}
		if err != nil || string(present.Last) != string(was) {
			return staleOr(err)
		}
		return tx.SaveLoad(&l)
	})
	return taken, nil
}

// takenLately are the records of a load that were taken of the last batches.
type takenLately struct{ Taken []takenRecord }

// takenRecord is a record by its number and what it was.
type takenRecord struct {
	N    int64
	Hash string
}

func lately(kept []byte) (t takenLately) {
	_ = json.Unmarshal(kept, &t) // nothing is known of a load that comes for the first time
	return t
}

// behind leaves out what does not come again, since the load stands behind it, and brings the others to the numbers
// under which they come now: a query that is read again may have other rows between them.
func (t *takenLately) behind(p *LoadPart) {
	comes := map[takenRecord]bool{}
	for _, r := range p.Records {
		comes[takenRecord{r.N, hashOf(r.Body)}] = true
	}
	left, moved := t.Taken[:0], map[string]int{}
	for _, one := range t.Taken {
		switch {
		case one.N <= p.Behind:
		case comes[one]:
			delete(comes, one)
			left = append(left, one)
		default:
			moved[one.Hash]++
		}
	}
	t.Taken = left
	for _, r := range p.Records {
		if one := (takenRecord{r.N, hashOf(r.Body)}); comes[one] && moved[one.Hash] > 0 {
			moved[one.Hash]--
			t.Taken = append(t.Taken, one)
		}
	}
}

// has tells whether a record was taken.
func (t *takenLately) has(r LoadRecord) bool {
	return slices.Contains(t.Taken, takenRecord{r.N, hashOf(r.Body)})
}

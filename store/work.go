package store

import (
	"bytes"

	"gorm.io/gorm"

	"readyferry/store/body"
)

// work is what jobs of a commit have made and what is not in the file yet: rows of each
// kind, to be written together. A job has its own until it has succeeded; then it joins
// that of the batch. Whoever reads by SQL in between has it written before.
type work struct {
	bodies       []*keptBody
	known        map[body.Key]bool // contents that are stored, or stand in bodies
	transactions []*moved
	messages     []*Message
	answers      []answered
	deliveries   []*placed
	tries        []*Try
	effects      []*Effect

	splits map[splitKey]*counting

	items       []*QueueItem
	takes       []taking
	finished    []int64         // messages of queues
	logs        map[string]*log // of topics, as far as they are known
	logged      []*TopicMessage
	topicTakens []*TopicTaken
	topicDone   []ID             // transactions that work on no message of a topic any more
	rooms       map[string]*room // of queues, as far as it is known

	units map[ID]*unit // nil: to be forgotten
	of    map[ID]ID    // transactions by delivery

	byID       map[ID]*moved
	byDelivery map[ID]*placed
}

// taking is a message of a queue that somebody works on from now on.
type taking struct {
	n  int64
	by ID
}

type splitKey struct {
	tx   ID
	path string
}

// counting is a split whose parts move.
type counting struct {
	Split
	changed bool // it is not yet in the file as it is here
}

// moved is a transaction that is new or has changed.
type moved struct {
	Transaction
	fresh bool
	was   *Transaction // as the file has it; nil where that is not known
}

// placed is a delivery that is new or has changed.
type placed struct {
	Delivery
	fresh bool
	whole bool // more has changed than where it stands
}

type answered struct {
	id     ID
	answer []byte
}

func newWork() *work {
	return &work{known: map[body.Key]bool{}, splits: map[splitKey]*counting{}, rooms: map[string]*room{}, logs: map[string]*log{}, units: map[ID]*unit{}, of: map[ID]ID{}, byID: map[ID]*moved{},
		byDelivery: map[ID]*placed{}}
}

func (w *work) empty() bool {
	return len(w.bodies)+len(w.transactions)+len(w.messages)+len(w.answers)+len(w.deliveries)+len(w.tries)+
		len(w.effects)+len(w.splits)+len(w.items)+len(w.takes)+len(w.finished)+
		len(w.topicTakens)+len(w.topicDone)+len(w.logs)+len(w.logged) == 0
}

func (w *work) move(t *Transaction, fresh bool, was *Transaction) {
	if m := w.byID[t.ID]; m != nil {
		m.Transaction = *t
		return
	}
	m := &moved{*t, fresh, was}
	w.transactions, w.byID[t.ID] = append(w.transactions, m), m
}

func (w *work) place(d *Delivery, fresh, whole bool) {
	if p := w.byDelivery[d.ID]; p != nil {
		p.Delivery, p.whole = *d, p.whole || whole
		return
	}
	p := &placed{*d, fresh, whole}
	w.deliveries, w.byDelivery[d.ID] = append(w.deliveries, p), p
}

func (w *work) body(b *keptBody) {
	if k := body.Key(b.Key); !w.known[k] {
		w.bodies, w.known[k] = append(w.bodies, b), true
	}
}

// join takes over what a job has made that has succeeded.
func (w *work) join(job *work) {
	for _, b := range job.bodies {
		w.body(b)
	}
	for _, m := range job.transactions {
		if had := w.byID[m.ID]; had != nil {
			had.Transaction = m.Transaction
			continue
		}
		w.transactions, w.byID[m.ID] = append(w.transactions, m), m
	}
	for _, d := range job.deliveries {
		if had := w.byDelivery[d.ID]; had != nil {
			had.Delivery, had.whole = d.Delivery, had.whole || d.whole
			continue
		}
		w.deliveries, w.byDelivery[d.ID] = append(w.deliveries, d), d
	}
	w.messages = append(w.messages, job.messages...)
	w.answers = append(w.answers, job.answers...)
	w.tries = append(w.tries, job.tries...)
	w.effects = append(w.effects, job.effects...)
	for id, u := range job.units {
		w.units[id] = u
	}
	for d, tx := range job.of {
		w.of[d] = tx
	}
	w.items = append(w.items, job.items...)
	w.takes = append(w.takes, job.takes...)
	w.finished = append(w.finished, job.finished...)
	w.logged = append(w.logged, job.logged...)
	for name, l := range job.logs {
		w.logs[name] = l
	}
	w.topicTakens = append(w.topicTakens, job.topicTakens...)
	w.topicDone = append(w.topicDone, job.topicDone...)
	for queue, r := range job.rooms {
		w.rooms[queue] = r
	}
	for key, s := range job.splits {
		if had := w.splits[key]; had != nil && had.changed {
			s.changed = true
		}
		w.splits[key] = s
	}
}

// write brings it into the file; what is known in memory stays.
func (w *work) write(p *prepared) error {
	if w.empty() {
		return nil
	}
	if err := insert(p, &bodyRow, w.bodies); err != nil {
		return err
	}
	if err := w.writeTransactions(p); err != nil {
		return err
	}
	if err := insert(p, &messageRow, w.messages); err != nil {
		return err
	}
	for _, a := range w.answers {
		if err := p.exec(answerMessage, []any{a.answer, a.id[:]}); err != nil {
			return err
		}
	}
	if err := w.writeDeliveries(p); err != nil {
		return err
	}
	if err := insert(p, &tryRow, w.tries); err != nil {
		return err
	}
	if err := insert(p, &effectRow, w.effects); err != nil {
		return err
	}
	if err := w.writeQueues(p); err != nil {
		return err
	}
	for _, s := range w.splits {
		if !s.changed {
			continue
		}
		p.args = append(p.args[:0], s.Next, s.UnderWay, s.Waiting, s.Delivered, s.TurnedAway, s.Dead, s.Aside, s.Gathers,
			s.Gathered, s.Tx[:], s.Path)
		if err := p.exec(saveSplit, p.args); err != nil {
			return err
		}
		s.changed = false
	}
	w.written()
	return nil
}

func (w *work) writeQueues(p *prepared) error {
	if err := insert(p, &itemRow, w.items); err != nil {
		return err
	}
	for i := range w.takes {
		p.args = append(p.args[:0], w.takes[i].by[:], w.takes[i].n)
		if err := p.exec(takeItem, p.args); err != nil {
			return err
		}
	}
	for _, n := range w.finished {
		p.args = append(p.args[:0], n)
		if err := p.exec(finishItem, p.args); err != nil {
			return err
		}
	}
	return w.writeTopics(p)
}

func (w *work) writeTopics(p *prepared) error {
	for _, l := range w.logs {
		if !l.changed {
			continue
		}
		p.args = topicRow.values(p.args[:0], &l.Topic)
		if err := p.exec(growTopic, p.args); err != nil {
			return err
		}
		l.changed = false
	}
	if err := insert(p, &topicMessageRow, w.logged); err != nil {
		return err
	}
	if err := insert(p, &topicTakenRow, w.topicTakens); err != nil {
		return err
	}
	for i := range w.topicDone {
		p.args = append(p.args[:0], w.topicDone[i][:])
		if err := p.exec(finishTopic, p.args); err != nil {
			return err
		}
	}
	return nil
}

// saveSplit writes what changes of a split.
var saveSplit = updateOf("splits", "tx=? AND path=?", "next", "under_way", "waiting", "delivered", "turned_away", "dead",
	"aside", "gathers", "gathered")

// written forgets the rows that are in the file now.
func (w *work) written() {
	w.bodies, w.transactions, w.messages, w.answers = w.bodies[:0], w.transactions[:0], w.messages[:0], w.answers[:0]
	w.deliveries, w.tries, w.effects = w.deliveries[:0], w.tries[:0], w.effects[:0]
	w.items, w.takes, w.finished = w.items[:0], w.takes[:0], w.finished[:0]
	w.topicTakens, w.topicDone, w.logged = w.topicTakens[:0], w.topicDone[:0], w.logged[:0]
	clear(w.byID)
	clear(w.byDelivery)
}

// reset makes it that of the next job.
func (w *work) reset() {
	w.written()
	clear(w.known)
	clear(w.splits)
	clear(w.rooms)
	clear(w.logs)
	clear(w.units)
	clear(w.of)
}

func (w *work) writeTransactions(p *prepared) error {
	plain, others := make([]*Transaction, 0, len(w.transactions)), []*Transaction(nil)
	for _, m := range w.transactions {
		switch {
		case m.fresh && isPlain(&m.Transaction):
			plain = append(plain, &m.Transaction)
		case m.fresh:
			others = append(others, &m.Transaction)
		default:
			if err := m.write(p); err != nil {
				return err
			}
		}
	}
	if err := insert(p, &plainTransaction, plain); err != nil {
		return err
	}
	return insert(p, &transactionRow, others)
}

// write updates a transaction that stands in the file, as little of it as has changed.
func (m *moved) write(p *prepared) error {
	t := &m.Transaction
	p.args = p.args[:0]
	switch {
	case m.was == nil || !onlyMoved(m.was, t):
		p.args = transactionRow.values(p.args, t)
		p.args = append(p.args[1:], t.ID[:])
		return p.exec(saveTransaction, p.args)
	case m.was.State == t.State && m.was.Reason == t.Reason && m.was.Place == t.Place && m.was.PlaceText == t.PlaceText &&
		m.was.FinishedAt == t.FinishedAt:
		p.args = append(p.args, t.Tries, at(t.NextTryAt), t.Revision, t.ToWalk, t.ID[:])
		return p.exec(reviseTransaction, p.args)
	}
	p.args = append(p.args, int64(t.State), t.Reason, t.Place, t.PlaceText, t.Tries, at(t.FinishedAt), at(t.NextTryAt),
		t.Revision, t.ToWalk, t.ID[:])
	return p.exec(moveTransaction, p.args)
}

// onlyMoved tells whether nothing has changed but what moveTransaction writes.
func onlyMoved(a, b *Transaction) bool {
	return a.Flow == b.Flow && a.Version == b.Version && a.Reference == b.Reference && a.OrderValue == b.OrderValue &&
		a.ReceivedAt.Equal(b.ReceivedAt) && a.QueueItem == b.QueueItem && a.FromTopic == b.FromTopic &&
		a.Unbegun == b.Unbegun && a.Parent == b.Parent && a.SplitPath == b.SplitPath && a.PartIndex == b.PartIndex &&
		a.Parts == b.Parts && bytes.Equal(a.Own, b.Own) && a.FromGroup == b.FromGroup && a.OfLetter == b.OfLetter &&
		a.Caller == b.Caller && a.CallerPath == b.CallerPath && a.CallerWaits == b.CallerWaits && a.Depth == b.Depth &&
		a.Gathered == b.Gathered && a.GatherPlace == b.GatherPlace && a.GatherText == b.GatherText &&
		a.OwnWaits == b.OwnWaits && a.Idle == b.Idle && a.Aside == b.Aside && a.DuplicateOf == b.DuplicateOf &&
		a.Lent == b.Lent
}

func (w *work) writeDeliveries(p *prepared) error {
	fresh := make([]*Delivery, 0, len(w.deliveries))
	for _, d := range w.deliveries {
		if d.fresh {
			fresh = append(fresh, &d.Delivery)
			continue
		}
		p.args = p.args[:0]
		query := moveDelivery
		if d.whole {
			p.args, query = append(deliveryRow.values(p.args, &d.Delivery)[1:], d.Seq), saveDelivery
		} else {
			p.args = append(p.args, int64(d.State), d.Tries, d.Total, at(d.FirstAt), at(d.NextAt), d.NextWhy, d.Seq)
		}
		if err := p.exec(query, p.args); err != nil {
			return err
		}
	}
	return insert(p, &deliveryRow, fresh)
}

// sql gives the way to read and write the file by SQL. Inside of a write, what this write
// has made so far is brought there before.
func (v View) sql() *gorm.DB {
	if v.tx == nil {
		return v.db
	}
	if err := v.tx.write(); err != nil {
		db := v.sql().Session(&gorm.Session{})
		_ = db.AddError(err)
		return db
	}
	return v.db
}

// write brings what the batch and this job have made into the file, the job's behind a
// savepoint, so that a failing job takes nothing of others with it.
func (tx *Tx) write() error {
	if !tx.saved {
		if err := tx.batch.write(tx.prepared); err != nil {
			return err
		}
		if err := tx.prepared.exec("SAVEPOINT job", nil); err != nil {
			return err
		}
		tx.saved = true
	}
	return tx.job.write(tx.prepared)
}

// forget drops what is in memory of a transaction: something of it changes that is not
// kept there.
func (tx *Tx) forget(id ID) { tx.job.units[id] = nil }

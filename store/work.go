package store

import (
	"gorm.io/gorm"

	"readyferry/store/body"
)

// work is what jobs of a commit have made and what is not in the file yet: rows of each
// kind, to be written together. A job has its own until it has succeeded; then it joins
// that of the batch. Whoever reads by SQL in between has it written before.
type work struct {
	bodies       []*keptBody
	known        map[body.Key]bool // contents that are stored, or stand in bodies
	refs         map[body.Key]int  // rows that have come to refer to a content
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

	onces map[onceAt]*OnceKey // by which repeats are told

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
	return &work{
		known:      map[body.Key]bool{},
		refs:       map[body.Key]int{},
		splits:     map[splitKey]*counting{},
		rooms:      map[string]*room{},
		logs:       map[string]*log{},
		onces:      map[onceAt]*OnceKey{},
		units:      map[ID]*unit{},
		of:         map[ID]ID{},
		byID:       map[ID]*moved{},
		byDelivery: map[ID]*placed{},
	}
}

func (w *work) empty() bool {
	return len(w.bodies)+len(w.transactions)+len(w.messages)+len(w.answers)+len(w.deliveries)+len(w.tries)+
		len(w.effects)+len(w.splits)+len(w.items)+len(w.takes)+len(w.finished)+
		len(w.onces)+len(w.topicTakens)+len(w.topicDone)+len(w.logs)+len(w.logged) == 0
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
	for at, k := range job.onces {
		w.onces[at] = k
	}
	for key, s := range job.splits {
		if had := w.splits[key]; had != nil && had.changed {
			s.changed = true
		}
		w.splits[key] = s
	}
}

// reset makes it that of the next job.
func (w *work) reset() {
	w.written()
	clear(w.known)
	clear(w.refs)
	clear(w.splits)
	clear(w.rooms)
	clear(w.onces)
	clear(w.logs)
	clear(w.units)
	clear(w.of)
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

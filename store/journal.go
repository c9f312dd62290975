package store

import (
	"encoding/binary"
	"errors"
	"slices"
	"time"

	"readyferry/core/want"
)

// AddTransaction stores a new transaction with its message.
func (tx *Tx) AddTransaction(t *Transaction, m *Message) error {
	if err := errors.Join(tx.tally(t, t.State, 1), tx.keep(&m.Body)); err != nil {
		return err
	}
	tx.sized(t.Flow, m.Body.Size())
	tx.noteBegun(t)
	m.Seq = tx.numbers.message()
	t.Message = m.Seq
	u := &unit{tx: *t, message: *m}
	u.tx.ReceivedAt, u.tx.FinishedAt, u.tx.NextTryAt = exact(t.ReceivedAt), exactly(t.FinishedAt), exactly(t.NextTryAt)
	tx.job.move(&u.tx, true, nil)
	tx.job.messages = append(tx.job.messages, &u.message)
	tx.job.units[t.ID] = u
	if t.DuplicateOf != nil && t.CallerWaits {
		tx.forget(*t.DuplicateOf) // it has somebody waiting now
	}
	return nil
}

// SaveTransaction writes a changed transaction; before is its state until now.
func (tx *Tx) SaveTransaction(t *Transaction, before State) error {
	if t.State != before {
		if err := errors.Join(tx.tally(t, before, -1), tx.tally(t, t.State, 1)); err != nil {
			return err
		}
		tx.noteState(t, before)
	}
	now := *t
	now.FinishedAt, now.NextTryAt = exactly(t.FinishedAt), exactly(t.NextTryAt)
	u := tx.unit(t.ID)
	if u == nil {
		tx.job.move(&now, false, nil)
		return nil
	}
	tx.job.move(&now, false, &u.tx)
	tx.job.units[t.ID] = u.moved(&now)
	return nil
}

// tally counts a transaction in a state: a part with its siblings, any other
// with those of its flow and minute.
func (tx *Tx) tally(t *Transaction, state State, by int64) error {
	if t.Parent != nil {
		return tx.shift(t, state, int(by))
	}
	tx.count(t, state, by)
	return nil
}

// Transaction gives a transaction by id, or ErrNotFound.
func (v View) Transaction(id ID) (Transaction, error) {
	if u := v.unit(id); u != nil {
		return u.tx, nil
	}
	var t Transaction
	return t, v.sql().Where("id = ?", id).Take(&t).Error
}

// Filter chooses transactions. Zero values choose all.
type Filter struct {
	Flow      string
	Of        Of // nil: of all flows
	State     *State
	Reference string // exact
	From, To  time.Time
	After     *ID // only older than this one
	Limit     int
}

// idAt gives the smallest id of a moment.
func idAt(t time.Time) ID {
	var id ID
	ms := t.UnixMilli()
	for i := 5; i >= 0; i-- {
		id[i] = byte(ms)
		ms >>= 8
	}
	return id
}

// time gives the moment of an id of version 7, in milliseconds.
func (id ID) time() time.Time {
	var ms int64
	for _, b := range id[:6] {
		ms = ms<<8 | int64(b)
	}
	return time.UnixMilli(ms)
}

// Message gives the message of a transaction that counts now.
func (v View) Message(id ID) (Message, error) {
	m, err := v.MessageHead(id)
	if err != nil {
		return m, err
	}
	return m, v.Fill(&m.Body)
}

// MessageHead is Message with the body as a reference.
func (v View) MessageHead(id ID) (Message, error) {
	if u := v.unit(id); u != nil {
		return u.message, nil
	}
	var m Message
	return m, v.sql().Where(messagesOf, one(id), one(id)).Order("n DESC").Take(&m).Error
}

// messagesOf chooses the message of a transaction and its repairs. Nearly every message is
// one that came in, which the transaction names; only repairs are in an index.
const messagesOf = "seq IN (SELECT message FROM transactions WHERE id IN ? " +
	"UNION ALL SELECT seq FROM messages WHERE tx IN ? AND n > 0)"

func one(id ID) []ID { return []ID{id} }

// AddMessage stores a repaired message.
func (tx *Tx) AddMessage(m *Message) error {
	if err := tx.keep(&m.Body); err != nil {
		return err
	}
	of, err := tx.Transaction(m.Tx)
	if err != nil {
		return err
	}
	tx.sized(of.Flow, m.Body.Size())
	tx.forget(m.Tx)
	kept := *m
	kept.Seq = tx.numbers.message()
	tx.job.messages = append(tx.job.messages, &kept)
	return nil
}

// SaveAnswer keeps what the caller got.
func (tx *Tx) SaveAnswer(id ID, answer []byte) error {
	tx.job.answers = append(tx.job.answers, answered{id, answer})
	if u := tx.unit(id); u != nil {
		now := *u
		now.message.Answer = answer
		tx.job.units[id] = &now
	}
	return nil
}

// Effects gives the recorded effects of a transaction.
func (v View) Effects(id ID) ([]Effect, error) {
	if u := v.unit(id); u != nil {
		return slices.Clone(u.effects), nil
	}
	var out []Effect
	if err := v.sql().Where("tx = ?", id).Find(&out).Error; err != nil {
		return nil, err
	}
	answers, err := v.answers(id, out)
	if err != nil {
		return nil, err
	}
	out = append(out, answers...)
	for i := range out {
		if err := v.Fill(&out[i].Body); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// answers gives the effects that are no rows: what delivered tries were answered.
func (v View) answers(id ID, known []Effect) ([]Effect, error) {
	var done []Delivery
	var apart []Try
	if err := errors.Join(
		v.sql().Select("id", "path", "taken").Where("tx = ? AND state = ?", id, Done).Order("seq").Find(&done).Error,
		v.sql().Raw(`SELECT t.* FROM deliveries d JOIN tries t ON t.delivery = d.id AND t.round = d.round AND t.outcome = 'delivered'
			WHERE d.tx = ? AND d.state = ? ORDER BY t.n DESC`, id, Done).Scan(&apart).Error,
	); err != nil {
		return nil, err
	}
	byDelivery := map[ID]*Try{}
	for i := range apart {
		byDelivery[apart[i].Delivery] = &apart[i] // the first one stays
	}
	var out []Effect
	for i := range done {
		t := byDelivery[done[i].ID]
		if t == nil {
			t = done[i].taken()
		}
		path := done[i].Path
		if t == nil || slices.ContainsFunc(known, func(e Effect) bool { return e.Path == path }) {
			continue
		}
		headers, err := want.DecodeHeaders(t.Headers)
		if err != nil {
			return nil, err
		}
		at := t.At.Add(time.Duration(t.Took) * time.Microsecond)
		out = append(
			out,
			Effect{Tx: id, Path: path, Result: want.EncodeAnswer(t.Status, headers), Body: t.Body, At: at, OfTry: true},
		)
	}
	return out, nil
}

// AddEffect records an effect. One that is recorded already stays as it is.
func (tx *Tx) AddEffect(e *Effect) error {
	if err := tx.keep(&e.Body); err != nil {
		return err
	}
	kept := *e
	kept.At = exact(e.At)
	if !e.OfTry {
		tx.job.effects = append(tx.job.effects, &kept)
	}
	if u := tx.unit(e.Tx); u != nil {
		tx.job.units[e.Tx] = u.effect(&kept)
	}
	return nil
}

// ForgetEffect removes an effect that is to be brought about anew. A delivery that has
// brought it about is withdrawn.
func (tx *Tx) ForgetEffect(id ID, path string) error {
	tx.forget(id)
	if err := tx.sql().Model(&Delivery{}).Where("tx = ? AND path = ? AND state = ?", id, path, Done).
		Update("state", Withdrawn).Error; err != nil {
		return err
	}
	return tx.sql().Where("tx = ? AND path = ?", id, path).Delete(&Effect{}).Error
}

// FirstMessage gives the message of a transaction as it was received, its body as
// a reference.
func (v View) FirstMessage(id ID) (Message, error) {
	if u := v.unit(id); u != nil {
		return u.message, nil
	}
	var m Message
	return m, v.sql().Where("seq = (SELECT message FROM transactions WHERE id = ?)", id).Take(&m).Error
}

// Messages lists the message of a transaction and its repairs, the first first.
func (v View) Messages(id ID) ([]Message, error) {
	var out []Message
	if err := v.sql().Where(messagesOf, one(id), one(id)).Order("n").Find(&out).Error; err != nil {
		return nil, err
	}
	for i := range out {
		if err := v.Fill(&out[i].Body); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// FlowsToWalk names the flows with transactions that are to be walked.
func (v View) FlowsToWalk() ([]string, error) {
	var out []string
	return out, v.sql().Model(&Transaction{}).Where("to_walk").Distinct().Pluck("flow", &out).Error
}

// ToWalk lists transactions of a flow that are to be walked, the oldest first.
func (v View) ToWalk(flow string, limit int) ([]ID, error) {
	var out []ID
	return out, v.sql().Model(&Transaction{}).
		Where("flow = ? AND to_walk", flow).
		Order("id").
		Limit(limit).
		Pluck("id", &out).
		Error
}

// IDAt gives an id of a moment that is the same for the same number: of version 7, as far as
// it goes.
func IDAt(at time.Time, n uint64) ID {
	id := idAt(at)
	id[6], id[8] = 0x70|byte(n>>40)&0x0f, 0x80
	binary.BigEndian.PutUint32(id[12:], uint32(n))
	return id
}

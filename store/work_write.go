package store

import (
	"bytes"
	"errors"
)

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
	for _, m := range w.messages {
		w.refer(&m.Body)
	}
	for _, a := range w.answers {
		if err := p.exec(answerMessage, []any{a.answer, a.id[:]}); err != nil {
			return err
		}
	}
	if err := w.writeDeliveries(p); err != nil {
		return err
	}
	if err := insertNew(p, &tryRow, w.tries, w.refer); err != nil {
		return err
	}
	if err := insertNew(p, &effectRow, w.effects, w.refer); err != nil {
		return err
	}
	if err := w.writeRefs(p); err != nil {
		return err
	}
	if err := w.writeOnces(p); err != nil {
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

func (w *work) writeTransactions(p *prepared) error {
	plain, others := make([]*Transaction, 0, len(w.transactions)), []*Transaction(nil)
	for _, m := range w.transactions {
		switch {
		case m.fresh && isPlain(&m.Transaction):
			plain = append(plain, &m.Transaction)
		case m.fresh:
			others = append(others, &m.Transaction)
		default:
			if err := errors.Join(m.write(p), m.index(p)); err != nil {
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

// index notes that what the index of words knows of it is out of date, once it is at its end.
func (m *moved) index(p *prepared) error {
	if m.State < Delivered || m.Parent != nil || m.Message > p.searched {
		return nil
	}
	p.args = append(p.args[:0], m.ID[:])
	return p.exec(indexed, p.args)
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
			p.args = append(p.args, int64(d.State), d.Tries, d.Total, at(d.FirstAt), at(d.NextAt), d.NextWhy, d.Taken, d.Seq)
		}
		if err := p.exec(query, p.args); err != nil {
			return err
		}
	}
	for _, d := range fresh {
		w.refer(&d.Body)
	}
	return insert(p, &deliveryRow, fresh)
}

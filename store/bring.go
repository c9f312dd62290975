package store

import (
	"bytes"
	"errors"
	"slices"
)

// Bring takes transactions that stand in the file alone into the working set, all of them
// with a few questions: read one by one, each would cost several. What would not be there
// had it been in memory from its beginning is left out.
func (tx *Tx) Bring(ids []ID) error {
	ids = slices.Clone(ids)
	slices.SortFunc(ids, func(a, b ID) int { return bytes.Compare(a[:], b[:]) })
	ids = slices.DeleteFunc(slices.Compact(ids), func(id ID) bool { return tx.unit(id) != nil })
	if len(ids) == 0 {
		return nil
	}
	var (
		transactions []Transaction
		messages     []Message
		deliveries   []Delivery
		effects      []Effect
		letters      []ID
	)
	db := tx.sql()
	if err := errors.Join(
		db.Where("id IN ? AND state < ? AND caller IS NULL", ids, Delivered).Find(&transactions).Error,
		db.Where(messagesOf, ids, ids).Find(&messages).Error,
		db.Where("tx IN ?", ids).Order("seq").Find(&deliveries).Error,
		db.Where("tx IN ?", ids).Find(&effects).Error,
		db.Model(&Letter{}).Where("tx IN ?", ids).Pluck("tx", &letters).Error,
	); err != nil {
		return err
	}
	units := map[ID]*unit{}
	for i := range transactions {
		units[transactions[i].ID] = &unit{tx: transactions[i]}
	}
	for _, id := range letters {
		delete(units, id)
	}
	for i := range messages {
		if m := &messages[i]; m.N > 0 { // it was repaired
			delete(units, m.Tx)
		} else if u := units[m.Tx]; u != nil {
			u.message = *m
		}
	}
	done := []ID{} // those with answers that their tries have
	for i := range deliveries {
		d := &deliveries[i]
		if u := units[d.Tx]; u != nil {
			if n, of := d.Body.Message(); of && n == 0 && u.message.Body.Filled() {
				d.Body.Fill(u.message.Body.Bytes())
			}
			u.deliveries = append(u.deliveries, *d)
			if d.State == Done {
				done = append(done, d.Tx)
			}
		}
	}
	for i := range effects {
		if u := units[effects[i].Tx]; u != nil {
			u.effects = append(u.effects, effects[i])
		}
	}
	for _, id := range slices.Compact(done) {
		answers, err := tx.answers(id, units[id].effects)
		if err != nil {
			return err
		}
		units[id].effects = append(units[id].effects, answers...)
	}
	for id, u := range units {
		for i := range u.effects {
			if err := tx.Fill(&u.effects[i].Body); err != nil {
				return err
			}
		}
		tx.job.units[id] = u
		for i := range u.deliveries {
			tx.job.of[u.deliveries[i].ID] = id
		}
	}
	return nil
}

package store

import "errors"

// Findable is what a transaction is found by besides its own row.
type Findable struct {
	Deliveries []Delivery // with their targets and paths alone
	Effects    []string   // the paths of those that are rows
	Letters    []Letter   // with their reasons and paths alone
	Message    Message    // as it was received, its body as a reference; the zero one: it is not there any more
}

// Findable gives that of some transactions. It asks the file once for all of each kind: asking for each
// transaction takes four times as long.
func (v View) Findable(of []Transaction) (map[ID]*Findable, error) {
	out := make(map[ID]*Findable, len(of))
	ids, seqs := make([]ID, len(of)), make([]int64, len(of))
	for i := range of {
		ids[i], seqs[i] = of[i].ID, of[i].Message
		out[of[i].ID] = &Findable{}
	}
	var deliveries []Delivery
	var effects []Effect
	var letters []Letter
	var messages []Message
	if err := errors.Join(
		v.sql().Select("tx", "target", "path").Where("tx IN ?", ids).Find(&deliveries).Error,
		v.sql().Select("tx", "path").Where("tx IN ?", ids).Find(&effects).Error,
		v.sql().Select("tx", "reason", "path").Where("tx IN ?", ids).Find(&letters).Error,
		v.sql().Where("seq IN ?", seqs).Find(&messages).Error,
	); err != nil {
		return nil, err
	}
	for i := range deliveries {
		f := out[deliveries[i].Tx]
		f.Deliveries = append(f.Deliveries, deliveries[i])
	}
	for i := range effects {
		f := out[effects[i].Tx]
		f.Effects = append(f.Effects, effects[i].Path)
	}
	for i := range letters {
		f := out[letters[i].Tx]
		f.Letters = append(f.Letters, letters[i])
	}
	for i := range messages {
		if f := out[messages[i].Tx]; f != nil {
			f.Message = messages[i]
		}
	}
	return out, nil
}

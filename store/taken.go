package store

import (
	"encoding/binary"
	"time"

	"readyferry/core/retry"
	"readyferry/store/body"
)

// Most deliveries are taken at their first try, and answered shortly. Such a try stands in
// the row of its delivery, which is written with its end anyway: a row of its own would cost
// as much again. It is a row of tries when the answer is long, and from when the delivery is
// sent again.
//
// It stands there as unsigned varints (encoding/binary) n, round, at, took, status, then as a
// length and bytes each: detail, headers, body.

// mostTaken is the largest try, in bytes, that stands in its delivery.
const mostTaken = 256

// AddTry stores an attempt of a delivery, with the number that the delivery counts and in its
// round. SaveDelivery has to follow: the try may stand with it.
func (tx *Tx) AddTry(d *Delivery, t *Try) error {
	tx.noteTry(d, t)
	tx.apart(d)
	t.Delivery, t.N, t.Round = d.ID, d.Total, d.Round
	if taken := t.taken(); t.Outcome == string(retry.Delivered) && taken != nil {
		d.Taken = taken
		return nil
	}
	if err := tx.keep(&t.Body); err != nil {
		return err
	}
	kept := *t
	tx.job.tries = append(tx.job.tries, &kept)
	return nil
}

// apart gives a try that stands with its delivery a row of its own, before others follow.
func (tx *Tx) apart(d *Delivery) {
	if t := d.taken(); t != nil {
		tx.job.tries, d.Taken = append(tx.job.tries, t), nil
	}
}

// taken gives what stands of a try in its delivery; nil where it is too long for that.
func (t *Try) taken() []byte {
	if !t.Body.Filled() || t.Body.Size()+int64(len(t.Headers)+len(t.Detail)) > mostTaken {
		return nil
	}
	b := binary.AppendUvarint(make([]byte, 0, mostTaken), uint64(t.N))
	for _, n := range []int64{int64(t.Round), micros(t.At), t.Took, int64(t.Status)} {
		b = binary.AppendUvarint(b, uint64(n))
	}
	for _, part := range [][]byte{[]byte(t.Detail), t.Headers, t.Body.Bytes()} {
		b = append(binary.AppendUvarint(b, uint64(len(part))), part...)
	}
	return b
}

// taken gives the try that stands in a delivery, or nil.
func (d *Delivery) taken() *Try {
	if d.Taken == nil {
		return nil
	}
	r := &reading{rest: d.Taken}
	t := &Try{Delivery: d.ID, Outcome: string(retry.Delivered)}
	t.N, t.Round = int(r.number()), int(r.number())
	t.At = time.UnixMicro(int64(r.number())).UTC()
	t.Took, t.Status = int64(r.number()), int(r.number())
	t.Detail, t.Headers, t.Body = string(r.bytes()), r.bytes(), body.Of(r.bytes()).Packed()
	if r.err != nil {
		t.Detail = r.err.Error()
	}
	return t
}

package store

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"readyferry/store/body"
)

// asInFile compares what is in memory of a transaction with what the file has.
func asInFile(t *testing.T, s *Store, in View, id ID) {
	t.Helper()
	file := View{db: s.db, definitions: s.definitions}
	if in.tx != nil {
		file.db = in.sql() // inside of the write, which brings it there
	}
	type all struct {
		Tx         Transaction
		Deliveries []Delivery
		Effects    []Effect
		Letters    []Letter
		Message    Message
		Repeats    []Transaction
	}
	read := func(v View) (a all) {
		var errs [6]error
		a.Tx, errs[0] = v.Transaction(id)
		a.Deliveries, errs[1] = v.Deliveries(id)
		for i := range a.Deliveries {
			d := &a.Deliveries[i]
			one, err := v.Delivery(d.ID)
			if one.State != d.State {
				err = errors.Join(err, fmt.Errorf("%v alone is %v", d.State, one.State))
			}
			errs[1] = errors.Join(errs[1], err, v.FillOf(id, &d.Body))
			content := string(d.Body.Bytes())
			d.Body = body.Body{}
			d.NextWhy += " " + content
		}
		a.Effects, errs[2] = v.Effects(id)
		slices.SortFunc(a.Effects, func(a, b Effect) int { return strings.Compare(a.Path, b.Path) })
		for i := range a.Effects {
			e := &a.Effects[i]
			e.Result, e.At = append(e.Result, e.Body.Bytes()...), time.Time{} // of a try it is when that ended
			e.Body = body.Body{}
		}
		a.Letters, errs[3] = v.LettersOf(id)
		a.Message, errs[4] = v.Message(id)
		a.Message.Source += string(a.Message.Body.Bytes())
		a.Message.Body = body.Body{}
		a.Repeats, errs[5] = v.WaitingRepeats(id)
		if err := errors.Join(errs[:]...); err != nil {
			t.Fatalf("%s: %v", id, err)
		}
		return a
	}
	mine, theirs := read(in), read(file)
	for _, a := range []*all{&mine, &theirs} {
		if len(a.Letters) == 0 {
			a.Letters = nil
		}
		if len(a.Repeats) == 0 {
			a.Repeats = nil
		}
		if len(a.Effects) == 0 {
			a.Effects = nil
		}
		if len(a.Deliveries) == 0 {
			a.Deliveries = nil
		}
	}
	if !reflect.DeepEqual(mine, theirs) {
		t.Fatalf("in memory\n%+v\nin the file\n%+v", mine, theirs)
	}
}

// What is held in memory of transactions is what the file has, over random histories with
// writes that fail in the middle, inside of a write and behind it.
func TestTheWorkingSetIsAsTheFile(t *testing.T) {
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	r := rand.New(rand.NewPCG(seed, 1))
	s := open(t, t.TempDir())
	var ids []ID
	failure := errors.New("it fails")
	at := func() *time.Time {
		a := epoch.Add(time.Duration(r.IntN(1000)) * time.Second)
		return &a
	}
	for range 200 {
		fails, looks := r.IntN(5) == 0, r.IntN(3) == 0
		var made []ID
		err := s.Write(t.Context(), func(tx *Tx) error {
			for range 1 + r.IntN(4) {
				id, err := step(tx, r, append(ids, made...), at)
				if err != nil {
					return err
				}
				if id != nil {
					made = append(made, *id)
				}
				if all := append(ids, made...); looks && len(all) > 0 {
					asInFile(t, s, tx.View, all[r.IntN(len(all))])
				}
			}
			if fails {
				return failure
			}
			return nil
		})
		if fails != errors.Is(err, failure) || !fails && err != nil {
			t.Fatal(err)
		}
		if !fails {
			ids = append(ids, made...)
		}
		for range min(5, len(ids)) {
			asInFile(t, s, s.View, ids[r.IntN(len(ids))])
		}
	}
	held := 0
	for _, id := range ids {
		asInFile(t, s, s.View, id)
		if s.unit(id) != nil {
			held++
		}
	}
	if held == 0 || held == len(ids) {
		t.Errorf("%d of %d are in memory; some should be", held, len(ids))
	}
}

// step does something with one of the transactions, or makes one.
func step(tx *Tx, r *rand.Rand, ids []ID, at func() *time.Time) (made *ID, err error) {
	if len(ids) == 0 || r.IntN(3) == 0 {
		t := &Transaction{ID: NewID(), Flow: "f", Reference: fmt.Sprint(r.IntN(9)), ReceivedAt: *at()}
		m := &Message{Tx: t.ID, Headers: []byte("[]"), Params: []byte("[]"), Query: []byte("[]"), Warnings: []byte("null"),
			Body: body.OfMessage([]byte(strings.Repeat("m", r.IntN(4000))))}
		if r.IntN(3) == 0 {
			t.Caller = &ID{1}
		}
		return &t.ID, tx.AddTransaction(t, m)
	}
	id := ids[r.IntN(len(ids))]
	t, err := tx.Transaction(id)
	if err != nil {
		return nil, err
	}
	deliveries, err := tx.Deliveries(id)
	if err != nil {
		return nil, err
	}
	switch r.IntN(9) {
	case 8:
		return nil, tx.Bring(append([]ID{id}, ids[:r.IntN(len(ids))]...))
	case 0:
		m, err := tx.Message(id)
		if err != nil {
			return nil, err
		}
		d := &Delivery{ID: deliveryOf(id), Tx: id, Flow: "f", Path: fmt.Sprint("p", len(deliveries)), Target: "t", NextAt: at(),
			CreatedAt: *at(), Request: []byte("{}"), Plan: []byte("{}"), Body: body.AsMessage(m.Body.Bytes(), m.N)}
		if r.IntN(2) == 0 {
			d.Body = body.Of([]byte(strings.Repeat("d", r.IntN(900)))).Packed()
		}
		return nil, tx.AddDelivery(d)
	case 1:
		before := t.State
		t.State, t.Tries, t.Revision = State(r.IntN(5)), r.IntN(9), t.Revision+1
		if t.ToWalk = r.IntN(2) == 0; r.IntN(3) == 0 {
			t.NextTryAt, t.FinishedAt, t.Place = at(), at(), "x"
		}
		if r.IntN(4) == 0 {
			t.Version, t.Gathered = t.Version+1, 1
		}
		return nil, tx.SaveTransaction(&t, before)
	case 2, 3:
		if len(deliveries) == 0 {
			return nil, nil
		}
		d := deliveries[r.IntN(len(deliveries))]
		return nil, try(tx, r, &d, at)
	case 4:
		return nil, tx.AddEffect(&Effect{Tx: id, Path: fmt.Sprint("e", r.IntN(4)), Result: []byte(`{"status":1}`),
			Body: body.Of(nil), At: *at()})
	case 5:
		switch r.IntN(6) {
		case 0:
			return nil, tx.SaveLetter(&Letter{ID: NewID(), Tx: id, Flow: "f", Path: "l", At: *at()}, *at(), "w", "died", "")
		case 1:
			m, err := tx.Message(id)
			m.N, m.Answer = m.N+1, nil
			return nil, errors.Join(err, tx.AddMessage(&m))
		case 2:
			if t.Caller == nil { // repeats whose caller waits are of flows that are called
				return nil, nil
			}
			first := id
			again := &Transaction{ID: NewID(), Flow: "f", ReceivedAt: *at(), DuplicateOf: &first, CallerWaits: true,
				Caller: &ID{1}, State: TurnedAway}
			return nil, tx.AddTransaction(again, &Message{Tx: again.ID, Body: body.Of(nil)})
		}
	case 6:
		_, err := tx.AnswerOnce(id, fmt.Appendf(nil, "answer %d", r.IntN(9)))
		return nil, err
	case 7:
		if len(deliveries) > 0 {
			return nil, tx.ForgetEffect(id, deliveries[0].Path)
		}
	}
	return nil, nil
}

// try keeps a try of a delivery, with what it came to.
func try(tx *Tx, r *rand.Rand, d *Delivery, at func() *time.Time) error {
	if d.State != Pending {
		d.Round++
		d.State, d.Tries, d.NextAt = Pending, 0, at()
		return tx.RearmDelivery(d)
	}
	d.Tries, d.Total = d.Tries+1, d.Total+1
	if d.FirstAt == nil {
		d.FirstAt = at()
	}
	outcome := "again"
	if r.IntN(2) == 0 {
		outcome, d.State, d.NextAt = "delivered", Done, nil
		if err := tx.AddEffect(&Effect{Tx: d.Tx, Path: d.Path, Result: []byte(`{"status":204,"headers":[]}`),
			Body: body.Of([]byte("answer")), At: *at(), OfTry: true}); err != nil {
			return err
		}
	}
	return errors.Join(tx.AddTry(d, &Try{At: *at(), Outcome: outcome, Status: 204,
		Headers: []byte("[]"), Body: body.Of([]byte("answer"))}), tx.SaveDelivery(d, epoch))
}

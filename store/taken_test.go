package store

import (
	"reflect"
	"strings"
	"testing"
	"time"

	"readyferry/store/body"
)

// A try that delivered stands with its delivery while it is short and the last one, and is
// listed with the others wherever it stands.
func TestATryStandsWithItsDelivery(t *testing.T) {
	s := open(t, t.TempDir())
	id := NewID()
	d := &Delivery{
		ID:      deliveryOf(id),
		Tx:      id,
		Flow:    "f",
		Path:    "d",
		Target:  "t",
		NextAt:  &epoch,
		Plan:    []byte("{}"),
		Request: []byte("{}"),
	}
	write(t, s, func(tx *Tx) error {
		if err := tx.AddTransaction(&Transaction{ID: id, Flow: "f", ReceivedAt: epoch}, &Message{Tx: id, Body: body.Of([]byte("{}"))}); err != nil {
			return err
		}
		return tx.AddDelivery(d)
	})
	try := func(outcome, answer string) {
		t.Helper()
		write(t, s, func(tx *Tx) error {
			d, err := tx.Delivery(d.ID)
			if err != nil {
				return err
			}
			d.Tries, d.Total = d.Tries+1, d.Total+1
			if outcome == "delivered" {
				d.State, d.NextAt = Done, nil
			}
			if err := tx.AddTry(&d, &Try{At: epoch, Took: 1234, Outcome: outcome, Status: 200 + d.Total, Detail: "as said",
				Headers: []byte(`[["A","b"]]`), Body: body.Of([]byte(answer)).Packed()}); err != nil {
				return err
			}
			return tx.SaveDelivery(&d, epoch)
		})
	}
	rows := func() (n int64) {
		if err := s.db.Model(&Try{}).Count(&n).Error; err != nil {
			t.Fatal(err)
		}
		return n
	}
	listed := func(want ...string) {
		t.Helper()
		all, err := s.Tries(d.ID)
		if err != nil || len(all) != len(want) {
			t.Fatalf("%d tries, %v", len(all), err)
		}
		for i, one := range all {
			if one.N != i+1 || one.Status != 201+i || string(one.Body.Bytes()) != want[i] || one.Took != 1234 || !one.At.Equal(epoch) ||
				one.Detail != "as said" ||
				string(one.Headers) != `[["A","b"]]` {
				t.Errorf("try %d is %+v", i+1, one)
			}
		}
		effects, err := s.Effects(id)
		if err != nil || len(effects) != 1 || string(effects[0].Body.Bytes()) != want[len(want)-1] {
			t.Errorf("%+v, %v", effects, err)
		}
	}
	try("again", "busy")
	try("delivered", "yes")
	if n := rows(); n != 1 {
		t.Errorf("%d tries have rows of their own", n)
	}
	s.units.publish(map[ID]*unit{id: nil}) // from here on it is read from the file
	listed("busy", "yes")
	write(t, s, func(tx *Tx) error {
		d, err := tx.Delivery(d.ID)
		if err != nil {
			return err
		}
		d.Round, d.State, d.NextAt = d.Round+1, Pending, &epoch
		return tx.RearmDelivery(&d)
	})
	if n := rows(); n != 2 {
		t.Errorf("%d tries have rows of their own once it is sent again", n)
	}
	long := strings.Repeat("long ", 100)
	try("delivered", long)
	if n := rows(); n != 3 {
		t.Errorf("%d tries have rows of their own behind a long answer", n)
	}
	listed("busy", "yes", long)
}

// What is cut off is said to be so, and nothing is made up.
func TestATryThatIsCutOff(t *testing.T) {
	whole := &Try{
		N:       3,
		Round:   1,
		At:      time.UnixMicro(5).UTC(),
		Took:    7,
		Status:  204,
		Outcome: "delivered",
		Detail:  "d",
		Headers: []byte("[]"),
		Body:    body.Of([]byte("b")).Packed(),
	}
	kept := whole.taken()
	got := (&Delivery{Taken: kept}).taken()
	if !reflect.DeepEqual(got, whole) {
		t.Errorf("%+v, and it was %+v", got, whole)
	}
	for n := range len(kept) {
		if cut := (&Delivery{Taken: kept[:n:n]}).taken(); cut.Detail != errCut.Error() {
			t.Errorf("%d bytes of it read as %+v", n, cut)
		}
	}
}

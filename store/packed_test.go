package store

import (
	"reflect"
	"testing"
	"time"
)

func TestWhatHappenedIsPackedWithoutLoss(t *testing.T) {
	parent, journey := NewID(), NewID()
	at := time.Date(2026, 3, 4, 5, 6, 7, 89, time.UTC)
	all := []Happened{
		{What: HasCome, Tx: NewID(), Flow: "holds", At: at},
		{
			What: WasTried, Tx: NewID(), Parent: &parent, Journey: &journey, Sought: true, Again: true, Flow: "holds", Step: "slip",
			Part: true, State: Delivered, At: at.Add(-time.Hour), Took: 3 * time.Millisecond, Delivery: NewID(), Target: "printer",
			Outcome: "again", Status: 503, N: 7,
		},
		{What: HasDied, Tx: NewID(), Flow: "größer", Step: "slip", Target: "holds", At: at, Took: -time.Second, Status: -1},
	}
	packed := PackHappened(all)
	got, err := UnpackHappened(packed)
	if err != nil || !reflect.DeepEqual(got, all) {
		t.Errorf("unpacked: %v, %v; want %v", got, err, all)
	}
	if got, err := UnpackHappened(PackHappened(nil)); err != nil || len(got) > 0 {
		t.Errorf("nothing packed is unpacked as %v, %v", got, err)
	}
	ends := map[int]bool{} // where one ends another may begin, and nothing is missed
	for n := range len(all) {
		ends[len(PackHappened(all[:n]))] = true
	}
	for n := range len(packed) {
		if _, err := UnpackHappened(packed[:n]); err == nil && !ends[n] {
			t.Errorf("the first %d of %d bytes are taken for all", n, len(packed))
		}
	}
	if _, err := UnpackHappened([]byte{packedForm + 1}); err == nil {
		t.Error("another form is read")
	}
}

// What is packed has every field: one that is added to what happens is to be packed, too.
func TestEachFieldOfWhatHappenedIsPacked(t *testing.T) {
	var h Happened
	v := reflect.ValueOf(&h).Elem()
	for i := range v.NumField() {
		switch f := v.Field(i); f.Kind() {
		case reflect.String:
			f.SetString("x")
		case reflect.Bool:
			f.SetBool(true)
		case reflect.Uint8:
			f.SetUint(1)
		case reflect.Int, reflect.Int64:
			f.SetInt(1)
		case reflect.Pointer:
			id := NewID()
			f.Set(reflect.ValueOf(&id))
		case reflect.Array:
			f.Set(reflect.ValueOf(NewID()))
		default:
			h.At = time.Unix(1, 1).UTC()
		}
	}
	got, err := UnpackHappened(PackHappened([]Happened{h}))
	if err != nil || len(got) != 1 || !reflect.DeepEqual(got[0], h) {
		t.Errorf("unpacked: %v, %v; want %v", got, err, h)
	}
}

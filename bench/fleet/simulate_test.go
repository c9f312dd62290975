package main

import (
	"testing"

	"readyferry/store"
)

// One partition is as fast as the member that leads it, whatever their number; with as many as members a fleet grows,
// until there are no more partitions and each member follows what all do.
func TestWhereAFleetEndsToGrow(t *testing.T) {
	one, busiest, _ := simulate(3, 1)
	more, _, _ := simulate(24, 1)
	if busiest < 0.9 || more > one*1.3 {
		t.Errorf("three members take %.0f with one partition at %.2f, twenty-four %.0f", one, busiest, more)
	}
	for _, c := range []struct {
		members, partitions int
		times               float64
	}{{3, 3, 1.9}, {6, 6, 2.8}, {12, store.MostPartitions, 3.5}} {
		if grown, _, _ := simulate(c.members, c.partitions); grown < c.times*one {
			t.Errorf("%d members with %d partitions take %.0f, three with one %.0f", c.members, c.partitions, grown, one)
		}
	}
	if again, _, _ := simulate(3, 1); again != one {
		t.Error("the same fleet goes otherwise")
	}
}

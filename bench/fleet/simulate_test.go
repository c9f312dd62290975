package main

import "testing"

// One partition is as fast as the member that leads it, whatever their number; with as many as members a
// fleet grows until what each of them does for the others is all that it does.
func TestWhereAFleetEndsToGrow(t *testing.T) {
	one, busiest, _ := simulate(3, 1)
	more, _, _ := simulate(24, 1)
	if busiest < 0.9 || more > one*1.3 {
		t.Errorf("three members take %.0f with one partition at %.2f, twenty-four %.0f", one, busiest, more)
	}
	grown, _, _ := simulate(24, 24)
	if grown < 6*one {
		t.Errorf("twenty-four members with as many partitions take %.0f, three with one %.0f", grown, one)
	}
	if again, _, _ := simulate(3, 1); again != one {
		t.Error("the same fleet goes otherwise")
	}
}

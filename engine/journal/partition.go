package journal

import "readyferry/engine/catalog"

// Partition is a part of a fleet's messages: which one it is, from 0, and how many there are; 0 and 1
// both mean that there is one. The first has all that is no message of a flow whose messages go
// their way by themselves.
type Partition struct{ This, Of int }

// Whole tells that there is but one.
func (p Partition) Whole() bool { return p.Of <= 1 }

// First tells that it is the one with all that messages meet in.
func (p Partition) First() bool { return p.This == 0 }

// Holding gives the partition that messages of a value belong to.
func (p Partition) Holding(value string) int {
	return int(catalog.Spread(value) % uint64(p.Of))
}

// Share gives what this partition may have of a number that all together may, such as tries at once.
func (p Partition) Share(of int) int {
	if p.Whole() {
		return of
	}
	n := of / p.Of
	if p.This < of%p.Of {
		n++
	}
	return n
}

package group

import "time"

// Order says how messages of one key get back into the order of their numbers.
type Order struct {
	First    int64         // the number that a key begins with
	Wait     time.Duration // how long a gap is waited for
	Dead     bool          // then those that waited are dead letters; else they go on
	PassLate bool          // what comes behind its turn goes on at once; else it is turned away
	Limit    int           // messages of one key that may wait
}

// Turn says what becomes of a message with a number.
type Turn int

// The turns.
const (
	Now   Turn = iota // it goes on, and the number after it is next
	Wait              // a number before it is missing
	Later             // its turn has passed
)

// DefaultWaiting is how many messages of one key may wait where a step says nothing.
const DefaultWaiting = 1000

// Turn tells what becomes of a number when next is the one whose turn it is.
func (o *Order) Turn(number, next int64) Turn {
	switch {
	case number == next:
		return Now
	case number > next:
		return Wait
	}
	return Later
}

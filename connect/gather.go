package connect

import "runtime"

// gatherTurns is how many turns a client library has to hand over the next message that is
// there: several do so one by one, through a channel that holds none.
const gatherTurns = 20

// Gather adds to the first of some messages those that are there behind it, at most so many
// in all, so that they share a commit. It does not wait for any.
func Gather[T any](first T, came <-chan T, most int) []T {
	list := []T{first}
	for turns := 0; len(list) < most && turns < gatherTurns; {
		select {
		case one, open := <-came:
			if !open {
				return list // who looks next is told
			}
			list, turns = append(list, one), 0
		default:
			turns++
			runtime.Gosched()
		}
	}
	return list
}

package main

import (
	"container/heap"
	"fmt"
	"math/rand/v2"
	"time"

	"readyferry/store"
)

// What a message costs, as measured by this command on two cores: the work of the one that leads over it,
// handing a call over at the member that was called and at the one that leads, and executing its records at
// a member that follows. Commit is how long a majority takes to keep a record, and at most group messages
// share one.
var costs = struct{ lead, hand, handed, follow, commit time.Duration }{
	lead: 190 * time.Microsecond, hand: 70 * time.Microsecond, handed: 40 * time.Microsecond, follow: 25 * time.Microsecond,
	commit: 3 * time.Millisecond,
}

const (
	cores     = 2  // of each member
	callersOf = 64 // of each member, each with one call at a time
	group     = 64 // messages that share a record
	simulated = 4 * time.Second
)

// event is something that happens in virtual time.
type event struct {
	at time.Duration
	do func()
}

type events []event

func (e events) Len() int           { return len(e) }
func (e events) Less(i, j int) bool { return e[i].at < e[j].at }
func (e events) Swap(i, j int)      { e[i], e[j] = e[j], e[i] }
func (e *events) Push(x any)        { *e = append(*e, x.(event)) }
func (e *events) Pop() any {
	last := (*e)[len(*e)-1]
	*e = (*e)[:len(*e)-1]
	return last
}

// world is a fleet in virtual time.
type world struct {
	now     time.Duration
	queue   events
	free    [][]time.Duration // when each core of each member is free
	used    []time.Duration   // of the processor, by member
	waiting [][]func()        // messages that wait for the next record, by partition
	writing []bool            // a record is on its way, by partition
	done    int
}

func (w *world) after(d time.Duration, do func()) { heap.Push(&w.queue, event{w.now + d, do}) }

// works has a member work for a while on the core that is free first.
func (w *world) works(member int, d time.Duration, then func()) {
	core := 0
	for i, at := range w.free[member] {
		if at < w.free[member][core] {
			core = i
		}
	}
	begin := max(w.now, w.free[member][core])
	w.free[member][core] = begin + d
	w.used[member] += d
	w.after(begin+d-w.now, then)
}

// commits has a message wait for its record; who comes while one is on its way shares the next.
func (w *world) commits(partition int, then func()) {
	w.waiting[partition] = append(w.waiting[partition], then)
	w.write(partition)
}

func (w *world) write(partition int) {
	if w.writing[partition] || len(w.waiting[partition]) == 0 {
		return
	}
	n := min(group, len(w.waiting[partition]))
	now := w.waiting[partition][:n:n]
	w.waiting[partition] = w.waiting[partition][n:]
	w.writing[partition] = true
	w.after(costs.commit, func() {
		w.writing[partition] = false
		for _, then := range now {
			then()
		}
		w.write(partition)
	})
}

// simulate plays a fleet of so many members and partitions, and gives how many messages a second it takes
// and how busy its busiest member is and all of them are, as shares of their cores.
func simulate(members, partitions int) (perSecond, busiest, all float64) {
	r := rand.New(rand.NewPCG(1, 2))
	w := &world{used: make([]time.Duration, members), waiting: make([][]func(), partitions), writing: make([]bool,
		partitions)}
	for range members {
		w.free = append(w.free, make([]time.Duration, cores))
	}
	var call func(at int)
	call = func(at int) {
		partition := r.IntN(partitions)
		leads := partition % members
		work := costs.lead
		lead := func() {
			w.works(leads, work, func() {
				w.commits(partition, func() {
					w.done++
					for i := 1; i < members; i++ { // every member has a copy of every partition
						w.works((leads+i)%members, costs.follow, func() {})
					}
					call(at)
				})
			})
		}
		if at == leads {
			lead()
			return
		}
		work += costs.handed
		w.works(at, costs.hand, lead)
	}
	for at := range members {
		for range callersOf {
			call(at)
		}
	}
	for len(w.queue) > 0 && w.now < simulated {
		next := heap.Pop(&w.queue).(event)
		w.now = next.at
		next.do()
	}
	var sum time.Duration
	for _, used := range w.used {
		busiest = max(busiest, used.Seconds()/(simulated.Seconds()*cores))
		sum += used
	}
	return float64(w.done) / simulated.Seconds(), busiest, sum.Seconds() / (simulated.Seconds() * cores * float64(members))
}

// printSimulated prints how fleets of several sizes go: with one partition, and with as many as members, as far as
// there may be.
func printSimulated() {
	fmt.Printf("%8s %12s %12s %10s %10s  %s\n", "members", "partitions", "accepted/s", "busiest", "all", "bound by")
	for _, members := range []int{1, 3, 6, 12, 24} {
		for _, partitions := range []int{1, min(members, store.MostPartitions)} {
			n, busiest, all := simulate(members, partitions)
			bound := "the way of a record to a majority"
			if busiest > 0.95 {
				bound = "the processor of the members"
				if partitions < members {
					bound = "the processor of the member that leads"
				}
			}
			fmt.Printf("%8d %12d %12.0f %9.0f%% %9.0f%%  %s\n", members, partitions, n, min(100, 100*busiest), min(100,
				100*all), bound)
			if members == 1 {
				break
			}
		}
	}
}

package journal

import (
	"sync"

	"readyferry/core/retry"
	"readyferry/core/step"
	"readyferry/core/want"
	"readyferry/store"
)

// The events of change, as the browser names its data.
const (
	EventFlows        = "flows"
	EventTransactions = "transactions"
	EventDeadLetters  = "dead-letters"
	EventQueues       = "queues"
	EventConnections  = "connections"
	EventStandIns     = "stand-ins"
	EventTables       = "tables"
	EventLoads        = "loads"
	EventAlarms       = "alarms"
)

// Notice is what a commit tells those who wait for it, once it is on disk.
type Notice struct {
	Targets  map[string]bool           // deliveries to them may be due
	Ready    map[string][]Ready        // and these are, by target
	Channels map[string]bool           // messages of queues and topics may be taken
	Events   map[string]bool           // what people look at has changed
	Put      map[string]int            // messages that were put, by channel
	Taken    map[string]int            // and taken
	Split    bool                      // parts may begin
	Gather   bool                      // a group may close, or a wait be over
	Lines    []LineKey                 // more messages may have their turn there
	Tables   map[string]bool           // rows have changed
	Held     []store.TimeLimit         // began to wait for a row, which may have come meanwhile
	Answers  map[store.ID]*step.Answer // for callers who wait
	Woken    map[store.ID]string       // transactions that are to be walked, with their flows
	Away     []Away                    // messages that a step has turned away

	wholes map[store.ID]map[string]bool // whose parts have moved in this commit; by split, where one has ended
}

// Ready is a delivery that was just stored and is due. Request is what it hands over, where
// that is small enough to be handed on in memory; else it stands in the store alone.
type Ready struct {
	ID      store.ID
	Flow    string
	Rules   retry.Plan
	Request *want.Request
}

// Away is a message that a step has turned away.
type Away struct{ Flow, Step string }

// handedOn is the largest body of a request that is, in bytes.
const handedOn = 16 << 10

// LineKey names the messages of one key that wait for their turn.
type LineKey struct{ Flow, Path, Key string }

// NewNotice makes one that tells nothing.
func NewNotice() *Notice {
	return &Notice{
		Targets: map[string]bool{}, Ready: map[string][]Ready{}, Channels: map[string]bool{}, Events: map[string]bool{}, Put: map[string]int{},
		Taken:  map[string]int{},
		Tables: map[string]bool{}, Answers: map[store.ID]*step.Answer{}, Woken: map[store.ID]string{},
		wholes: map[store.ID]map[string]bool{},
	}
}

// notices are used again: a message has several, and each has ten maps.
var notices = sync.Pool{New: func() any { return NewNotice() }}

// clear lets it tell nothing again.
func (n *Notice) clear() {
	clear(n.Targets)
	clear(n.Ready)
	clear(n.Channels)
	clear(n.Events)
	clear(n.Put)
	clear(n.Taken)
	clear(n.Tables)
	clear(n.Answers)
	clear(n.Woken)
	clear(n.wholes)
	n.Split, n.Gather, n.Lines, n.Held, n.Away = false, false, nil, nil, nil
}

// Tell hands a notice to everybody, who keep nothing of it.
func (j *Journal) Tell(n *Notice) {
	for id, flow := range n.Woken {
		j.woken.add(flow, id)
	}
	for _, heard := range j.listeners {
		heard(n)
	}
}

// Announce tells that something which people look at has changed.
func (j *Journal) Announce(events ...string) {
	n := NewNotice()
	for _, e := range events {
		n.Events[e] = true
	}
	j.Tell(n)
}

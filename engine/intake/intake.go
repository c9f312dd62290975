// Package intake is how messages come in: webhooks, the readers of queues and
// topics, clocks with their schedules and polls, and bulk loads.
//
// It promises that accepted means stored: a caller hears 2xx behind the commit,
// and where a source stands is kept in the same commit as the messages that it
// brought. A repeat, by the once value of its intake, is stored as one and ends
// there. What cannot be read is kept as a dead letter with its bytes, unless a
// caller who waits is told.
package intake

import (
	"sync"

	"readyferry/connect"
	"readyferry/connect/caller"
	"readyferry/core/step"
	"readyferry/engine/journal"
	"readyferry/engine/waker"
	"readyferry/store"
)

// Intakes take messages in. They are safe for concurrent use.
type Intakes struct {
	*journal.Journal
	links *connect.Links

	mu        sync.Mutex
	consumers map[string]*consumer
	receivers map[string]*receiver
	expected  map[store.ID][]chan *step.Answer // callers who wait for a transaction to be finished
	bulk      map[store.ID]bool                // bulk loads that are worked on
	clocks    *waker.Sleeper                   // the timekeeper
	loads     *waker.Sleeper                   // who begins loads
	troubles  map[string]trouble               // what was noted last of each source
	refused   refusals
	gate      *gate
	room      *room
	rates     *flowRates
	verifier  caller.Verifier
	homes     homes
	sources   sources
	homecomes *waker.Sleeper // who brings sources home
}

// New makes the intakes. links are what polls ask and receivers listen to.
func New(j *journal.Journal, links *connect.Links) *Intakes {
	k := &Intakes{
		Journal: j, links: links, consumers: map[string]*consumer{}, receivers: map[string]*receiver{},
		expected: map[store.ID][]chan *step.Answer{},
		bulk:     map[store.ID]bool{}, clocks: j.Waker.Sleeper(), loads: j.Waker.Sleeper(), homecomes: j.Waker.Sleeper(),
		gate: newGate(), room: newRoom(), rates: newFlowRates(), troubles: map[string]trouble{},
		refused: refusals{run: store.NewID(), counts: map[string]int64{}},
	}
	k.sources.leaving, k.sources.ended = map[string]bool{}, map[string]chan struct{}{}
	k.sources.keeper = &timekeeper{Intakes: k, running: map[string]bool{}, over: make(chan struct{})}
	j.Listen(k.heard)
	j.Catalog.OnChange(k.changed)
	return k
}

// tell gives what notes that some work has failed, unless the end is near.
func (k *Intakes) tell(what string) func(error) {
	return func(err error) {
		if !k.Life.Ending() {
			k.Log.Error(what, "error", err)
		}
	}
}

// Start sets readers, clocks and loads going.
func (k *Intakes) Start() error {
	if err := k.Store.SweepStaged(k.Life.Taking()); err != nil {
		return err
	}
	if err := k.startRoom(); err != nil {
		return err
	}
	if err := k.startSources(); err != nil {
		return err
	}
	ends := k.Life.Taking().Done()
	k.Life.Go(func() { k.clocks.Keep(ends, k.sources.keeper.look, k.tell("reading when flows are due")) })
	if !k.Partition.First() { // loads are read in the first one
		return nil
	}
	if k.Others != nil {
		k.Life.Go(func() { k.homecomes.Keep(ends, k.bringHome, k.tell("bringing sources home")) })
	}
	k.Life.Go(func() { k.loads.Keep(ends, k.beginDue, k.tell("reading when loads are due")) })
	loads, err := k.Store.OpenLoads()
	if err != nil {
		return err
	}
	for _, l := range loads {
		k.goOnLoading(l.ID)
	}
	return nil
}

func (k *Intakes) heard(n *journal.Notice) {
	for channel := range n.Channels {
		k.wakeReaders(channel)
	}
	for id, answer := range n.Answers {
		k.tellCallers(id, answer)
	}
}

// startSources sets readers, receivers and clocks going that are at home here.
func (k *Intakes) startSources() error {
	k.noneLeaving()
	if _, err := k.sourcesMove(); err != nil {
		return err // nothing begins that may come from elsewhere
	}
	k.homecomes.Wake()
	if k.Partition.First() { // queues and topics are there
		k.startConsumers()
	}
	k.startReceivers()
	return k.syncClocks()
}

// changed follows the flows that are live now.
func (k *Intakes) changed() {
	k.homes.forget()
	if !k.Partition.First() { // what is set there was taken over with what is designed
		if err := k.limitsChanged(); err != nil && !k.Life.Ending() {
			k.Log.Error("looking how much room there is", "error", err)
		}
	}
	if err := k.startSources(); err != nil && !k.Life.Ending() {
		k.Log.Error("setting when flows are due", "error", err)
	}
}

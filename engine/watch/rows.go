package watch

import (
	"context"

	"readyferry/core/flow"
	"readyferry/engine/catalog"
	"readyferry/store"
)

// What is looked at, as the file has it.
type (
	ID           = store.ID
	Flow         = store.Flow
	Transaction  = store.Transaction
	State        = store.State
	Filter       = store.Filter
	Count        = store.Count
	Delivery     = store.Delivery
	Letter       = store.Letter
	TopicMessage = store.TopicMessage
	QueueItem    = store.QueueItem
	LetterFilter = store.LetterFilter
	LetterState  = store.LetterState
	Connection   = store.Connection
	Table        = store.Table
	TableRow     = store.TableRow
	Load         = store.Load
	Of           = store.Of
	Topic        = store.Topic
)

// States that are told apart.
const (
	UnderWay   = store.UnderWay
	Waiting    = store.Waiting
	Delivered  = store.Delivered
	TurnedAway = store.TurnedAway
	DeadLetter = store.DeadLetter
	Behind     = store.Behind
	GroupOpen  = store.GroupOpen

	// UsualQueueLimit is the limit of a queue that nobody has set.
	UsualQueueLimit = store.UsualQueueLimit
)

// OfFlow means one flow, or all where name is "".
func OfFlow(name string) Of { return store.OfFlow(name) }

// ParseID reads the text form of an id.
func ParseID(s string) (ID, error) { return store.ParseID(s) }

// ParseLetterState reads the word for a state of a dead letter.
func ParseLetterState(s string) (LetterState, bool) { return store.ParseLetterState(s) }

// AllLetterStates lists all states of dead letters.
func AllLetterStates() []LetterState { return store.AllLetterStates() }

// ParseState reads the word for a state.
func ParseState(s string) (State, bool) { return store.ParseState(s) }

// SubscriptionKey names a subscription among those of all topics.
func SubscriptionKey(topic, subscription string) string {
	return catalog.Source{Kind: "topic", Name: topic, Subscription: subscription}.Key()
}

// Check tells whether the file can be read and written.
func (w *Watch) Check(ctx context.Context) error { return w.Store.Check(ctx) }

// IntakeOf gives the intake of a flow: the live version's, or the draft's when it
// was never published; nil when there is none that can be read.
func (w *Watch) IntakeOf(name string) *flow.Intake { return w.Catalog.Flow(name).Intake() }

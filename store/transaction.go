package store

import (
	"time"

	"readyferry/store/body"
)

// State of a transaction.
type State uint8

// The states of a transaction, as they are stored.
const (
	UnderWay State = iota
	Waiting
	Delivered
	TurnedAway
	DeadLetter
)

var stateNames = [...]string{"under way", "waiting", "delivered", "turned away", "dead letter"}

// String gives the word that people read.
func (s State) String() string { return stateNames[s] }

// ParseState reads the word.
func ParseState(s string) (State, bool) {
	for i, n := range stateNames {
		if n == s {
			return State(i), true
		}
	}
	return 0, false
}

// Transaction is the journey of one received message.
type Transaction struct {
	ID         ID    `gorm:"primaryKey"`
	Message    int64 // the number of what it received: there is no index of messages by transaction
	Flow       string
	Version    int
	State      State
	Reason     string
	Reference  string
	OrderValue string
	Place      string // path of the step where it is now
	PlaceText  string // the same in words
	Tries      int
	ReceivedAt time.Time  `gorm:"serializer:micros;type:integer"`
	FinishedAt *time.Time `gorm:"serializer:micros;type:integer"`
	NextTryAt  *time.Time `gorm:"serializer:micros;type:integer"`
	QueueItem  int64      // the queue's message that it works on, or 0
	FromTopic  bool       // it works on a message of a topic
	Unbegun    bool       // it ended before its first step
	// Parent is the transaction that it is a part of; nil for a message that
	// came in. SplitPath is the path of the split in it, PartIndex counts from 0.
	Parent    *ID
	SplitPath string
	PartIndex int
	// Parts is how many parts its own splits make. Own is then its state
	// without them, as JSON; State is that of the most troubled of all.
	Parts int
	Own   []byte
	// FromGroup tells that a group goes on in it; its id is that of the group.
	FromGroup bool
	// OfLetter is the dead letter whose steps run in it; nil for anything else.
	OfLetter *ID
	// Caller is the transaction whose subflow it is, CallerPath the step there; it
	// waits for the answer or not. Depth counts flows that called each other.
	Caller      *ID
	CallerPath  string
	CallerWaits bool
	Depth       int
	// Gathered counts the groups that it waits in and the turns that it waits
	// for; GatherPlace is the path of the last, GatherText says it in words.
	Gathered    int
	GatherPlace string
	GatherText  string
	// OwnWaits counts, of those, the waits that have nothing to do with other
	// messages: for a time, a row, a reply. Idle tells that whoever reads its queue
	// need not wait for it.
	OwnWaits int
	Idle     bool
	// Aside tells that it waits for other messages and for nothing else.
	Aside bool
	// Origin is the transaction that handed the message on, by a queue or a topic, or that it
	// is sent again from. Journey names all that came of one message: the trace that it came
	// with, else the first of them; nil where it is that itself.
	Origin  *ID
	Journey *ID
	// KeysOf is the transaction under whose keys its deliveries go out; nil: its own.
	KeysOf *ID
	// DuplicateOf is the transaction that had the same once value before.
	DuplicateOf *ID
	// Revision grows with whatever a walk over the transaction depends on; ToWalk
	// tells that something has come since it was walked last.
	Revision int64
	ToWalk   bool
	// Lent tells that it waits for another try of a delivery and has given its place
	// at the reader of its queue back.
	Lent bool
}

// Message is what a transaction received, or what a person repaired it to;
// the highest N counts.
type Message struct {
	Seq      int64 `gorm:"primaryKey;autoIncrement:false"`
	Tx       ID
	N        int    // 0: as it was received
	Headers  []byte // JSON
	Params   []byte // JSON
	Query    []byte // JSON
	Body     body.Body
	Source   string // where it came from
	Warnings []byte // JSON
	Answer   []byte // JSON of what the caller got
}

// Effect is the recorded answer to a want of a transaction.
type Effect struct {
	Tx     ID     `gorm:"primaryKey"`
	Path   string `gorm:"primaryKey"`
	Result []byte // JSON, but for the body of an answer
	Body   body.Body
	At     time.Time `gorm:"serializer:micros;type:integer"`
	// OfTry tells that it is what a delivered try was answered: the try says it all, and
	// there is no row of it besides.
	OfTry bool `gorm:"-"`
}

// TimeLimit is the end of the time for which a transaction waits at a step.
type TimeLimit struct {
	Tx   ID        `gorm:"primaryKey"`
	Path string    `gorm:"primaryKey"`
	At   time.Time `gorm:"serializer:micros;type:integer"`
	// Watched is the table that a message is held for; "" for other waits.
	Watched string
	// Waits tells that the transaction counts it among what it waits for.
	Waits bool
}

// Pace is when messages of one key went on, and when those that wait are to go.
type Pace struct {
	Flow  string    `gorm:"primaryKey"`
	Path  string    `gorm:"primaryKey"`
	Key   string    `gorm:"primaryKey"`
	Plan  []byte    // JSON: times in microseconds since 1970
	Went  []byte    // the same of those that have gone
	Until time.Time `gorm:"serializer:micros;type:integer"`
}

package store

import (
	"database/sql/driver"
	"fmt"
	"time"

	"readyferry/store/body"

	"github.com/google/uuid"
)

// ID is a UUID kept as 16 bytes. Version 7 sorts by time.
type ID [16]byte

// NewID gives a new id of version 7 (RFC 9562, 5.7).
func NewID() ID {
	return ID(uuid.Must(uuid.NewV7()))
}

// ParseID reads the usual text form.
func ParseID(s string) (ID, error) {
	u, err := uuid.Parse(s)
	if err != nil || len(s) != 36 {
		return ID{}, fmt.Errorf("%q is no id", s)
	}
	return ID(u), nil
}

// String gives the usual text form.
func (id ID) String() string { return uuid.UUID(id).String() }

// MarshalText implements encoding.TextMarshaler.
func (id ID) MarshalText() ([]byte, error) { return []byte(id.String()), nil }

// UnmarshalText implements encoding.TextUnmarshaler.
func (id *ID) UnmarshalText(text []byte) (err error) {
	*id, err = ParseID(string(text))
	return err
}

// Value implements driver.Valuer.
func (id ID) Value() (driver.Value, error) { return id[:], nil }

// Scan implements sql.Scanner.
func (id *ID) Scan(v any) error {
	b, ok := v.([]byte)
	if !ok || len(b) != 16 {
		return fmt.Errorf("an id has 16 bytes, not %T", v)
	}
	copy(id[:], b)
	return nil
}

// GormDataType implements schema.GormDataTypeInterface.
func (ID) GormDataType() string { return "blob" }

// Flow is a flow with its draft.
type Flow struct {
	Name     string `gorm:"primaryKey"`
	Title    string
	Draft    string // the document as it was written
	Revision int64  // grows with every change of the draft or its files
	Live     int    // version in use, 0 when never published
	Paused   bool
	// Trial is the version that takes one message in TrialOf since TrialAt, by the hash of its
	// order value; 0 for none. The rest goes through the live one.
	Trial   int
	TrialOf int
	TrialAt *time.Time `gorm:"serializer:micros;type:integer"`
	// Planned is the version that goes live at PlannedAt; 0 for none.
	Planned   int
	PlannedAt *time.Time `gorm:"serializer:micros;type:integer"`
	Edits     int        // changes of the draft since the live version
	KeepsAll  bool       // an earlier release made it: where it does not say how long, it keeps what has ended
	UpdatedAt time.Time  `gorm:"serializer:micros;type:integer;autoCreateTime:false;autoUpdateTime:false"`
}

// FlowFile is a file of a flow's draft: a schema, say.
type FlowFile struct {
	Flow string `gorm:"primaryKey"`
	Name string `gorm:"primaryKey"`
	Body []byte
}

// Version is a published document, never changed.
type Version struct {
	Flow        string `gorm:"primaryKey"`
	N           int    `gorm:"primaryKey;autoIncrement:false"`
	Document    string
	Files       []byte    // JSON: name → text
	Rules       int       // flow.Rules that it was published under
	PublishedAt time.Time `gorm:"serializer:micros;type:integer"`
	By          string    // who did it, as they said
	Note        string    // for those who come after
	Despite     string    // why it went live though samples were not as expected; "" where they were
}

// VersionEvent is a line of what became of the versions of a flow.
type VersionEvent struct {
	N       int64 `gorm:"primaryKey;autoIncrement"`
	Flow    string
	Version int
	At      time.Time `gorm:"serializer:micros;type:integer"`
	By      string    // who did it, as they said
	What    string    // live, planned, share, cancelled
	Note    string
}

// Sample is a message kept with a flow. Document is its JSON.
type Sample struct {
	Flow     string `gorm:"primaryKey"`
	Name     string `gorm:"primaryKey"`
	Position int
	Document []byte
}

// Connection is an outside system. Document holds no secret; Sealed does.
type Connection struct {
	Name      string `gorm:"primaryKey"`
	Kind      string
	Document  []byte // JSON
	Sealed    []byte // JSON: name → secret, sealed
	Named     []byte // JSON: host → kinds of address that it had when it was saved; "*" of one from before
	Revision  int64
	UpdatedAt time.Time `gorm:"serializer:micros;type:integer;autoCreateTime:false;autoUpdateTime:false"`
	By        string    // who saved it last; "" where it was not noted
}

// StandIn is the definition of a simulated outside system, as JSON.
type StandIn struct {
	Name     string `gorm:"primaryKey"`
	Document []byte
}

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

// DeliveryState says where a delivery stands.
type DeliveryState uint8

// The states of a delivery.
const (
	Pending   DeliveryState = iota // due at NextAt
	Behind                         // waits for an earlier one of the same order value
	Done                           // delivered
	Dead                           // given up; a dead letter tells
	Withdrawn                      // a person or another version made it needless
)

var deliveryStateNames = [...]string{"waiting", "waiting", "delivered", "dead letter", "withdrawn"}

// String gives the word that people read.
func (s DeliveryState) String() string { return deliveryStateNames[s] }

// Delivery is one guaranteed send of one message to one target.
type Delivery struct {
	Seq        int64 `gorm:"primaryKey;autoIncrement:false"`
	ID         ID    // begins with the six bytes that Tx begins with, by which it is found
	Tx         ID
	Flow       string
	Path       string
	Step       string
	Target     string
	OrderValue string
	State      DeliveryState
	Request    []byte // JSON, but for the body
	Body       body.Body
	Plan       []byte     // JSON of the retry plan
	Round      int        // grows with every resend
	Tries      int        // in this round
	Total      int        // in all rounds
	FirstAt    *time.Time `gorm:"serializer:micros;type:integer"`
	NextAt     *time.Time `gorm:"serializer:micros;type:integer"`
	NextWhy    string     // why the next try comes when it does
	CreatedAt  time.Time  `gorm:"serializer:micros;type:integer;autoCreateTime:false;autoUpdateTime:false"`
	Soft       bool       // it stands in a way of a scatter: given up, it is a missing answer and no dead letter
	Taken      []byte     // the try that delivered it, where it is no row of tries
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

// Try is one attempt of a delivery.
type Try struct {
	Delivery ID  `gorm:"primaryKey"`
	N        int `gorm:"primaryKey;autoIncrement:false"` // over all rounds
	Round    int
	At       time.Time `gorm:"serializer:micros;type:integer"`
	Took     int64     // microseconds
	Outcome  string
	Status   int
	Detail   string
	Headers  []byte    // JSON
	Body     body.Body // the answer's first 64 KiB
}

// Unknown is the outcome of a Try that the application did not see the end of, because it
// stopped. It counts as none of its plan.
const Unknown = "unknown"

// Counts tells whether a try is one of its plan.
func (t *Try) Counts() bool { return t.Outcome != Late && t.Outcome != Unknown }

// Late is the outcome of a Try that is none: an answer for which nobody waited any more,
// because it came late or a second time.
const Late = "late"

// LetterState says what became of a dead letter.
type LetterState uint8

// The states of a dead letter.
const (
	LetterOpen      LetterState = iota // a person must decide
	LetterResending                    // sent again, outcome not yet known
	LetterResolved                     // sent again with success
	LetterDiscarded                    // given up by a person
	LetterPassed                       // whoever waited for the message was told, and has the letter
)

var letterStateNames = [...]string{"open", "resending", "resolved", "discarded", "passed on"}

// String gives the word that people read.
func (s LetterState) String() string { return letterStateNames[s] }

// ParseLetterState reads the word.
func ParseLetterState(s string) (LetterState, bool) {
	for i, n := range letterStateNames {
		if n == s {
			return LetterState(i), true
		}
	}
	return 0, false
}

// AllLetterStates lists them.
func AllLetterStates() []LetterState {
	return []LetterState{LetterOpen, LetterResending, LetterResolved, LetterDiscarded, LetterPassed}
}

// Letter is a dead letter: a message that a person must decide about.
type Letter struct {
	ID        ID `gorm:"primaryKey"`
	Tx        ID
	Flow      string
	Version   int
	Step      string
	Path      string
	Kind      string
	Phase     string
	Class     string
	Reason    string
	Cause     string // key of letters with the same flow, step and kind of reason
	CauseText string
	Reference string
	State     LetterState
	At        time.Time `gorm:"serializer:micros;type:integer"`
	Assignee  string    // who looks after it, as they are called; "" for nobody
}

// LetterEvent is a line of a dead letter's history.
type LetterEvent struct {
	N      int64 `gorm:"primaryKey;autoIncrement"`
	Letter ID
	At     time.Time `gorm:"serializer:micros;type:integer"`
	Who    string    // a person, the flow or the application; "" where it was not noted
	What   string    // died, resent, resolved, discarded, restored, noted, assigned
	Detail string
}

// QueueItem is a message in a queue inside the application.
type QueueItem struct {
	N         int64 `gorm:"primaryKey;autoIncrement"`
	Queue     string
	From      ID // the transaction that put it there
	Path      string
	Headers   []byte // JSON
	Body      []byte
	Reference string
	PutAt     time.Time `gorm:"serializer:micros;type:integer"`
	TakenBy   *ID       // the transaction that works on it
	Priority  int       // 0 to 9; the higher are taken first
	// ExpiresAt is when a message that nobody works on becomes a dead letter.
	ExpiresAt *time.Time `gorm:"serializer:micros;type:integer"`
	Journey   *ID        // that it belongs to, where that is not From's own
}

// QueueSize counts the messages of a queue; triggers keep it, so that a full
// queue is measured as fast as an empty one.
type QueueSize struct {
	Queue string `gorm:"primaryKey"`
	Free  int64  // nobody works on them
	Taken int64
}

// QueueSettings are what a person has set for a queue.
type QueueSettings struct {
	Queue string `gorm:"primaryKey"`
	Limit int64  // messages that nobody works on; more are refused
}

// UsualQueueLimit is the limit of a queue that nobody has set.
const UsualQueueLimit = 1_000_000

// PausedQueue is a queue that hands out nothing for now.
type PausedQueue struct {
	Queue string    `gorm:"primaryKey"`
	Since time.Time `gorm:"serializer:micros;type:integer"`
}

// OnceKey remembers a message that must not be worked on twice.
type OnceKey struct {
	Flow  string `gorm:"primaryKey"`
	Key   []byte `gorm:"primaryKey"`
	Tx    ID
	Until time.Time `gorm:"serializer:micros;type:integer"`
}

package step

import (
	"encoding/json"
	"fmt"
	"strings"
	"time"
	"unicode/utf8"

	"readyferry/core/format"
	"readyferry/core/message"
)

// Want is something that a step needs of the world.
type Want struct {
	Path    string   // of the step in this transaction; the key of the effect
	Step    string   // its id
	Kind    string   // WantHTTP, WantQueue, WantTopic or WantParts
	Target  string   // name of the connection, queue or topic
	Request *Request // what is to be handed over
	Retry   *Retry   // the step's own plan, or nil
	// Of a message for a queue:
	Priority int           // 0 to 9, the higher are taken first
	Expires  time.Duration // after it nobody may begin to work on it; 0 for never
	// Of a split:
	Parts *Parts
	// Of an aggregate:
	Join *Join
	// Of a resequence:
	Turn *Turn
	// Of a scatter: how long answers are waited for.
	Within time.Duration
	// Of steps that read or write a table:
	Lookup *Lookup `json:"-"`
	Pair   *Pair
	Once   *Once
	// Of an ask by a queue, and of a subflow:
	Question *Question
	Subflow  *Subflow
	Hold     *Hold `json:"-"`
	Paced    *Paced
	// Soft tells that it stands in a way of a scatter: when it fails, an answer
	// is missing, and nothing is a dead letter.
	Soft bool
	// Order is the value by which deliveries keep their order, where a step has
	// said one; else it is that of the message.
	Order string
	// Unordered tells that the order of the message does not matter to it.
	Unordered bool
}

// Outside tells whether the engine hands it to an outside system, with tries.
func (w *Want) Outside() bool { return w.Kind == WantHTTP || w.Kind == WantSQL }

// The kinds of want.
const (
	WantHTTP   = "http"   // a delivery over HTTP, guaranteed by the engine
	WantQueue  = "queue"  // a message for a queue inside the application
	WantTopic  = "topic"  // a message for the log of a topic
	WantParts  = "parts"  // parts of a message, each with a journey of its own
	WantJoin   = "join"   // to become a member of a group
	WantTurn   = "turn"   // to go on when its number is next
	WantLimit  = "limit"  // to hear when a time is over
	WantLookup = "lookup" // rows of tables
	WantSQL    = "sql"    // a query of a database, made by the engine
	WantReply  = "reply"  // a question for a queue, and its reply
	WantFlow   = "flow"   // another flow takes the message
	WantPair   = "pair"   // to write a row of a cross-reference table
	WantOnce   = "once"   // to know whether a key came before
	WantHold   = "hold"   // to go on at a time, or when a row fits
	WantPace   = "pace"   // to go on when there is room
)

// Request is what a delivery hands over.
type Request struct {
	Method  string           `json:"method,omitempty"`
	Path    string           `json:"path,omitempty"` // below the connection's address
	Headers []message.Header `json:"headers"`
	Format  string           `json:"format"`
	Body    []byte           `json:"body"`
	Query   *Query           `json:"query,omitempty"` // for a database
}

// Effect is what a want came to. The journal keeps it.
type Effect struct {
	Status  int              `json:"status,omitempty"` // HTTP status of the answer
	Headers []message.Header `json:"headers,omitempty"`
	Body    []byte           `json:"body,omitempty"`
	Item    string           `json:"item,omitempty"`    // number of the message in its queue or topic
	Unheard bool             `json:"unheard,omitempty"` // the topic had no subscription
	Group   string           `json:"group,omitempty"`   // id of the group that it joined
	Said    string           `json:"said,omitempty"`    // what joining came to, in words
	Refused string           `json:"refused,omitempty"` // why it is turned away here
	Failed  string           `json:"failed,omitempty"`  // why a delivery in a way of a scatter was given up
	Over    bool             `json:"over,omitempty"`    // the time of a scatter is over
	Order   string           `json:"order,omitempty"`   // deliveries behind it keep their order by this
	Value   json.RawMessage  `json:"value,omitempty"`   // what a script came to
	Looked  []Looked         `json:"looked,omitempty"`  // rows of tables, hop by hop
}

// OnlyRead tells of an effect that has changed nothing anywhere: rows that were
// looked up, or what a script came to. Such a one is brought about anew when the
// message or the version under it changes.
func (e *Effect) OnlyRead() bool { return e.Value != nil || len(e.Looked) > 0 && e.Said == "" }

// unreadable says why the body of an answer is not of the format that its
// Content-Type states, or nil.
func (e *Effect) unreadable() error {
	kind := message.HeaderMap(e.Headers).Get("content-type")
	if kind == nil || len(e.Body) == 0 {
		return nil
	}
	name := FormatOf("auto", kind, e.Body)
	_, err := format.Decode(name, e.Body, message.Layout{Charset: Charset(kind)}, format.Limits{})
	if err != nil {
		return fmt.Errorf("the answer is not %s, as its Content-Type says: %w", strings.ToUpper(name), err)
	}
	return nil
}

// reply gives an effect as what later steps see under replies.
func (e *Effect) reply() *message.Node {
	headers := message.HeaderMap(e.Headers)
	body := message.NewNull()
	if len(e.Body) > 0 {
		kind := headers.Get("content-type")
		d, err := format.Decode(FormatOf("auto", kind, e.Body), e.Body, message.Layout{Charset: Charset(kind)}, format.Limits{})
		switch {
		case err == nil:
			body = d.Root
		case utf8.Valid(e.Body):
			body = message.NewString(string(e.Body))
		default:
			body = message.NewBytes(e.Body)
		}
	}
	return message.NewMap(
		message.Member{Name: "status", Value: jsonInt(e.Status)},
		message.Member{Name: "headers", Value: headers},
		message.Member{Name: "body", Value: body},
	)
}

package want

import (
	"encoding/json"

	"readyferry/core/message"
)

// Effect is what a want came to. The journal keeps it, and every later walk
// over the same transaction finds it there.
type Effect struct {
	Status  int              `json:"status,omitempty"` // HTTP status of the answer
	Headers []message.Header `json:"headers,omitempty"`
	Body    []byte           `json:"-"`                 // kept apart
	Item    string           `json:"item,omitempty"`    // number of the message in its queue or topic
	Unheard bool             `json:"unheard,omitempty"` // the topic had no subscription
	Group   string           `json:"group,omitempty"`   // id of the group that it joined
	Said    string           `json:"said,omitempty"`    // what joining came to, in words
	Refused string           `json:"refused,omitempty"` // why it is turned away here
	Failed  string           `json:"failed,omitempty"`  // why it failed, where the step goes on otherwise
	Over    bool             `json:"over,omitempty"`    // the time is over
	Order   string           `json:"order,omitempty"`   // deliveries behind it keep their order by this
	Value   json.RawMessage  `json:"value,omitempty"`   // what a script came to
	Looked  []Looked         `json:"looked,omitempty"`  // rows of tables, hop by hop
}

// OnlyRead tells of an effect that has changed nothing anywhere: rows that were
// looked up, or what a script came to. Such a one is brought about anew when the
// message or the version under it changes.
func (e *Effect) OnlyRead() bool { return e.Value != nil || len(e.Looked) > 0 && e.Said == "" }

// Same tells whether two effects mean the same to every step behind them: they
// may differ in numbers that only people are shown, such as the place in a queue.
func (e *Effect) Same(o *Effect) bool {
	if e == nil || o == nil {
		return e == o
	}
	return e.Status == o.Status && e.Unheard == o.Unheard && e.Refused == o.Refused && e.Failed == o.Failed &&
		e.Over == o.Over &&
		e.Order == o.Order && len(e.Looked) == len(o.Looked) &&
		e.sameRows(o)
}

func (e *Effect) sameRows(o *Effect) bool {
	for i := range e.Looked {
		a, b := &e.Looked[i], &o.Looked[i]
		if a.Default != b.Default || a.Asked != b.Asked || a.Problem != b.Problem || string(a.Row) != string(b.Row) {
			return false
		}
	}
	return true
}

// Looked is a row that was looked up.
type Looked struct {
	Table   string          `json:"table"`
	Version int64           `json:"version,omitempty"` // of the table, then
	Key     string          `json:"key"`               // in words
	Row     json.RawMessage `json:"row,omitempty"`     // nothing: there was none
	Default bool            `json:"default,omitempty"` // it stands in for one that is not there
	// Of a lookup() in an expression: the key that was asked for, as JSON, and why the
	// table could not be asked with it.
	Asked   string `json:"asked,omitempty"`
	Problem string `json:"problem,omitempty"`
}

// Query is a statement for a database.
type Query struct {
	SQL    string           `json:"sql"` // with :name for each parameter
	Params []QueryParameter `json:"params,omitempty"`
	Most   int              `json:"most"` // rows
}

// QueryParameter is a value that is bound to a name of a statement.
type QueryParameter struct {
	Name  string          `json:"name"`
	Value json.RawMessage `json:"value"` // text, number, true, false or null
}

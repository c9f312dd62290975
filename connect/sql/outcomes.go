package sql

import (
	"maps"
	"slices"

	"readyferry/connect"
)

// outcomes are what the help shows.
func outcomes() []connect.Meaning {
	comes := map[verdict]string{refused: "never", again: "again", badData: "never (data)"}
	words := map[string]string{
		"08": "connection", "22": "the values do not fit their types",
		"23": "the values break a rule: unique, foreign key, not null",
		"40": "rolled back for others: deadlock, serialization", "44": "the values are outside of the view",
		"53": "not enough room",
		"57": "an operator intervened", "58": "a fault of the system below", "XX": "a fault of the database",
		"55P03": "a lock is held", "55006": "it is in use", "25006": "the transaction only reads",
		"57P05": "the session was idle too long",
	}
	out := []connect.Meaning{{Code: "", Words: "the statement was carried out", Comes: "delivered"}}
	for _, code := range slices.Sorted(maps.Keys(classes)) {
		out = append(out, connect.Meaning{Code: "class " + code, Words: words[code], Comes: comes[classes[code]]})
	}
	for _, code := range slices.Sorted(maps.Keys(states)) {
		out = append(out, connect.Meaning{Code: code, Words: words[code], Comes: comes[states[code]]})
	}
	return append(out,
		connect.Meaning{Code: "other", Words: "the statement stays refused", Comes: "never"},
		connect.InDoubt("no answer comes in time, the connection breaks off"))
}

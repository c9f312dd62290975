package mqtt

import (
	"fmt"
	"maps"
	"slices"

	"readyferry/connect"
	"readyferry/core/retry"
)

// said are the reason codes of MQTT 5.0 (2.4, 3.4.2.1, 3.2.2.2) in words, and what a try
// that ends with one comes to. A code of 0x80 and more that is not here is never.
var said = map[byte]struct {
	words   string
	outcome retry.Outcome
}{
	0x00: {"the broker has it", retry.Delivered},
	0x10: {"the broker has it, and nobody subscribes to the topic", retry.Delivered},
	0x80: {"the broker does not say why it refuses it", retry.Again},
	0x81: {"the broker cannot read the packet", retry.Never},
	0x82: {"the broker calls it an error of the protocol", retry.Never},
	0x83: {"the broker does not take it", retry.Never},
	0x84: {"the broker does not speak MQTT 5", retry.Never},
	0x85: {"the broker does not take the client id", retry.Never},
	0x86: {"the broker does not know the user or password", retry.Never},
	0x87: {"the broker does not permit it", retry.Never},
	0x88: {"the broker is not there at present", retry.Again},
	0x89: {"the broker is busy", retry.Again},
	0x8A: {"the broker has banned this client", retry.Never},
	0x8B: {"the broker shuts down", retry.Again},
	0x8D: {"the broker heard nothing for too long", retry.Again},
	0x8E: {"another client has the same id", retry.Again},
	0x8F: {"the broker does not take the filter", retry.Never},
	0x90: {"the broker does not take the topic", retry.Never},
	0x91: {"the broker still has a message with this number", retry.Again},
	0x93: {"more are under way than the broker takes at once", retry.Again},
	0x95: {"the message is larger than the broker takes", retry.Never},
	0x96: {"more messages than the broker takes in this time", retry.Again},
	0x97: {"the quota of the broker is used up", retry.Again},
	0x99: {"the body is not of the form that it is said to be of", retry.Never},
	0x9A: {"the broker keeps no messages", retry.Never},
	0x9B: {"the broker does not have this quality of service", retry.Never},
	0x9C: {"another server is to be used for now", retry.Again},
	0x9D: {"the server has moved", retry.Never},
	0x9F: {"more connections than the broker takes in this time", retry.Again},
}

// words says what a reason code means.
func words(code byte) string {
	if s, known := said[code]; known {
		return fmt.Sprintf("%s (reason 0x%02X)", s.words, code)
	}
	return fmt.Sprintf("the broker gives the reason 0x%02X", code)
}

// outcome maps a reason code.
func outcome(code byte) retry.Outcome {
	s, known := said[code]
	switch {
	case known:
		return s.outcome
	case code < 0x80:
		return retry.Delivered
	}
	return retry.Never
}

// outcomes are what the help shows.
func outcomes() []connect.Meaning {
	var out []connect.Meaning
	for _, code := range slices.Sorted(maps.Keys(said)) {
		out = append(out, connect.Meaning{Code: fmt.Sprintf("0x%02X", code), Words: said[code].words, Comes: string(said[code].outcome)})
	}
	return append(out, connect.Meaning{Code: "other", Words: "any other reason of 0x80 and more", Comes: string(retry.Never)},
		connect.InDoubt("the broker does not acknowledge in time, the connection breaks off"))
}

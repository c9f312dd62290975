package flow

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"

	"readyferry/core/message"
)

// Keep says how long what is delivered or turned away stays in the journal, counted from
// its end. Nothing else ever goes: what is under way, what waits, and dead letters stay.
type Keep struct {
	// For is how long; 0: the document does not say, Forever: for as long as there is room.
	For time.Duration
	// Bytes bounds the messages of the flow, as they came in; 0: nothing does. The oldest of
	// those that may go go first, however young they are.
	Bytes int64
}

// Forever is a Keep.For that never comes to its end.
const Forever = time.Duration(math.MaxInt64)

// DefaultKeep is how long flows keep their messages that say nothing.
const DefaultKeep = 30 * day

const day = 24 * time.Hour

// Within gives how long to keep where the document may say nothing; all tells that then
// everything is kept, as it is in flows that an earlier release made.
func (k Keep) Within(all bool) time.Duration {
	switch {
	case k.For > 0:
		return k.For
	case all:
		return Forever
	}
	return DefaultKeep
}

// Bounds say how much a flow takes in; zero values bound nothing.
type Bounds struct {
	PerSecond int   // messages
	Bytes     int64 // of messages, a second
}

// DefaultWeight is the weight of a flow that says nothing. Of two flows that want the same
// thing at the same time, one of twice the weight gets twice as much of it.
const DefaultWeight = 1

// ReadKeep reads the section of a document that says it; nil says nothing.
func ReadKeep(n *message.Node) (Keep, error) {
	var k Keep
	switch days := n.Get("days"); {
	case days == nil:
	case days.Kind == message.String:
		k.For = Forever
	default:
		k.For = time.Duration(number(n, "days", 0)) * day
	}
	var err error
	k.Bytes, err = readSize(n, "bytes")
	return k, err
}

// Tree gives the section again.
func (k Keep) Tree() *message.Node {
	n := message.NewMap()
	switch {
	case k.For == Forever:
		n = n.With("days", message.NewString("forever"))
	case k.For > 0:
		n = n.With("days", message.NewNumber(strconv.FormatInt(int64(k.For/day), 10)))
	}
	if k.Bytes > 0 {
		n = n.With("bytes", message.NewNumber(strconv.FormatInt(k.Bytes, 10)))
	}
	return n
}

func readSize(n *message.Node, name string) (int64, error) {
	v := n.Get(name)
	if v == nil {
		return 0, nil
	}
	return Size(v.Text)
}

// units of a size, the longer ones first.
var sizes = []struct {
	unit string
	of   float64
}{
	{"KiB", 1 << 10}, {"MiB", 1 << 20}, {"GiB", 1 << 30}, {"TiB", 1 << 40},
	{"kB", 1e3}, {"MB", 1e6}, {"GB", 1e9}, {"TB", 1e12}, {"B", 1}, {"", 1},
}

// Size reads a number of bytes such as 512KiB, 10GiB, 5MB or 1048576 (IEC 80000-13 and SI
// prefixes). It must be at least 1.
func Size(s string) (int64, error) {
	for _, u := range sizes {
		digits, is := strings.CutSuffix(s, u.unit)
		if !is {
			continue
		}
		n, err := strconv.ParseFloat(strings.TrimSpace(digits), 64)
		if n *= u.of; err != nil || !(n >= 1 && n < math.MaxInt64) {
			break
		}
		return int64(n), nil
	}
	return 0, fmt.Errorf("%q is no size; write it as 512KiB, 10GiB or 1048576", s)
}

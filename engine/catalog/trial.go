package catalog

import (
	"hash/fnv"

	"readyferry/core/plan"
)

// Trial is a version that takes a share of a flow's messages before it is live.
type Trial struct {
	Version int
	Plan    *plan.Plan
	Of      int // it takes one message in so many
}

// Takes tells whether a message is of the share. It goes by its order value, so that all
// messages of one value go through the same version; one without a value goes by its id.
func (t *Trial) Takes(order, id string) bool {
	if t == nil {
		return false
	}
	if order == "" {
		order = id
	}
	return Spread(order)%uint64(t.Of) == 0
}

// Spread gives a number of a value, by which values are shared out: the same one always, and evenly.
func Spread(value string) uint64 {
	h := fnv.New64a()
	_, _ = h.Write([]byte(value))
	// The lowest bits of this hash differ too little for values that differ in their last digit.
	sum := h.Sum64()
	sum ^= sum >> 33
	sum *= 0xff51afd7ed558ccd
	return sum ^ sum>>33
}

// Other tells whether a share is another than it was.
func (t *Trial) Other(o *Trial) bool {
	if t == nil || o == nil {
		return t != o
	}
	return *t != *o
}

package watch

import (
	"fmt"
	"testing"
)

// Whoever reads slowly hears of everything that has changed, however much that was.
func TestASlowListenerMissesNothing(t *testing.T) {
	h := newHub()
	changes, cancel := h.Listen()
	defer cancel()
	for i := range 50 {
		h.Publish(fmt.Sprint("topic ", i))
		h.Publish("often")
		h.flush()
	}
	heard := map[string]int{}
	for more := true; more; {
		select {
		case word := <-changes:
			for _, topic := range word {
				heard[topic]++
			}
		default:
			more = false
		}
	}
	if len(heard) != 51 || heard["often"] != 1 {
		t.Errorf("%d topics of 51 were heard of, one of them %d times", len(heard), heard["often"])
	}
}

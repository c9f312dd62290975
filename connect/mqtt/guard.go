package mqtt

import (
	"errors"
	"sync"
)

// largest is the largest packet that is read, in bytes; brokers are told so (3.1.2.11.4).
const largest = 16 << 20

var errTooLarge = errors.New("the broker sends a packet of more than 16 MiB")

// guarded reads no packet that is larger than what the broker was told: a broker may be
// anything that listens there. It looks at the fixed header of each (2.1) and lets the
// rest pass.
type guarded struct {
	mu     sync.Mutex
	left   int  // bytes of the packet that are yet to come
	inside bool // the length is known
	length int  // what is known of it
	shift  int
	first  bool // the first byte of the header is read
}

// look follows the packets in what was read.
func (g *guarded) look(b []byte) error {
	g.mu.Lock()
	defer g.mu.Unlock()
	for len(b) > 0 {
		switch {
		case g.inside:
			skip := min(g.left, len(b))
			b, g.left = b[skip:], g.left-skip
			g.inside = g.left > 0
		case !g.first:
			b, g.first, g.length, g.shift = b[1:], true, 0, 0
		default: // a number of 7 bits a byte, at most four (1.5.5)
			g.length |= int(b[0]&0x7F) << g.shift
			more := b[0]&0x80 != 0
			if g.shift += 7; more && g.shift > 21 {
				return errors.New("the broker sends a packet whose length cannot be read")
			}
			b = b[1:]
			if g.length > largest {
				return errTooLarge
			}
			if !more {
				g.first, g.left, g.inside = false, g.length, g.length > 0
			}
		}
	}
	return nil
}

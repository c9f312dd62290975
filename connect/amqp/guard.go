package amqp

import (
	"encoding/binary"
	"errors"
)

// What a broker may send: frames are bounded by the client's library, bodies by us.
const (
	frameMax = 128 << 10
	largest  = 64 << 20 // bytes of a body
)

var errTooLarge = errors.New("the broker sends a message of more than 64 MiB")

// guarded ends a connection on which a larger body is announced: a broker may be anything
// that listens there. It follows the frames (4.2.3) and looks into those that hold the
// header of a body (4.2.6.1).
type guarded struct {
	head []byte // of the frame that is read: 7 bytes, and of a header's payload 12 more
	left uint64 // bytes of the frame behind them
}

const (
	headFrame  = 7
	headWhole  = headFrame + 12
	kindHeader = 2
)

func (g *guarded) look(b []byte) error {
	for len(b) > 0 {
		if g.left > 0 {
			skip := min(g.left, uint64(len(b)))
			b, g.left = b[skip:], g.left-skip
			continue
		}
		need := headFrame
		if len(g.head) >= headFrame && g.head[0] == kindHeader {
			need = headWhole
		}
		take := min(need-len(g.head), len(b))
		g.head, b = append(g.head, b[:take]...), b[take:]
		if len(g.head) == headFrame && g.head[0] == kindHeader && binary.BigEndian.Uint32(g.head[3:]) >= headWhole-headFrame {
			continue // the size of the body is in it
		}
		if len(g.head) < need {
			continue
		}
		if len(g.head) == headWhole && binary.BigEndian.Uint64(g.head[headFrame+4:]) > largest {
			return errTooLarge
		}
		g.left = uint64(binary.BigEndian.Uint32(g.head[3:])) + 1 - uint64(len(g.head)-headFrame)
		g.head = g.head[:0]
	}
	return nil
}

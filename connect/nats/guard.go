package nats

import (
	"bytes"
	"errors"
	"strconv"
)

// What a broker may send where no certificate says who it is: lines, and messages behind
// them (the protocol of NATS: MSG and HMSG end with the size).
const (
	mostLine = 1 << 20
	largest  = 64 << 20
)

var (
	errLongLine = errors.New("the broker sends a line of more than 1 MiB")
	errTooLarge = errors.New("the broker sends a message of more than 64 MiB")
)

// guarded ends a connection on which more is announced.
type guarded struct {
	line []byte // what has come of it
	left int    // bytes of a message that are yet to come, with the line end behind it
}

func (g *guarded) look(b []byte) error {
	for len(b) > 0 {
		if g.left > 0 {
			skip := min(g.left, len(b))
			b, g.left = b[skip:], g.left-skip
			continue
		}
		end := bytes.IndexByte(b, '\n')
		if end < 0 {
			if g.line = append(g.line, b...); len(g.line) > mostLine {
				return errLongLine
			}
			return nil
		}
		if g.line = append(g.line, b[:end]...); len(g.line) > mostLine {
			return errLongLine
		}
		b = b[end+1:]
		size, err := sizeOf(g.line)
		if err != nil {
			return err
		}
		g.left, g.line = size, g.line[:0]
	}
	return nil
}

// sizeOf gives how many bytes follow a line.
func sizeOf(line []byte) (int, error) {
	words := bytes.Fields(line)
	if len(words) < 4 {
		return 0, nil
	}
	switch string(bytes.ToUpper(words[0])) {
	case "MSG", "HMSG":
	default:
		return 0, nil
	}
	n, err := strconv.ParseInt(string(words[len(words)-1]), 10, 64)
	if err != nil || n < 0 || n > largest {
		return 0, errTooLarge
	}
	return int(n) + 2, nil
}

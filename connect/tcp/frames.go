package tcp

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
)

// The framings.
const (
	MLLP   = "mllp"
	Line   = "line"
	Length = "length"
)

// largest is the largest message, in bytes.
const largest = 16 << 20

// mostBetween is how much may come between two frames that belongs to none.
const mostBetween = 4 << 10

// The bytes around a message (HL7 Minimal Lower Layer Protocol, release 1).
const (
	startBlock = 0x0B
	endBlock   = 0x1C
	carriage   = 0x0D
)

var (
	errNoFrame  = errors.New("what comes is no frame")
	errTooLarge = fmt.Errorf("a message has more than %d bytes", largest)
)

// readFrame reads one message. io.EOF comes where none has begun, io.ErrUnexpectedEOF
// where one does not end.
func readFrame(r *bufio.Reader, framing string) ([]byte, error) {
	switch framing {
	case Line:
		return readLine(r)
	case Length:
		return readLength(r)
	}
	return readBlock(r)
}

// readBlock reads a block of MLLP. What comes between two blocks is left out, as the
// protocol says; a block whose end is not followed by CR ends all the same.
func readBlock(r *bufio.Reader) ([]byte, error) {
	for n := 0; ; n++ {
		b, err := r.ReadByte()
		if err != nil {
			return nil, err
		}
		if b == startBlock {
			break
		}
		if n == mostBetween {
			return nil, errNoFrame
		}
	}
	out, err := until(r, endBlock)
	if err != nil {
		return nil, err
	}
	if r.Buffered() > 0 { // else it may come later, and is left out then
		if next, _ := r.Peek(1); next[0] == carriage {
			_, _ = r.Discard(1)
		}
	}
	return out, nil
}

// readLine reads a line; LF ends it, and a CR before that belongs to the end.
func readLine(r *bufio.Reader) ([]byte, error) {
	out, err := until(r, '\n')
	if errors.Is(err, io.ErrUnexpectedEOF) && len(out) == 0 {
		return nil, io.EOF
	}
	if n := len(out); err == nil && n > 0 && out[n-1] == '\r' {
		out = out[:n-1]
	}
	return out, err
}

// until reads up to a byte, and leaves that out.
func until(r *bufio.Reader, end byte) ([]byte, error) {
	var out []byte
	for {
		some, err := r.ReadSlice(end)
		if len(out)+len(some) > largest+1 {
			return nil, errTooLarge
		}
		out = append(out, some...)
		switch {
		case err == nil:
			return out[:len(out)-1], nil
		case errors.Is(err, bufio.ErrBufferFull):
		case errors.Is(err, io.EOF):
			return out, io.ErrUnexpectedEOF
		default:
			return out, err
		}
	}
}

// readLength reads a message behind its length: four bytes, the highest first.
func readLength(r *bufio.Reader) ([]byte, error) {
	var head [4]byte
	if _, err := io.ReadFull(r, head[:]); err != nil {
		return nil, err
	}
	n := binary.BigEndian.Uint32(head[:])
	if n > largest {
		return nil, errTooLarge
	}
	out, err := io.ReadAll(io.LimitReader(r, int64(n))) // grows with what comes, not with what is promised
	if err == nil && len(out) < int(n) {
		err = io.ErrUnexpectedEOF
	}
	return out, err
}

// frame puts a message into a frame. A message that holds the end of one cannot be sent.
func frame(framing string, body []byte) ([]byte, error) {
	if len(body) > largest {
		return nil, errTooLarge
	}
	switch framing {
	case Line:
		for _, b := range body {
			if b == '\n' || b == '\r' {
				return nil, errors.New("the message has more than one line")
			}
		}
		return append(append(make([]byte, 0, len(body)+1), body...), '\n'), nil
	case Length:
		return append(binary.BigEndian.AppendUint32(make([]byte, 0, len(body)+4), uint32(len(body))), body...), nil
	}
	out := append(make([]byte, 0, len(body)+3), startBlock)
	for _, b := range body {
		if b == startBlock || b == endBlock {
			return nil, errors.New("the message holds a byte that frames of MLLP end with")
		}
		out = append(out, b)
	}
	return append(out, endBlock, carriage), nil
}

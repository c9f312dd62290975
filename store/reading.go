package store

import (
	"encoding/binary"
	"errors"
)

// reading reads numbers and bytes one behind the other: numbers as unsigned varints, bytes behind a number that says
// how many they are. From a fault on it gives nothing more.
type reading struct {
	rest []byte
	err  error
}

var errCut = errors.New("what is kept ends in the middle")

// fails notes a fault.
func (r *reading) fails(err error) { r.rest, r.err = nil, err }

func (r *reading) byte() (b byte) {
	if len(r.rest) == 0 {
		r.fails(errCut)
		return 0
	}
	b, r.rest = r.rest[0], r.rest[1:]
	return b
}

func (r *reading) number() uint64 {
	n, size := binary.Uvarint(r.rest)
	if size <= 0 {
		r.fails(errCut)
		return 0
	}
	r.rest = r.rest[size:]
	return n
}

// signed reads a number as binary.AppendVarint folds its sign in.
func (r *reading) signed() int64 {
	n := r.number()
	return int64(n>>1) ^ -int64(n&1)
}

// bytes gives what nobody may change; nil for none.
func (r *reading) bytes() []byte {
	n := r.number()
	if n > uint64(len(r.rest)) {
		r.fails(errCut)
		return nil
	}
	if n == 0 {
		return nil
	}
	b := r.rest[:n:n]
	r.rest = r.rest[n:]
	return b
}

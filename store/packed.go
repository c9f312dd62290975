package store

import (
	"encoding/binary"
	"errors"
	"fmt"
	"time"
)

// What happens is told from one machine to another some thousand times a second. It is packed for that: one after
// another, numbers as varints, and each text that comes again as the number of its first time.

// packedForm stands before it. A reader of another form refuses what it does not know.
const packedForm = 1

// The bits of what a packed one has.
const (
	hasParent = 1 << iota
	hasJourney
	isSought
	isAgain
	isPart
	hasDelivery
)

// PackHappened packs what happened. Times keep their nanoseconds and lose their place on earth: they are in UTC then.
func PackHappened(all []Happened) []byte {
	p := packing{out: []byte{packedForm}, texts: map[string]uint64{}}
	for i := range all {
		p.one(&all[i])
	}
	return p.out
}

type packing struct {
	out   []byte
	texts map[string]uint64
}

func (p *packing) one(h *Happened) {
	has := func(is bool, bit uint64) uint64 {
		if is {
			return bit
		}
		return 0
	}
	p.number(uint64(h.What))
	p.number(has(h.Parent != nil, hasParent) | has(h.Journey != nil, hasJourney) | has(h.Sought, isSought) |
		has(h.Again, isAgain) | has(h.Part, isPart) | has(h.Delivery != ID{}, hasDelivery))
	p.out = append(p.out, h.Tx[:]...)
	if h.Parent != nil {
		p.out = append(p.out, h.Parent[:]...)
	}
	if h.Journey != nil {
		p.out = append(p.out, h.Journey[:]...)
	}
	if h.Delivery != (ID{}) {
		p.out = append(p.out, h.Delivery[:]...)
	}
	p.text(h.Flow)
	p.text(h.Step)
	p.text(h.Target)
	p.text(h.Outcome)
	p.number(uint64(h.State))
	p.signed(h.At.UnixNano())
	p.signed(int64(h.Took))
	p.signed(int64(h.Status))
	p.signed(int64(h.N))
}

func (p *packing) number(n uint64) { p.out = binary.AppendUvarint(p.out, n) }

func (p *packing) signed(n int64) { p.out = binary.AppendVarint(p.out, n) }

// text packs a text: its number, and behind that of a new one the text itself.
func (p *packing) text(s string) {
	n, known := p.texts[s]
	if !known {
		n = uint64(len(p.texts))
		p.texts[s] = n
	}
	p.number(n)
	if !known {
		p.out = appendBytes(p.out, s)
	}
}

// UnpackHappened gives what was packed.
func UnpackHappened(b []byte) (all []Happened, err error) {
	if len(b) == 0 || b[0] != packedForm {
		return nil, errors.New("what has happened is packed in a form that this release does not know")
	}
	u := unpacking{reading: reading{rest: b[1:]}}
	for len(u.rest) > 0 {
		all = append(all, u.one())
	}
	if u.err != nil {
		return nil, fmt.Errorf("what has happened cannot be read: %w", u.err)
	}
	return all, nil
}

type unpacking struct {
	reading
	texts []string
}

func (u *unpacking) one() (h Happened) {
	h.What = Event(u.number())
	has := u.number()
	h.Sought, h.Again, h.Part = has&isSought != 0, has&isAgain != 0, has&isPart != 0
	h.Tx = u.id()
	if has&hasParent != 0 {
		parent := u.id()
		h.Parent = &parent
	}
	if has&hasJourney != 0 {
		journey := u.id()
		h.Journey = &journey
	}
	if has&hasDelivery != 0 {
		h.Delivery = u.id()
	}
	h.Flow, h.Step, h.Target, h.Outcome = u.text(), u.text(), u.text(), u.text()
	h.State = State(u.number())
	h.At = time.Unix(0, u.signed()).UTC()
	h.Took = time.Duration(u.signed())
	h.Status, h.N = int(u.signed()), int(u.signed())
	return h
}

func (u *unpacking) id() (id ID) {
	if len(u.rest) < len(id) {
		u.fails(errCut)
		return id
	}
	u.rest = u.rest[copy(id[:], u.rest):]
	return id
}

func (u *unpacking) text() string {
	n := u.number()
	switch {
	case n < uint64(len(u.texts)):
		return u.texts[n]
	case n > uint64(len(u.texts)):
		u.fails(errors.New("a text that has not come"))
		return ""
	}
	s := string(u.bytes())
	u.texts = append(u.texts, s)
	return s
}

package amqp

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math"
	"time"
)

// The kinds of frame (2.3.5), and what ends each.
const (
	frameMethod    = 1
	frameHeader    = 2
	frameBody      = 3
	frameHeartbeat = 8
	frameEnd       = 0xCE
)

const (
	frameMax   = 128 << 10 // bytes of a frame, which clients are told
	largest    = 16 << 20  // bytes of a body
	deepest    = 16        // tables within tables
	widest     = 1024      // values of all tables of one frame
	frameExtra = 8         // bytes around a payload
)

var errMalformed = errors.New("the frame cannot be read")

type frame struct {
	kind    byte
	channel uint16
	payload []byte
}

// readFrame reads one frame; the peer may send anything.
func readFrame(r io.Reader) (frame, error) {
	var head [7]byte
	if _, err := io.ReadFull(r, head[:]); err != nil {
		return frame{}, err
	}
	f := frame{kind: head[0], channel: binary.BigEndian.Uint16(head[1:])}
	size := binary.BigEndian.Uint32(head[3:])
	if size > frameMax-frameExtra {
		return frame{}, fmt.Errorf("%w: it has %d bytes", errMalformed, size)
	}
	f.payload = make([]byte, size)
	if _, err := io.ReadFull(r, f.payload); err != nil {
		return frame{}, err
	}
	var end [1]byte
	if _, err := io.ReadFull(r, end[:]); err != nil {
		return frame{}, err
	}
	if end[0] != frameEnd {
		return frame{}, fmt.Errorf("%w: it ends with 0x%02X", errMalformed, end[0])
	}
	return f, nil
}

func (f frame) append(to []byte) []byte {
	to = append(to, f.kind)
	to = binary.BigEndian.AppendUint16(to, f.channel)
	to = binary.BigEndian.AppendUint32(to, uint32(len(f.payload)))
	to = append(to, f.payload...)
	return append(to, frameEnd)
}

// reader reads the arguments of a method. Behind a fault it gives zeros, and bad is set.
type reader struct {
	b   []byte
	bad bool
	// bits are those of the octet that is being read, and how many of them are left
	bits byte
	left int
	seen int // values of tables
}

func (r *reader) take(n int) []byte {
	r.left = 0
	if n < 0 || n > len(r.b) {
		r.bad, r.b = true, nil
		return make([]byte, min(max(n, 0), 8))
	}
	out := r.b[:n]
	r.b = r.b[n:]
	return out
}

func (r *reader) octet() byte       { return r.take(1)[0] }
func (r *reader) short() uint16     { return binary.BigEndian.Uint16(r.take(2)) }
func (r *reader) long() uint32      { return binary.BigEndian.Uint32(r.take(4)) }
func (r *reader) longlong() uint64  { return binary.BigEndian.Uint64(r.take(8)) }
func (r *reader) shortstr() string  { return r.text(int(r.octet())) }
func (r *reader) longstr() string   { return r.text(int(r.long())) }
func (r *reader) done() (ok bool)   { return !r.bad }
func (r *reader) text(n int) string { b := r.take(n); return string(b[:min(n, len(b))]) }

// bit reads one of up to eight that stand in an octet, the lowest first (4.2.5.2).
func (r *reader) bit() bool {
	if r.left == 0 {
		bits := r.octet()
		r.bits, r.left = bits, 8
	}
	out := r.bits&1 != 0
	r.bits >>= 1
	r.left--
	return out
}

// table reads a table (4.2.5.5), whose values become text, numbers, true, nil, lists and
// tables.
func (r *reader) table(depth int) map[string]any {
	within := &reader{b: r.take(int(r.long())), seen: r.seen}
	out := map[string]any{}
	for len(within.b) > 0 && !within.bad && !r.bad {
		name := within.shortstr()
		out[name] = within.value(depth + 1)
	}
	r.seen = within.seen
	r.bad = r.bad || within.bad
	return out
}

// value reads a value of a table: of those that brokers and clients in use agree on.
func (r *reader) value(depth int) any {
	if r.seen++; depth > deepest || r.seen > widest {
		r.bad = true
		return nil
	}
	switch kind := r.octet(); kind {
	case 't':
		return r.octet() != 0
	case 'b':
		return int64(int8(r.octet()))
	case 'B':
		return int64(r.octet())
	case 's':
		return int64(int16(r.short()))
	case 'u':
		return int64(r.short())
	case 'I':
		return int64(int32(r.long()))
	case 'i':
		return int64(r.long())
	case 'l', 'L':
		return int64(r.longlong())
	case 'f':
		return float64(math.Float32frombits(r.long()))
	case 'd':
		return math.Float64frombits(r.longlong())
	case 'D':
		scale := r.octet()
		return float64(int32(r.long())) / math.Pow10(int(scale))
	case 'S', 'x':
		return r.longstr()
	case 'T':
		return time.Unix(int64(r.longlong()), 0).UTC().Format(time.RFC3339)
	case 'F':
		return r.table(depth)
	case 'A':
		within := &reader{b: r.take(int(r.long())), seen: r.seen}
		list := []any{}
		for len(within.b) > 0 && !within.bad {
			list = append(list, within.value(depth+1))
		}
		r.seen, r.bad = within.seen, r.bad || within.bad
		return list
	case 'V':
		return nil
	}
	r.bad = true
	return nil
}

// writer writes the arguments of a method.
type writer struct{ bytes.Buffer }

func method(class, id uint16) *writer {
	w := &writer{}
	w.short(class)
	w.short(id)
	return w
}

func (w *writer) octet(v byte)      { _ = w.WriteByte(v) }
func (w *writer) short(v uint16)    { _, _ = w.Write(binary.BigEndian.AppendUint16(nil, v)) }
func (w *writer) long(v uint32)     { _, _ = w.Write(binary.BigEndian.AppendUint32(nil, v)) }
func (w *writer) longlong(v uint64) { _, _ = w.Write(binary.BigEndian.AppendUint64(nil, v)) }

// shortstr writes a text of at most 255 bytes; more is cut.
func (w *writer) shortstr(s string) {
	s = s[:min(len(s), 255)]
	w.octet(byte(len(s)))
	_, _ = w.WriteString(s)
}

func (w *writer) longstr(s string) {
	w.long(uint32(len(s)))
	_, _ = w.WriteString(s)
}

// table writes a table of texts and truths, in order of nothing.
func (w *writer) table(t map[string]any) {
	var within writer
	for name, v := range t {
		within.shortstr(name)
		switch v := v.(type) {
		case bool:
			within.octet('t')
			within.octet(map[bool]byte{true: 1}[v])
		default:
			within.octet('S')
			within.longstr(fmt.Sprint(v))
		}
	}
	w.longstr(within.String())
}

// Properties are those of a message (1.8.2) that a stand-in shows and sets.
type Properties struct {
	ContentType, CorrelationID, ReplyTo, MessageID, Type string

	Headers    map[string]any
	Persistent bool
}

// The flags of the properties, from the highest bit down (4.2.6.1).
const (
	flagContentType   = 1 << 15
	flagEncoding      = 1 << 14
	flagHeaders       = 1 << 13
	flagDelivery      = 1 << 12
	flagPriority      = 1 << 11
	flagCorrelationID = 1 << 10
	flagReplyTo       = 1 << 9
	flagExpiration    = 1 << 8
	flagMessageID     = 1 << 7
	flagTimestamp     = 1 << 6
	flagType          = 1 << 5
)

// readProperties reads the properties behind the size of the body.
func readProperties(raw []byte) (p Properties, ok bool) {
	r := &reader{b: raw}
	flags := r.short()
	text := func(flag uint16, into *string) {
		if flags&flag != 0 {
			*into = r.shortstr()
		}
	}
	var skip string
	text(flagContentType, &p.ContentType)
	text(flagEncoding, &skip)
	if flags&flagHeaders != 0 {
		p.Headers = r.table(0)
	}
	if flags&flagDelivery != 0 {
		p.Persistent = r.octet() == 2
	}
	if flags&flagPriority != 0 {
		r.octet()
	}
	text(flagCorrelationID, &p.CorrelationID)
	text(flagReplyTo, &p.ReplyTo)
	text(flagExpiration, &skip)
	text(flagMessageID, &p.MessageID)
	if flags&flagTimestamp != 0 {
		r.longlong()
	}
	text(flagType, &p.Type)
	return p, r.done()
}

// raw writes properties.
func (p *Properties) raw() []byte {
	var flags uint16
	var w writer
	text := func(flag uint16, s string) {
		if s != "" {
			flags |= flag
			w.shortstr(s)
		}
	}
	text(flagContentType, p.ContentType)
	if len(p.Headers) > 0 {
		flags |= flagHeaders
		w.table(p.Headers)
	}
	if p.Persistent {
		flags |= flagDelivery
		w.octet(2)
	}
	text(flagCorrelationID, p.CorrelationID)
	text(flagReplyTo, p.ReplyTo)
	text(flagMessageID, p.MessageID)
	text(flagType, p.Type)
	return append(binary.BigEndian.AppendUint16(nil, flags), w.Bytes()...)
}

// Package body keeps the bytes of messages, answers and requests: each content
// once, by its hash, compressed where that pays, in pieces when it is large.
// What refers to it holds a Ref; nothing ever rewrites a body.
//
// A Body is used in three steps. Of makes one of bytes; Packed works out its hash
// and its compressed form, which is to happen outside of the database writer;
// the store then keeps what the reference points at. Read back, a Body is a Ref
// until the store fills it.
//
// What a column of a Body holds:
//
//	0x00 bytes…                 the content itself, up to Inline bytes, or InlineMessage
//	0x01 sha-256 (32) size (8)  the key of a kept content, and its size
//	0x02 n (4) size (8)         what the transaction's message n holds, and its size
package body

import (
	"crypto/sha256"
	"database/sql/driver"
	"encoding/binary"
	"fmt"

	"github.com/klauspost/compress/zstd"
)

// Inline is the largest content that stands in its reference, in bytes: keeping
// it apart would cost more.
const Inline = 128

// InlineMessage is the same of messages, in bytes. Their rows are written one behind the
// other and never again, so that a content of this size costs less there than beside.
const InlineMessage = 2 << 10

// Piece is how much of a large content one row holds, in bytes as they are kept.
const Piece = 256 << 10

// worth is the size from which compressing is tried, in bytes.
const worth = 1 << 10

// Key is the SHA-256 of a content.
type Key [sha256.Size]byte

// Codec is how a content is kept.
type Codec uint8

// The codecs.
const (
	Raw  Codec = iota
	Zstd       // RFC 8878
)

const (
	tagInline  = 0
	tagKept    = 1
	tagMessage = 2
)

// Body is a content, or the reference to one. The zero value is an empty one.
type Body struct {
	bytes  []byte // nil for a reference that is not filled
	kept   *Kept  // nil: it stands in the reference, or is not packed yet
	packed bool

	ofMessage bool // it is what the message n of its transaction holds
	n         uint32
	size      int64
}

// Kept is a content as the store keeps it.
type Kept struct {
	Key    Key
	Size   int64 // of the content
	Codec  Codec
	Pieces [][]byte // nil for a reference that was read
}

// Of makes a body. The bytes must not change any more.
func Of(b []byte) Body {
	if b == nil {
		b = []byte{}
	}
	return Body{bytes: b}
}

// Referring makes the reference to a content that is kept.
func Referring(key Key, size int64) Body {
	return Body{kept: &Kept{Key: key, Size: size}, packed: true}
}

// OfMessage makes the body of a message, packed.
func OfMessage(b []byte) Body {
	if len(b) > InlineMessage {
		return Of(b).Packed()
	}
	out := Of(b)
	out.packed = true
	return out
}

// AsMessage makes a body that is what the message n of the same transaction holds.
func AsMessage(b []byte, n int) Body {
	out := Of(b)
	out.packed, out.ofMessage, out.n, out.size = true, true, uint32(n), int64(len(b))
	return out
}

// Message tells which message of the transaction holds the content, where it is one of
// them.
func (b *Body) Message() (n int, is bool) { return int(b.n), b.ofMessage }

// Bytes gives the content; it panics for a reference that the store has not
// filled, which is a mistake of the program.
func (b *Body) Bytes() []byte {
	if b.bytes == nil && (b.kept != nil || b.ofMessage) {
		panic("a body is read that was not filled")
	}
	return b.bytes
}

// Filled tells whether the content is at hand.
func (b *Body) Filled() bool { return b.bytes != nil || b.kept == nil && !b.ofMessage }

// Size gives the size of the content in bytes, also of a reference.
func (b *Body) Size() int64 {
	if b.bytes == nil && b.ofMessage {
		return b.size
	}
	if b.bytes == nil && b.kept != nil {
		return b.kept.Size
	}
	return int64(len(b.bytes))
}

// Packed gives the same body, ready to be kept. It computes, so that it belongs
// outside of the database writer; packing twice costs nothing.
func (b Body) Packed() Body {
	if b.packed || b.kept != nil {
		return b
	}
	b.packed = true
	if len(b.bytes) > Inline {
		b.kept = pack(b.bytes)
	}
	return b
}

func pack(content []byte) *Kept {
	k := &Kept{Key: sha256.Sum256(content), Size: int64(len(content)), Codec: Raw}
	stored := content
	if len(content) >= worth {
		if small := encoder().EncodeAll(content, make([]byte, 0, len(content)/2)); len(
			small,
		) < len(
			content,
		)-len(
			content,
		)/8 {
			k.Codec, stored = Zstd, small
		}
	}
	for len(stored) > Piece {
		k.Pieces, stored = append(k.Pieces, stored[:Piece]), stored[Piece:]
	}
	k.Pieces = append(k.Pieces, stored)
	return k
}

// AsStored makes a body that is what the message n of the same transaction holds, which is
// not at hand.
func AsStored(n int, size int64) Body {
	return Body{packed: true, ofMessage: true, n: uint32(n), size: size}
}

// Shrinks tells whether compressing a content that begins like this pays.
func Shrinks(first []byte) bool {
	return len(first) >= worth && len(encoder().EncodeAll(first, nil)) < len(first)-len(first)/8
}

// Kept gives what the store is to keep, or already keeps, for the body; nil when
// it stands in its reference.
func (b *Body) Kept() *Kept { return b.kept }

// Fill gives a reference its content.
func (b *Body) Fill(content []byte) {
	if content == nil {
		content = []byte{}
	}
	b.bytes, b.packed = content, true
}

// Value implements driver.Valuer: the reference.
func (b Body) Value() (driver.Value, error) { return b.Reference(), nil }

// Reference gives what a column of the body holds.
func (b Body) Reference() []byte {
	b = b.Packed()
	if b.ofMessage {
		ref := binary.BigEndian.AppendUint32(append(make([]byte, 0, 13), tagMessage), b.n)
		return binary.BigEndian.AppendUint64(ref, uint64(b.size))
	}
	if b.kept == nil {
		return append([]byte{tagInline}, b.bytes...)
	}
	ref := make([]byte, 0, 1+len(b.kept.Key)+8)
	ref = append(append(ref, tagKept), b.kept.Key[:]...)
	return binary.BigEndian.AppendUint64(ref, uint64(b.kept.Size))
}

// Scan implements sql.Scanner: it reads a reference.
func (b *Body) Scan(v any) error {
	ref, ok := v.([]byte)
	switch {
	case v == nil:
		*b = Body{bytes: []byte{}, packed: true}
		return nil
	case !ok || len(ref) == 0:
		return fmt.Errorf("the reference of a body is %T, not bytes", v)
	case ref[0] == tagInline:
		*b = Body{bytes: append([]byte{}, ref[1:]...), packed: true}
		return nil
	case ref[0] == tagMessage && len(ref) == 13:
		*b = Body{packed: true, ofMessage: true, n: binary.BigEndian.Uint32(ref[1:]), size: int64(binary.BigEndian.Uint64(ref[5:]))}
		return nil
	case ref[0] == tagKept && len(ref) == 1+sha256.Size+8:
		k := &Kept{Key: Key(ref[1 : 1+sha256.Size]), Size: int64(binary.BigEndian.Uint64(ref[1+sha256.Size:]))}
		*b = Body{kept: k, packed: true}
		return nil
	}
	return fmt.Errorf("the reference of a body has the tag %d and %d bytes", ref[0], len(ref))
}

// GormDataType implements schema.GormDataTypeInterface.
func (Body) GormDataType() string { return "blob" }

func encoder() *zstd.Encoder { return shared().encoder }

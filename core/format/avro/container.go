package avro

import (
	"bytes"
	"compress/flate"
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"io"

	"github.com/hamba/avro/v2"
	"github.com/klauspost/compress/snappy"
	"github.com/klauspost/compress/zstd"

	"readyferry/core/message"
)

// unfolded bounds what the blocks of a file may come to together, in bytes.
const unfolded = 64 << 20

// decodeContainer reads an object container file: a header with the schema and the codec, then
// blocks of data, each behind its count and size, with the file's mark between them.
func decodeContainer(own *Schema, src []byte, depth, nodes int) (*message.Node, message.Schema, error) {
	r := &reader{src: src, at: len(magic), depth: depth, nodes: nodes}
	meta := map[string][]byte{}
	if err := r.blocks(func(int) error {
		name, err := r.text("the header")
		if err != nil {
			return err
		}
		size, err := r.long("the header")
		if err != nil {
			return err
		}
		meta[name], err = r.take(clamped(size), "the header")
		return err
	}); err != nil {
		return nil, nil, err
	}
	mark, err := r.take(16, "the header")
	if err != nil {
		return nil, nil, err
	}
	s, err := parse(meta["avro.schema"], &avro.SchemaCache{})
	if err != nil {
		return nil, nil, r.fail("the schema in the header: " + err.Error())
	}
	out := message.NewList()
	room := unfolded
	for left := nodes; r.at < len(src); {
		count, err := r.long("a block")
		if err != nil {
			return nil, nil, err
		}
		size, err := r.long("a block")
		if err != nil {
			return nil, nil, err
		}
		block, err := r.take(clamped(size), "a block")
		if err != nil {
			return nil, nil, err
		}
		if block, err = unpacked(string(meta["avro.codec"]), block, room); err != nil {
			return nil, nil, r.fail(err.Error())
		}
		room -= len(block)
		in := &reader{src: block, depth: depth, nodes: left}
		for ; count > 0; count-- {
			v, err := in.value(s)
			if err != nil {
				return nil, nil, fmt.Errorf("in the block before byte %d, datum %d: %w", r.at, len(out.Items)+1, err)
			}
			out.Items = append(out.Items, v)
		}
		left = in.nodes
		if end, err := r.take(16, "a block"); err != nil || !bytes.Equal(end, mark) {
			return nil, nil, r.fail("the file's mark was expected behind a block")
		}
	}
	by := &Schema{of: s, framing: Container}
	if own != nil {
		by.others = own.others
	}
	return out, by, nil
}

// unpacked undoes the codec of a block, which may come to so many bytes.
func unpacked(codec string, b []byte, room int) ([]byte, error) {
	var from io.Reader
	switch codec {
	case "", "null":
		return b, nil
	case "deflate":
		from = flate.NewReader(bytes.NewReader(b))
	case "snappy": // with the CRC-32 of what was packed behind it
		if len(b) < 4 {
			return nil, fmt.Errorf("a block is too short for snappy")
		}
		size, err := snappy.DecodedLen(b[:len(b)-4])
		if err != nil || size > room {
			return nil, fmt.Errorf("a block cannot be unpacked by snappy")
		}
		out, err := snappy.Decode(nil, b[:len(b)-4])
		if err == nil && crc32.ChecksumIEEE(out) != binary.BigEndian.Uint32(b[len(b)-4:]) {
			err = fmt.Errorf("the checksum of a block is wrong")
		}
		return out, err
	case "zstandard":
		z, err := zstd.NewReader(
			bytes.NewReader(b),
			zstd.WithDecoderConcurrency(1),
			zstd.WithDecoderMaxMemory(unfolded),
		)
		if err != nil {
			return nil, err
		}
		defer z.Close()
		from = z
	default:
		return nil, fmt.Errorf("the codec %q is not known; it is one of null, deflate, snappy and zstandard", codec)
	}
	out, err := io.ReadAll(io.LimitReader(from, int64(room)+1))
	if err == nil && len(out) > room {
		err = fmt.Errorf("its blocks unfold to more than %d bytes", unfolded)
	}
	if err != nil {
		return nil, fmt.Errorf("a block cannot be unpacked by %s: %w", codec, err)
	}
	return out, nil
}

// container writes a list as a container file of one block. Its mark, which the specification
// wants to be random, comes of the data: the same list is the same file.
func (s *Schema) container(n *message.Node) ([]byte, error) {
	if n.Kind != message.List {
		return nil, fmt.Errorf("avro: a container file holds a list, and this is a %s", n.Kind)
	}
	data := &writer{}
	for i, item := range n.Items {
		data.path = append(data.path[:0], fmt.Sprint(i))
		if err := data.value(s.of, item); err != nil {
			return nil, err
		}
	}
	schema, err := s.of.(interface{ MarshalJSON() ([]byte, error) }).MarshalJSON()
	if err != nil {
		return nil, err
	}
	mark := sha256.Sum256(append(schema, data.out...))
	w := &writer{out: append([]byte{}, magic...)}
	w.long(2)
	for _, m := range [][2][]byte{{[]byte("avro.schema"), schema}, {[]byte("avro.codec"), []byte("null")}} {
		w.bytes(m[0])
		w.bytes(m[1])
	}
	w.long(0)
	w.out = append(w.out, mark[:16]...)
	if len(n.Items) > 0 {
		w.long(int64(len(n.Items)))
		w.bytes(data.out)
		w.out = append(w.out, mark[:16]...)
	}
	return w.out, nil
}

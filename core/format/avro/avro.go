// Package avro reads and writes Apache Avro (specification 1.12.0, binary encoding) by a schema.
//
// A datum becomes the tree that its schema says: a record a map in the order of its fields, an
// array a list, a map a map, an enum the text of its symbol, bytes and fixed bytes. A union is
// the value itself, without its branch. Numbers are exact: a long keeps its digits, a decimal its
// scale. Dates and times are texts as ISO 8601 has them, a timestamp in UTC; one that no calendar
// has stays the number that it is.
//
// Writing does the same backwards. What the schema does not have, or has otherwise, is an error
// that names its path; a field that is not there takes its default, or null where it may be null.
// Of a union the first branch takes the value that fits its kind: one that must know which of two
// alike records it was needs a field that says so.
//
// A message is a datum alone, a datum behind its schema's fingerprint (single object), a datum
// behind a zero byte and the number of its schema (common practice where schemas have a registry),
// or an object container file, whose data are a list and whose own schema counts.
package avro

import (
	"bytes"
	"errors"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"github.com/hamba/avro/v2"

	"readyferry/core/message"
)

// Framing is what stands around a datum.
type Framing string

// The framings.
const (
	Plain     Framing = "plain"         // nothing
	Single    Framing = "single-object" // C3 01 and the fingerprint of its schema
	Numbered  Framing = "numbered"      // 00 and four bytes of number
	Container Framing = "container"     // an object container file
)

// Schema reads and writes data of one type. It implements message.Schema.
type Schema struct {
	of      avro.Schema
	others  map[string]avro.Schema // of the same flow, by fingerprint
	framing Framing
	number  uint32
}

// Parse takes a schema out of a flow's files. Types that it names and does not define are looked
// for in the other files that end in .avsc. framing may be "", for plain.
func Parse(files map[string][]byte, name string, framing Framing, number uint32) (*Schema, error) {
	if framing == "" {
		framing = Plain
	}
	if _, there := files[name]; !there {
		return nil, fmt.Errorf("the flow has no file %s", name)
	}
	cache := &avro.SchemaCache{}
	parsed := map[string]avro.Schema{}
	left := slices.DeleteFunc(
		slices.Sorted(maps.Keys(files)),
		func(f string) bool { return path.Ext(f) != ".avsc" && f != name },
	)
	failed := map[string]error{}
	for moved := true; moved; { // a file may name types of another one that comes later
		moved = false
		left = slices.DeleteFunc(left, func(f string) bool {
			s, err := parse(files[f], cache)
			if failed[f] = err; err != nil {
				return false
			}
			parsed[f], moved = s, true
			return true
		})
	}
	if err := failed[name]; err != nil {
		return nil, fmt.Errorf("the schema %s: %s", name, strings.TrimPrefix(err.Error(), "avro: "))
	}
	out := &Schema{of: parsed[name], others: map[string]avro.Schema{}, framing: framing, number: number}
	for _, s := range parsed {
		out.others[fingerprint(s)] = s
	}
	return out, nil
}

func parse(text []byte, cache *avro.SchemaCache) (s avro.Schema, err error) {
	defer func() { // the parser must not take the process with it
		if r := recover(); r != nil {
			err = fmt.Errorf("it cannot be read: %v", r)
		}
	}()
	return avro.ParseBytesWithCache(text, "", cache)
}

// fingerprint is the CRC-64-AVRO of a schema's canonical form, as a single object has it:
// least significant byte first (specification, "Single-object encoding").
func fingerprint(s avro.Schema) string {
	b, err := s.FingerprintUsing(avro.CRC64AvroLE)
	if err != nil {
		return ""
	}
	return string(b)
}

// magic begins a container file, single a single object.
var (
	magic  = []byte("Obj\x01")
	single = []byte{0xC3, 0x01}
)

// Decode implements message.Schema. A container file is known by how it begins, whatever the
// framing; what it is written by is given for writing the same again.
func (s *Schema) Decode(src []byte, depth, nodes int) (*message.Node, message.Schema, error) {
	if bytes.HasPrefix(src, magic) {
		return decodeContainer(s, src, depth, nodes)
	}
	if s == nil {
		return nil, nil, errors.New("avro: a datum is read by a schema; name its file under schema")
	}
	r := &reader{src: src, depth: depth, nodes: nodes}
	of := s
	switch {
	case s.framing == Single:
		by, err := s.singled(src)
		if err != nil {
			return nil, nil, err
		}
		r.at, of = 10, &Schema{of: by, others: s.others, framing: Single}
	case s.framing == Numbered:
		if len(src) < 5 || src[0] != 0 {
			return nil, nil, r.fail("a zero byte and the number of the schema were expected")
		}
		r.at = 5
		of = &Schema{of: s.of, others: s.others, framing: Numbered, number: be32(src[1:])}
	}
	n, err := r.value(of.of)
	if err == nil && r.at < len(src) {
		err = r.fail(fmt.Sprintf("%d bytes are left behind the datum: it was written by another schema", len(src)-r.at))
	}
	return n, of, err
}

// singled finds the schema by which a single object was written.
func (s *Schema) singled(src []byte) (avro.Schema, error) {
	if !bytes.HasPrefix(src, single) || len(src) < 10 {
		return nil, (&reader{src: src}).fail("C3 01 and the fingerprint of the schema were expected")
	}
	print := string(src[2:10])
	if by := s.others[print]; by != nil {
		return by, nil
	}
	return nil, (&reader{src: src, at: 2}).fail(fmt.Sprintf(
		"it was written by a schema with the fingerprint %x, and no file of the flow has it", print))
}

// Encode implements message.Schema.
func (s *Schema) Encode(n *message.Node) ([]byte, error) {
	w := &writer{}
	if s == nil {
		return nil, errors.New("avro: a datum is written by a schema; name its file under schema")
	}
	switch s.framing {
	case Container:
		return s.container(n)
	case Single:
		w.out = append(append(w.out, single...), fingerprint(s.of)...)
	case Numbered:
		w.out = append(w.out, 0, byte(s.number>>24), byte(s.number>>16), byte(s.number>>8), byte(s.number))
	}
	err := w.value(s.of, n)
	return w.out, err
}

func be32(b []byte) uint32 {
	return uint32(b[0])<<24 | uint32(b[1])<<16 | uint32(b[2])<<8 | uint32(b[3])
}

// resolved gives the schema that a name stands for.
func resolved(s avro.Schema) avro.Schema {
	if ref, is := s.(*avro.RefSchema); is {
		return ref.Schema()
	}
	return s
}

// logical gives what the numbers or bytes of a schema mean, or "".
func logical(s avro.Schema) avro.LogicalType {
	if l, is := s.(avro.LogicalTypeSchema); is && l.Logical() != nil {
		return l.Logical().Type()
	}
	return ""
}

// called names a type as people do.
func called(s avro.Schema) string {
	s = resolved(s)
	if named, is := s.(avro.NamedSchema); is {
		return fmt.Sprintf("the %s %s", s.Type(), named.Name())
	}
	if u, is := s.(*avro.UnionSchema); is {
		var names []string
		for _, t := range u.Types() {
			names = append(names, called(t))
		}
		return strings.Join(names, " or ")
	}
	if l := logical(s); l != "" {
		return string(l)
	}
	return string(s.Type())
}

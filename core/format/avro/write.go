package avro

import (
	"encoding/base64"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"math"
	"math/big"
	"slices"
	"strconv"
	"strings"

	"github.com/hamba/avro/v2"

	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
)

// writer writes the binary encoding.
type writer struct {
	out  []byte
	path message.Steps
}

// fail names the path of a value that the schema does not take.
func (w *writer) fail(format string, args ...any) error {
	at := w.path.String()
	if at == "" {
		at = "the document"
	}
	return fmt.Errorf("avro, %s: %s", at, fmt.Sprintf(format, args...))
}

func (w *writer) unfit(s avro.Schema, n *message.Node) error {
	return w.fail("a %s was given, and the schema has %s", n.Kind, called(s))
}

func (w *writer) long(v int64) { w.out = binary.AppendUvarint(w.out, uint64(v<<1)^uint64(v>>63)) }

func (w *writer) bytes(b []byte) {
	w.long(int64(len(b)))
	w.out = append(w.out, b...)
}

func (w *writer) under(name string, s avro.Schema, n *message.Node) error {
	w.path = append(w.path, name)
	err := w.value(s, n)
	w.path = w.path[:len(w.path)-1]
	return err
}

// value writes a value as a datum of a type.
func (w *writer) value(s avro.Schema, n *message.Node) error {
	switch s := resolved(s).(type) {
	case *avro.NullSchema:
		if n.Kind != message.Null {
			return w.unfit(s, n)
		}
		return nil
	case *avro.RecordSchema:
		return w.record(s, n)
	case *avro.ArraySchema:
		if n.Kind != message.List {
			return w.unfit(s, n)
		}
		return w.block(len(n.Items), func(i int) error { return w.under(strconv.Itoa(i), s.Items(), n.Items[i]) })
	case *avro.MapSchema:
		if n.Kind != message.Map {
			return w.unfit(s, n)
		}
		return w.block(len(n.Members), func(i int) error {
			w.bytes([]byte(n.Members[i].Name))
			return w.under(n.Members[i].Name, s.Values(), n.Members[i].Value)
		})
	case *avro.UnionSchema:
		i := branch(s, n)
		if i < 0 {
			return w.unfit(s, n)
		}
		w.long(int64(i))
		return w.value(s.Types()[i], n)
	case *avro.EnumSchema:
		i := slices.Index(s.Symbols(), n.Text)
		if n.Kind != message.String || i < 0 {
			return w.fail("%s has no symbol %s; it has %s", called(s), jsonfmt.Encode(n), strings.Join(s.Symbols(), ", "))
		}
		w.long(int64(i))
		return nil
	case *avro.FixedSchema:
		b, err := w.fixed(s, n)
		w.out = append(w.out, b...)
		return err
	case *avro.PrimitiveSchema:
		return w.primitive(s, n)
	}
	return w.fail("the schema has a type that is not known: %s", s.Type())
}

// block writes the items of an array or map in one block.
func (w *writer) block(size int, item func(i int) error) error {
	if size > 0 {
		w.long(int64(size))
	}
	for i := range size {
		if err := item(i); err != nil {
			return err
		}
	}
	w.long(0)
	return nil
}

func (w *writer) record(s *avro.RecordSchema, n *message.Node) error {
	if n.Kind != message.Map {
		return w.unfit(s, n)
	}
	var names []string
	for _, f := range s.Fields() {
		names = append(names, f.Name())
	}
	for _, m := range n.Members {
		if !slices.Contains(names, m.Name) {
			return w.fail("%s has no field %s; it has %s", called(s), m.Name, strings.Join(names, ", "))
		}
	}
	for _, f := range s.Fields() {
		v := n.Get(f.Name())
		if v == nil {
			var err error
			if v, err = standIn(f); err != nil {
				return w.fail("%s", err)
			}
		}
		if err := w.under(f.Name(), f.Type(), v); err != nil {
			return err
		}
	}
	return nil
}

// standIn gives what stands for a field that is not there: its default, or null.
func standIn(f *avro.Field) (*message.Node, error) {
	if f.HasDefault() {
		text, err := json.Marshal(f.Default())
		if err != nil {
			return nil, err
		}
		r, err := jsonfmt.Decode(text)
		return r.Root, err
	}
	if u, is := resolved(f.Type()).(*avro.UnionSchema); f.Type().Type() == avro.Null || is && u.Contains(avro.Null) {
		return message.NewNull(), nil
	}
	return nil, fmt.Errorf("the field %s is missing", f.Name())
}

func (w *writer) fixed(s *avro.FixedSchema, n *message.Node) ([]byte, error) {
	if d, is := s.Logical().(*avro.DecimalLogicalSchema); is && n.Kind == message.Number {
		b, err := decimalFrom(n.Text, d, s.Size())
		if err != nil {
			return nil, w.fail("%s", err)
		}
		return b, nil
	}
	b, ok := bytesOf(n)
	if !ok {
		return nil, w.unfit(s, n)
	}
	if len(b) != s.Size() {
		return nil, w.fail("%s has %d bytes, and these are %d", called(s), s.Size(), len(b))
	}
	return b, nil
}

// bytesOf gives bytes, or those that a text means in base64.
func bytesOf(n *message.Node) ([]byte, bool) {
	switch n.Kind {
	case message.Bytes:
		return []byte(n.Text), true
	case message.String:
		b, err := base64.StdEncoding.DecodeString(n.Text)
		return b, err == nil
	}
	return nil, false
}

func (w *writer) primitive(s *avro.PrimitiveSchema, n *message.Node) error {
	switch s.Type() {
	case avro.Boolean:
		if n.Kind != message.Bool {
			return w.unfit(s, n)
		}
		w.out = append(w.out, map[string]byte{"true": 1}[n.Text])
		return nil
	case avro.Int, avro.Long:
		return w.whole(s, n)
	case avro.Float, avro.Double:
		return w.float(s, n)
	case avro.String:
		if n.Kind != message.String {
			return w.unfit(s, n)
		}
		w.bytes([]byte(n.Text))
		return nil
	}
	if d, is := s.Logical().(*avro.DecimalLogicalSchema); is && n.Kind == message.Number {
		b, err := decimalFrom(n.Text, d, 0)
		if err != nil {
			return w.fail("%s", err)
		}
		w.bytes(b)
		return nil
	}
	b, ok := bytesOf(n)
	if !ok {
		return w.unfit(s, n)
	}
	w.bytes(b)
	return nil
}

// whole writes an int or long, or the date or time that it means.
func (w *writer) whole(s *avro.PrimitiveSchema, n *message.Node) error {
	l := logical(s)
	var v int64
	switch {
	case n.Kind == message.String && times[l].layout != "":
		var err error
		if v, err = timeFrom(l, n.Text); err != nil {
			return w.fail("%s", err)
		}
	case n.Kind == message.Number:
		var ok bool
		if v, ok = wholeOf(n.Text); !ok {
			return w.fail("%s is no whole number of 64 bits", n.Text)
		}
	default:
		return w.unfit(s, n)
	}
	if s.Type() == avro.Int && (v < math.MinInt32 || v > math.MaxInt32) {
		return w.fail("%d is no int of 32 bits", v)
	}
	w.long(v)
	return nil
}

// wholeOf reads a number that is whole, also where it is written as 7.0 or 7e2.
func wholeOf(text string) (int64, bool) {
	if v, err := strconv.ParseInt(text, 10, 64); err == nil {
		return v, true
	}
	if len(text) > 100 {
		return 0, false
	}
	if i := strings.IndexAny(text, "eE"); i >= 0 {
		if e, err := strconv.Atoi(text[i+1:]); err != nil || e > 30 || e < -100 {
			return 0, false
		}
	}
	r, ok := new(big.Rat).SetString(text)
	if !ok || !r.IsInt() || !r.Num().IsInt64() {
		return 0, false
	}
	return r.Num().Int64(), true
}

func (w *writer) float(s *avro.PrimitiveSchema, n *message.Node) error {
	bits := 64
	if s.Type() == avro.Float {
		bits = 32
	}
	f, ok := n.Float(bits)
	switch {
	case !ok && n.Kind == message.Number:
		return w.fail("%s is no %s", n.Text, s.Type())
	case !ok:
		return w.unfit(s, n)
	case bits == 32:
		w.out = binary.LittleEndian.AppendUint32(w.out, math.Float32bits(float32(f)))
	default:
		w.out = binary.LittleEndian.AppendUint64(w.out, math.Float64bits(f))
	}
	return nil
}

// branch finds the branch of a union for a value: the first whose kind it is, else the first that
// can take it at all; -1 for none.
func branch(s *avro.UnionSchema, n *message.Node) int {
	for _, exactly := range []bool{true, false} {
		if i := slices.IndexFunc(s.Types(), func(t avro.Schema) bool { return fits(resolved(t), n, exactly) }); i >= 0 {
			return i
		}
	}
	return -1
}

// fits looks at a value and, of a map, at its names; what is inside is not looked at.
func fits(s avro.Schema, n *message.Node, exactly bool) bool {
	text := n.Kind == message.String
	switch s := s.(type) {
	case *avro.NullSchema:
		return n.Kind == message.Null
	case *avro.ArraySchema:
		return n.Kind == message.List
	case *avro.MapSchema:
		return n.Kind == message.Map
	case *avro.RecordSchema:
		return n.Kind == message.Map && !slices.ContainsFunc(n.Members, func(m message.Member) bool {
			return !slices.ContainsFunc(s.Fields(), func(f *avro.Field) bool { return f.Name() == m.Name })
		}) && !slices.ContainsFunc(s.Fields(), func(f *avro.Field) bool {
			_, err := standIn(f)
			return err != nil && n.Get(f.Name()) == nil
		})
	case *avro.EnumSchema:
		return text && slices.Contains(s.Symbols(), n.Text)
	case *avro.PrimitiveSchema:
		return fitsPrimitive(s, n, exactly)
	}
	_, err := (&writer{}).fixed(s.(*avro.FixedSchema), n)
	return err == nil && (!text || !exactly)
}

func fitsPrimitive(s *avro.PrimitiveSchema, n *message.Node, exactly bool) bool {
	if err := (&writer{}).primitive(s, n); err != nil {
		return false
	}
	if !exactly {
		return true
	}
	switch s.Type() {
	case avro.Bytes:
		return n.Kind != message.String
	case avro.Float, avro.Double:
		return n.Kind == message.Number
	case avro.Int, avro.Long:
		return n.Kind == message.String || logical(s) == "" && !strings.ContainsAny(n.Text, ".eE")
	}
	return true
}

package avro

import (
	"encoding/binary"
	"fmt"
	"math"
	"strconv"
	"unicode/utf8"

	"github.com/hamba/avro/v2"

	"readyferry/core/message"
)

// reader reads the binary encoding of one datum after another.
type reader struct {
	src          []byte
	at           int
	depth, nodes int // that are left
	path         message.Steps
}

// fail says what is wrong at the byte that is read, and where in the document that is.
func (r *reader) fail(problem string) error {
	if len(r.path) > 0 {
		problem = r.path.String() + ": " + problem
	}
	return &message.SyntaxError{Format: "Avro", Line: 1, Column: r.at + 1, Offset: r.at,
		Problem: fmt.Sprintf("byte %d: %s", r.at, problem)}
}

func (r *reader) short(what string) error { return r.fail("the message ends in " + what) }

// value reads a datum of a type. Every value costs one of the nodes, so that no count of a
// few bytes makes many values.
func (r *reader) value(s avro.Schema) (*message.Node, error) {
	if r.nodes--; r.nodes < 0 {
		return nil, r.fail("it has more values than are allowed")
	}
	switch s := resolved(s).(type) {
	case *avro.NullSchema:
		return message.NewNull(), nil
	case *avro.RecordSchema:
		return r.nested(func() (*message.Node, error) { return r.record(s) })
	case *avro.ArraySchema:
		return r.nested(func() (*message.Node, error) { return r.array(s) })
	case *avro.MapSchema:
		return r.nested(func() (*message.Node, error) { return r.dict(s) })
	case *avro.UnionSchema:
		i, err := r.long("a union")
		if err != nil {
			return nil, err
		}
		if i < 0 || i >= int64(len(s.Types())) {
			return nil, r.fail(fmt.Sprintf("the union has %d branches, and this names the one with number %d", len(s.Types()), i))
		}
		return r.nested(func() (*message.Node, error) { return r.value(s.Types()[i]) })
	case *avro.EnumSchema:
		i, err := r.long("an enum")
		if err != nil {
			return nil, err
		}
		symbol, ok := s.Symbol(int(i))
		if !ok || i < 0 || i > math.MaxInt32 {
			return nil, r.fail(fmt.Sprintf("%s has %d symbols, and this names the one with number %d", called(s), len(s.Symbols()), i))
		}
		return message.NewString(symbol), nil
	case *avro.FixedSchema:
		b, err := r.take(s.Size(), called(s))
		if err != nil {
			return nil, err
		}
		if d, is := s.Logical().(*avro.DecimalLogicalSchema); is {
			return decimalOf(b, d.Scale()), nil
		}
		return message.NewBytes(b), nil
	case *avro.PrimitiveSchema:
		return r.primitive(s)
	}
	return nil, r.fail("the schema has a type that is not known: " + string(s.Type()))
}

func (r *reader) nested(read func() (*message.Node, error)) (*message.Node, error) {
	if r.depth--; r.depth < 0 {
		return nil, r.fail("it is nested deeper than is allowed")
	}
	n, err := read()
	r.depth++
	return n, err
}

func (r *reader) record(s *avro.RecordSchema) (*message.Node, error) {
	members := make([]message.Member, 0, len(s.Fields()))
	for _, f := range s.Fields() {
		v, err := r.under(f.Name(), f.Type())
		if err != nil {
			return nil, err
		}
		members = append(members, message.Member{Name: f.Name(), Value: v})
	}
	return message.NewMap(members...), nil
}

// under reads a value that stands by a name.
func (r *reader) under(name string, s avro.Schema) (*message.Node, error) {
	r.path = append(r.path, name)
	v, err := r.value(s)
	r.path = r.path[:len(r.path)-1]
	return v, err
}

// blocks reads the items of an array or map: blocks of a count, where a negative one is followed
// by a number of bytes, until a count of zero.
func (r *reader) blocks(item func(i int) error) error {
	for i := 0; ; {
		count, err := r.long("a list")
		if err != nil || count == 0 {
			return err
		}
		if count < 0 {
			if count = -count; count < 0 {
				return r.fail("a block has no count that can be")
			}
			if _, err := r.long("a list"); err != nil {
				return err
			}
		}
		for ; count > 0; count, i = count-1, i+1 {
			if err := item(i); err != nil {
				return err
			}
		}
	}
}

func (r *reader) array(s *avro.ArraySchema) (*message.Node, error) {
	out := message.NewList()
	return out, r.blocks(func(i int) error {
		v, err := r.under(strconv.Itoa(i), s.Items())
		out.Items = append(out.Items, v)
		return err
	})
}

func (r *reader) dict(s *avro.MapSchema) (*message.Node, error) {
	var members []message.Member
	seen := map[string]int{}
	err := r.blocks(func(int) error {
		name, err := r.text("the name of a member")
		if err != nil {
			return err
		}
		v, err := r.under(name, s.Values())
		if at, twice := seen[name]; twice {
			members[at].Value = v // of two the last counts
			return err
		}
		seen[name] = len(members)
		members = append(members, message.Member{Name: name, Value: v})
		return err
	})
	return message.NewMap(members...), err
}

func (r *reader) primitive(s *avro.PrimitiveSchema) (*message.Node, error) {
	switch s.Type() {
	case avro.Boolean:
		b, err := r.take(1, "a boolean")
		if err != nil {
			return nil, err
		}
		if b[0] > 1 {
			return nil, r.fail(fmt.Sprintf("a boolean is 0 or 1, not %d", b[0]))
		}
		return message.NewBool(b[0] == 1), nil
	case avro.Int, avro.Long:
		v, err := r.long(string(s.Type()))
		if err != nil {
			return nil, err
		}
		if s.Type() == avro.Int && (v < math.MinInt32 || v > math.MaxInt32) {
			return nil, r.fail(fmt.Sprintf("%d is no int of 32 bits", v))
		}
		return timeOf(logical(s), v), nil
	case avro.Float:
		b, err := r.take(4, "a float")
		if err != nil {
			return nil, err
		}
		return message.NewFloat(float64(math.Float32frombits(binary.LittleEndian.Uint32(b))), 32), nil
	case avro.Double:
		b, err := r.take(8, "a double")
		if err != nil {
			return nil, err
		}
		return message.NewFloat(math.Float64frombits(binary.LittleEndian.Uint64(b)), 64), nil
	case avro.String:
		text, err := r.text("a string")
		return message.NewString(text), err
	}
	size, err := r.long("bytes")
	if err != nil {
		return nil, err
	}
	b, err := r.take(clamped(size), "bytes")
	if err != nil {
		return nil, err
	}
	if d, is := s.Logical().(*avro.DecimalLogicalSchema); is {
		return decimalOf(b, d.Scale()), nil
	}
	return message.NewBytes(b), nil
}

// long reads a number in zig-zag coding, seven bits a byte, the lowest first.
func (r *reader) long(what string) (int64, error) {
	u, n := binary.Uvarint(r.src[r.at:])
	switch {
	case n == 0:
		return 0, r.short(what)
	case n < 0:
		return 0, r.fail("a number of more than 64 bits")
	}
	r.at += n
	return int64(u>>1) ^ -int64(u&1), nil
}

// clamped gives a size that can be taken, or -1.
func clamped(size int64) int {
	if size < 0 || size > math.MaxInt32 {
		return -1
	}
	return int(size)
}

func (r *reader) take(size int, what string) ([]byte, error) {
	if size < 0 || size > len(r.src)-r.at {
		return nil, r.short(what)
	}
	b := r.src[r.at : r.at+size]
	r.at += size
	return b, nil
}

func (r *reader) text(what string) (string, error) {
	size, err := r.long(what)
	if err != nil {
		return "", err
	}
	b, err := r.take(clamped(size), what)
	if err != nil {
		return "", err
	}
	if !utf8.Valid(b) {
		r.at -= len(b)
		return "", r.fail(what + " is no UTF-8")
	}
	return string(b), nil
}

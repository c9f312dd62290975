package protobuf

import (
	"errors"
	"slices"
	"strconv"
	"strings"

	"google.golang.org/protobuf/encoding/protojson"
	"google.golang.org/protobuf/reflect/protoreflect"

	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
)

// unknown is where bytes stand whose fields the file does not know.
const unknown = "@unknown"

// inJSON are the types that are written as the JSON mapping writes them.
var inJSON = map[protoreflect.FullName]bool{
	"google.protobuf.Timestamp": true, "google.protobuf.Duration": true, "google.protobuf.Struct": true,
	"google.protobuf.Value": true, "google.protobuf.ListValue": true,
}

// wraps tells whether a type is one that gives a scalar presence.
func wraps(d protoreflect.MessageDescriptor) bool {
	return d.ParentFile().Path() == "google/protobuf/wrappers.proto"
}

type reader struct{ nodes int }

func (r *reader) count() error {
	if r.nodes--; r.nodes < 0 {
		return errors.New("protobuf: it has more values than are allowed")
	}
	return nil
}

func (r *reader) message(m protoreflect.Message) (*message.Node, error) {
	if err := r.count(); err != nil {
		return nil, err
	}
	d := m.Descriptor()
	switch {
	case wraps(d):
		f := d.Fields().ByNumber(1)
		return r.single(f, m.Get(f))
	case inJSON[d.FullName()]:
		text, err := protojson.Marshal(m.Interface())
		if err != nil {
			return nil, errors.New("protobuf: " + plainly(err))
		}
		out, err := jsonfmt.DecodeWithin(text, jsonfmt.Limits{MaxDepth: 512, MaxNodes: r.nodes + 1})
		return out.Root, err
	}
	var members []message.Member
	for _, f := range fieldsOf(d) {
		if f.HasPresence() && !m.Has(f) {
			continue
		}
		v, err := r.field(f, m.Get(f))
		if err != nil {
			return nil, err
		}
		members = append(members, message.Member{Name: string(f.Name()), Value: v})
	}
	if b := m.GetUnknown(); len(b) > 0 {
		members = append(members, message.Member{Name: unknown, Value: message.NewBytes(b)})
	}
	return message.NewMap(members...), nil
}

func (r *reader) field(f protoreflect.FieldDescriptor, v protoreflect.Value) (*message.Node, error) {
	switch {
	case f.IsMap():
		return r.dict(f, v.Map())
	case f.IsList():
		out := message.NewList()
		for i := range v.List().Len() {
			one, err := r.single(f, v.List().Get(i))
			if err != nil {
				return nil, err
			}
			out.Items = append(out.Items, one)
		}
		return out, nil
	}
	return r.single(f, v)
}

// dict gives a map by its keys as texts, in their order: the wire has none.
func (r *reader) dict(f protoreflect.FieldDescriptor, m protoreflect.Map) (*message.Node, error) {
	var members []message.Member
	var err error
	m.Range(func(k protoreflect.MapKey, v protoreflect.Value) bool {
		var one *message.Node
		if one, err = r.single(f.MapValue(), v); err == nil {
			members = append(members, message.Member{Name: k.String(), Value: one})
		}
		return err == nil
	})
	slices.SortFunc(members, func(a, b message.Member) int { return strings.Compare(a.Name, b.Name) })
	return message.NewMap(members...), err
}

func (r *reader) single(f protoreflect.FieldDescriptor, v protoreflect.Value) (*message.Node, error) {
	if f.Message() != nil {
		return r.message(v.Message())
	}
	if err := r.count(); err != nil {
		return nil, err
	}
	switch f.Kind() {
	case protoreflect.BoolKind:
		return message.NewBool(v.Bool()), nil
	case protoreflect.StringKind:
		return message.NewString(v.String()), nil
	case protoreflect.BytesKind:
		return message.NewBytes(v.Bytes()), nil
	case protoreflect.EnumKind:
		if e := f.Enum().Values().ByNumber(v.Enum()); e != nil {
			return message.NewString(string(e.Name())), nil
		}
		return message.NewNumber(strconv.Itoa(int(v.Enum()))), nil
	case protoreflect.FloatKind:
		return message.NewFloat(v.Float(), 32), nil
	case protoreflect.DoubleKind:
		return message.NewFloat(v.Float(), 64), nil
	case protoreflect.Uint32Kind, protoreflect.Uint64Kind, protoreflect.Fixed32Kind, protoreflect.Fixed64Kind:
		return message.NewNumber(strconv.FormatUint(v.Uint(), 10)), nil
	}
	return message.NewNumber(strconv.FormatInt(v.Int(), 10)), nil
}

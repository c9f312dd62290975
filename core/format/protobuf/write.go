package protobuf

import (
	"encoding/base64"
	"fmt"
	"strconv"
	"strings"

	"google.golang.org/protobuf/encoding/protojson"
	"google.golang.org/protobuf/reflect/protoreflect"

	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
)

type writer struct{ path message.Steps }

// fail names the path of a value that the type does not take.
func (w *writer) fail(format string, args ...any) error {
	at := w.path.String()
	if at == "" {
		at = "the document"
	}
	return fmt.Errorf("protobuf, %s: %s", at, fmt.Sprintf(format, args...))
}

func (w *writer) under(name string, do func() error) error {
	w.path = append(w.path, name)
	err := do()
	w.path = w.path[:len(w.path)-1]
	return err
}

func (w *writer) message(m protoreflect.Message, n *message.Node) error {
	d := m.Descriptor()
	switch {
	case wraps(d):
		f := d.Fields().ByNumber(1)
		v, err := w.single(f, n, nil)
		if err == nil {
			m.Set(f, v)
		}
		return err
	case inJSON[d.FullName()]:
		if err := protojson.Unmarshal(jsonfmt.Encode(n), m.Interface()); err != nil {
			return w.fail("%s is no %s: %s", jsonfmt.Encode(n), d.Name(), plainly(err))
		}
		return nil
	}
	if n.Kind != message.Map {
		return w.fail("a %s was given, and the schema has the message %s", n.Kind, d.Name())
	}
	for _, one := range n.Members {
		if one.Name == unknown && one.Value.Kind == message.Bytes {
			m.SetUnknown([]byte(one.Value.Text))
			continue
		}
		f := d.Fields().ByName(protoreflect.Name(one.Name))
		if f == nil {
			f = d.Fields().ByJSONName(one.Name)
		}
		if f == nil {
			return w.fail("the message %s has no field %s; it has %s", d.Name(), one.Name, namesOf(d))
		}
		if o := f.ContainingOneof(); o != nil && !o.IsSynthetic() && m.WhichOneof(o) != nil &&
			one.Value.Kind != message.Null {
			return w.fail(
				"of %s there is one at a time, and %s is there beside %s",
				o.Name(),
				f.Name(),
				m.WhichOneof(o).Name(),
			)
		}
		if err := w.under(one.Name, func() error { return w.field(m, f, one.Value) }); err != nil {
			return err
		}
	}
	for _, f := range fieldsOf(d) {
		if f.Cardinality() == protoreflect.Required && !m.Has(f) {
			return w.fail("the field %s is missing", f.Name())
		}
	}
	return nil
}

func namesOf(d protoreflect.MessageDescriptor) string {
	var names []string
	for _, f := range fieldsOf(d) {
		names = append(names, string(f.Name()))
	}
	return strings.Join(names, ", ")
}

func (w *writer) field(m protoreflect.Message, f protoreflect.FieldDescriptor, n *message.Node) error {
	value := f.Message()
	if n.Kind == message.Null && !(value != nil && value.FullName() == "google.protobuf.Value") {
		return nil // it is not there
	}
	switch {
	case f.IsMap():
		return w.dict(m.Mutable(f).Map(), f, n)
	case f.IsList():
		if n.Kind != message.List {
			return w.fail("a %s was given, and the schema has a list", n.Kind)
		}
		list := m.Mutable(f).List()
		for i, item := range n.Items {
			if err := w.under(strconv.Itoa(i), func() error {
				v, err := w.single(f, item, list.NewElement)
				if err == nil {
					list.Append(v)
				}
				return err
			}); err != nil {
				return err
			}
		}
		return nil
	}
	v, err := w.single(f, n, func() protoreflect.Value { return m.NewField(f) })
	if err == nil {
		m.Set(f, v)
	}
	return err
}

func (w *writer) dict(m protoreflect.Map, f protoreflect.FieldDescriptor, n *message.Node) error {
	if n.Kind != message.Map {
		return w.fail("a %s was given, and the schema has a map", n.Kind)
	}
	for _, one := range n.Members {
		if err := w.under(one.Name, func() error {
			k, err := w.single(f.MapKey(), keyOf(f.MapKey(), one.Name), nil)
			if err != nil {
				return err
			}
			v, err := w.single(f.MapValue(), one.Value, m.NewValue)
			if err == nil {
				m.Set(k.MapKey(), v)
			}
			return err
		}); err != nil {
			return err
		}
	}
	return nil
}

// keyOf gives the name of a member as what a key's type takes.
func keyOf(f protoreflect.FieldDescriptor, name string) *message.Node {
	switch {
	case f.Kind() == protoreflect.StringKind:
		return message.NewString(name)
	case f.Kind() == protoreflect.BoolKind && (name == "true" || name == "false"):
		return message.NewBool(name == "true")
	}
	return message.NewNumber(name)
}

// single writes one value; fresh makes the message that it becomes, where it is one.
func (w *writer) single(f protoreflect.FieldDescriptor, n *message.Node, fresh func() protoreflect.Value) (
	protoreflect.Value, error,
) {
	unfit := func() (protoreflect.Value, error) {
		return protoreflect.Value{}, w.fail("a %s was given, and the schema has %s", n.Kind, f.Kind())
	}
	if f.Message() != nil {
		v := fresh()
		return v, w.message(v.Message(), n)
	}
	switch f.Kind() {
	case protoreflect.BoolKind:
		if n.Kind != message.Bool {
			return unfit()
		}
		return protoreflect.ValueOfBool(n.Text == "true"), nil
	case protoreflect.StringKind:
		if n.Kind != message.String {
			return unfit()
		}
		return protoreflect.ValueOfString(n.Text), nil
	case protoreflect.BytesKind:
		b, err := []byte(n.Text), error(nil)
		if n.Kind == message.String {
			b, err = base64.StdEncoding.DecodeString(n.Text)
		}
		if err != nil || n.Kind != message.Bytes && n.Kind != message.String {
			return unfit()
		}
		return protoreflect.ValueOfBytes(b), nil
	case protoreflect.EnumKind:
		return w.enum(f.Enum(), n)
	}
	return w.number(f.Kind(), n)
}

func (w *writer) enum(d protoreflect.EnumDescriptor, n *message.Node) (protoreflect.Value, error) {
	if n.Kind == message.String {
		if e := d.Values().ByName(protoreflect.Name(n.Text)); e != nil {
			return protoreflect.ValueOfEnum(e.Number()), nil
		}
	}
	if i, err := strconv.ParseInt(n.Text, 10, 32); err == nil && n.Kind == message.Number {
		return protoreflect.ValueOfEnum(protoreflect.EnumNumber(i)), nil
	}
	var names []string
	for i := range d.Values().Len() {
		names = append(names, string(d.Values().Get(i).Name()))
	}
	return protoreflect.Value{}, w.fail("the enum %s has no value %s; it has %s", d.Name(), jsonfmt.Encode(n),
		strings.Join(names, ", "))
}

func (w *writer) number(kind protoreflect.Kind, n *message.Node) (protoreflect.Value, error) {
	float := kind == protoreflect.FloatKind || kind == protoreflect.DoubleKind
	if n.Kind != message.Number && !(float && n.Kind == message.String) {
		return protoreflect.Value{}, w.fail("a %s was given, and the schema has %s", n.Kind, kind)
	}
	v, ok := numberOf(kind, n)
	if !ok {
		return v, w.fail("%s is no %s", n.Text, kind)
	}
	return v, nil
}

// numberOf reads a number of a kind exactly; false where it is none.
func numberOf(kind protoreflect.Kind, n *message.Node) (protoreflect.Value, bool) {
	switch kind {
	case protoreflect.FloatKind:
		f, ok := n.Float(32)
		return protoreflect.ValueOfFloat32(float32(f)), ok
	case protoreflect.DoubleKind:
		f, ok := n.Float(64)
		return protoreflect.ValueOfFloat64(f), ok
	case protoreflect.Int32Kind, protoreflect.Sint32Kind, protoreflect.Sfixed32Kind:
		v, err := strconv.ParseInt(n.Text, 10, 32)
		return protoreflect.ValueOfInt32(int32(v)), err == nil
	case protoreflect.Uint32Kind, protoreflect.Fixed32Kind:
		v, err := strconv.ParseUint(n.Text, 10, 32)
		return protoreflect.ValueOfUint32(uint32(v)), err == nil
	case protoreflect.Uint64Kind, protoreflect.Fixed64Kind:
		v, err := strconv.ParseUint(n.Text, 10, 64)
		return protoreflect.ValueOfUint64(v), err == nil
	}
	v, err := strconv.ParseInt(n.Text, 10, 64)
	return protoreflect.ValueOfInt64(v), err == nil
}

package protobuf

import (
	"errors"

	"google.golang.org/protobuf/encoding/protowire"
	"google.golang.org/protobuf/reflect/protoreflect"
)

var errMany = errors.New("it has more values than are allowed")

// bound counts the values of a message before any of them is made: two bytes may make a message
// of their own, and one byte a number of a list. left is how many there may still be.
func bound(src []byte, d protoreflect.MessageDescriptor, depth int, left *int) error {
	for len(src) > 0 {
		number, kind, n := protowire.ConsumeTag(src)
		if n < 0 || depth <= 0 {
			return nil // it cannot be read, and whoever reads it says why
		}
		size := protowire.ConsumeFieldValue(number, kind, src[n:])
		if size < 0 {
			return nil
		}
		if *left--; *left < 0 {
			return errMany
		}
		if f := d.Fields().ByNumber(number); f != nil {
			if err := inside(src[n:n+size], f, kind, depth, left); err != nil {
				return err
			}
		}
		src = src[n+size:]
	}
	return nil
}

// inside counts the values of a field that holds several.
func inside(value []byte, f protoreflect.FieldDescriptor, kind protowire.Type, depth int, left *int) error {
	switch {
	case kind == protowire.StartGroupType && f.Message() != nil:
		return bound(value, f.Message(), depth-1, left) // the mark of its end is no field of it
	case kind != protowire.BytesType:
		return nil
	}
	content, n := protowire.ConsumeBytes(value)
	switch {
	case n < 0:
		return nil
	case f.Message() != nil:
		return bound(content, f.Message(), depth-1, left)
	case f.IsList() && f.Kind() != protoreflect.StringKind && f.Kind() != protoreflect.BytesKind:
		*left -= packed(content, f.Kind())
	}
	if *left < 0 {
		return errMany
	}
	return nil
}

// packed counts the numbers of a list that stands in one field.
func packed(content []byte, kind protoreflect.Kind) (n int) {
	switch kind {
	case protoreflect.DoubleKind, protoreflect.Fixed64Kind, protoreflect.Sfixed64Kind:
		return len(content) / 8
	case protoreflect.FloatKind, protoreflect.Fixed32Kind, protoreflect.Sfixed32Kind:
		return len(content) / 4
	}
	for _, b := range content {
		if b < 0x80 {
			n++
		}
	}
	return n
}

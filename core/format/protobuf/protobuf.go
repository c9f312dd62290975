// Package protobuf reads and writes Protocol Buffers (the wire format of proto2, proto3 and
// editions) by a message type of a .proto file.
//
// A message becomes a map in the order of its fields' numbers, by the names that the file has.
// What a type without presence does not carry stands with its default, as the language says that
// it has that value; what has presence and is not there is left out. Numbers are exact, an enum
// is the name of its value (its number where it has none), bytes are bytes. Timestamp and
// Duration are texts as the JSON mapping has them, wrappers are the value itself, Struct, Value
// and ListValue what they hold. Fields that the file does not know stand, as the bytes they came
// in, under "@unknown", and are written again.
package protobuf

import (
	"context"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"

	"github.com/bufbuild/protocompile"
	"google.golang.org/protobuf/proto"
	"google.golang.org/protobuf/reflect/protoreflect"
	"google.golang.org/protobuf/types/dynamicpb"

	"readyferry/core/message"
)

// Schema reads and writes messages of one type. It implements message.Schema.
type Schema struct {
	of protoreflect.MessageDescriptor
}

// Parse compiles a file among a flow's and takes a message type of it: the one of that name, with
// or without the package; "" for the only one. What the file imports is looked for by its path
// among the files, and below the folder that the file is in.
func Parse(files map[string][]byte, name, typ string) (*Schema, error) {
	if _, there := files[name]; !there {
		return nil, fmt.Errorf("the flow has no file %s", name)
	}
	compiler := protocompile.Compiler{
		Resolver: protocompile.WithStandardImports(&protocompile.SourceResolver{
			Accessor: func(wanted string) (io.ReadCloser, error) {
				for _, at := range []string{wanted, path.Join(path.Dir(name), wanted), path.Join("schemas", wanted)} {
					if content, ok := files[at]; ok {
						return io.NopCloser(strings.NewReader(string(content))), nil
					}
				}
				return nil, fmt.Errorf("the flow has no file %s", wanted)
			},
		}),
		MaxParallelism: 1,
	}
	compiled, err := compile(&compiler, name)
	if err != nil {
		return nil, fmt.Errorf("the schema %s: %w", name, err)
	}
	messages := compiled.Messages()
	var names []string
	for i := range messages.Len() {
		names = append(names, string(messages.Get(i).FullName()))
	}
	switch {
	case typ == "" && len(names) == 1:
		return &Schema{messages.Get(0)}, nil
	case typ == "" && len(names) == 0:
		return nil, fmt.Errorf("the schema %s has no message types", name)
	case typ == "":
		return nil, fmt.Errorf(
			"the schema %s has several message types; name one under type: %s",
			name,
			strings.Join(names, ", "),
		)
	}
	for _, full := range []protoreflect.FullName{protoreflect.FullName(typ), compiled.Package().Append(protoreflect.Name(typ))} {
		if d := find(messages, full); d != nil {
			return &Schema{d}, nil
		}
	}
	return nil, fmt.Errorf("the schema %s has no message type %q; it has %s", name, typ, strings.Join(names, ", "))
}

func compile(c *protocompile.Compiler, name string) (d protoreflect.FileDescriptor, err error) {
	defer func() { // the parser must not take the process with it
		if r := recover(); r != nil {
			err = fmt.Errorf("it cannot be read: %v", r)
		}
	}()
	all, err := c.Compile(context.Background(), name)
	if err != nil {
		return nil, err
	}
	return all[0], nil
}

// find looks for a type, also inside of others.
func find(all protoreflect.MessageDescriptors, name protoreflect.FullName) protoreflect.MessageDescriptor {
	for i := range all.Len() {
		d := all.Get(i)
		if d.FullName() == name {
			return d
		}
		if strings.HasPrefix(string(name), string(d.FullName())+".") {
			return find(d.Messages(), name)
		}
	}
	return nil
}

// Decode implements message.Schema.
func (s *Schema) Decode(src []byte, depth, nodes int) (*message.Node, message.Schema, error) {
	if s == nil {
		return nil, nil, errors.New("protobuf: a message is read by a schema; name its file under schema")
	}
	left := nodes
	if err := bound(src, s.of, min(depth, 10_000), &left); err != nil {
		return nil, nil, &message.SyntaxError{Format: "Protocol Buffers", Line: 1, Column: 1, Problem: err.Error()}
	}
	m := dynamicpb.NewMessage(s.of)
	if err := (proto.UnmarshalOptions{AllowPartial: true, RecursionLimit: min(depth, 10_000)}).Unmarshal(src, m); err != nil {
		return nil, nil, &message.SyntaxError{Format: "Protocol Buffers", Line: 1, Column: 1,
			Problem: fmt.Sprintf("it is no message %s: %s", s.of.FullName(), plainly(err))}
	}
	r := &reader{nodes: nodes}
	n, err := r.message(m)
	if err == nil {
		if missing := proto.CheckInitialized(m); missing != nil {
			err = &message.SyntaxError{Format: "Protocol Buffers", Line: 1, Column: 1, Problem: plainly(missing)}
		}
	}
	return n, s, err
}

// plainly gives an error of the library without its mark.
func plainly(err error) string {
	return strings.TrimSpace(strings.TrimPrefix(strings.ReplaceAll(err.Error(), "\u00a0", " "), "proto:"))
}

// Encode implements message.Schema. Fields stand in the order of their numbers.
func (s *Schema) Encode(n *message.Node) ([]byte, error) {
	if s == nil {
		return nil, errors.New("protobuf: a message is written by a schema; name its file under schema")
	}
	m := dynamicpb.NewMessage(s.of)
	if err := (&writer{}).message(m, n); err != nil {
		return nil, err
	}
	return proto.MarshalOptions{Deterministic: true}.Marshal(m)
}

// fieldsOf gives the fields of a type in the order of their numbers.
func fieldsOf(d protoreflect.MessageDescriptor) []protoreflect.FieldDescriptor {
	out := make([]protoreflect.FieldDescriptor, d.Fields().Len())
	for i := range out {
		out[i] = d.Fields().Get(i)
	}
	slices.SortFunc(out, func(a, b protoreflect.FieldDescriptor) int { return int(a.Number()) - int(b.Number()) })
	return out
}

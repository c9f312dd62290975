package format

import (
	"fmt"
	"path"

	"readyferry/core/format/avro"
	"readyferry/core/format/protobuf"
	"readyferry/core/message"
)

// By says by which schema a binary format is read and written.
type By struct {
	File    string // of the flow
	Type    string // protobuf: the message type; "": the only one
	Framing string // avro: plain, single-object, numbered or container
	Number  uint32 // avro: of the schema, where the framing has numbers
}

// SchemaOf compiles the schema of a format; nil for one that has none, and for a format that is
// known by its Content-Type where the file is none of a binary format. No file: only Avro's
// container files can be read, which bring their own.
func SchemaOf(name string, files map[string][]byte, by By) (message.Schema, error) {
	if name == "" || name == "auto" {
		name = map[string]string{".avsc": Avro, ".proto": Protobuf}[path.Ext(by.File)]
	}
	switch {
	case name != Avro && name != Protobuf:
		return nil, nil
	case by.File == "" && name == Avro:
		return (*avro.Schema)(nil), nil
	case by.File == "":
		return nil, fmt.Errorf("%s is read and written by a schema", name)
	case name == Avro:
		return some(avro.Parse(files, by.File, avro.Framing(by.Framing), by.Number))
	}
	return some(protobuf.Parse(files, by.File, by.Type))
}

// some keeps a schema that could not be made from looking like one.
func some[S message.Schema](s S, err error) (message.Schema, error) {
	if err != nil {
		return nil, err
	}
	return s, nil
}

// decodeBySchema reads by the schema of the layout, where that is one of the format.
func decodeBySchema[S message.Schema](src []byte, l message.Layout, limits Limits) (Decoded, error) {
	s, _ := l.Schema.(S)
	n, by, err := s.Decode(src, limits.Depth, limits.Nodes)
	l.Schema = by
	return Decoded{Root: n, Layout: l}, err
}

func encodeBySchema[S message.Schema](n *message.Node, l message.Layout) ([]byte, error) {
	s, _ := l.Schema.(S)
	return s.Encode(n)
}

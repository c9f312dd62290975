// Package jsonl reads and writes JSON Lines (https://jsonlines.org): a JSON value a line, in
// UTF-8, over the document tree of core/message. The tree is the list of them. Empty lines are
// passed over; each value keeps what core/format/json keeps of one.
package jsonl

import (
	"bytes"
	"errors"
	"fmt"

	"readyferry/core/format/json"
	"readyferry/core/message"
)

// Decode reads lines. The error is a *message.SyntaxError that names the line of the text.
func Decode(src []byte, l json.Limits) (*message.Node, []string, error) {
	root := message.NewList()
	root.Offset = 0
	var duplicates []string
	for at, n := 0, 0; at < len(src); {
		n++
		line, start := src[at:], at
		if end := bytes.IndexByte(line, '\n'); end >= 0 {
			line = line[:end]
			at++
		}
		at += len(line)
		if len(bytes.TrimSpace(line)) == 0 {
			continue
		}
		r, err := json.DecodeWithin(line, l)
		var bad *message.SyntaxError
		if errors.As(err, &bad) {
			moved := *bad
			moved.Format, moved.Line, moved.Offset = "JSON Lines", n, bad.Offset+start
			return nil, nil, &moved
		}
		if err != nil {
			return nil, nil, err
		}
		duplicates = append(duplicates, r.Duplicates...)
		root.Items = append(root.Items, r.Root)
		if l.MaxNodes > 0 && len(root.Items) > l.MaxNodes {
			return nil, nil, &message.SyntaxError{Format: "JSON Lines", Line: n, Column: 1, Offset: start,
				Problem: fmt.Sprintf("the text has more than %d values", l.MaxNodes)}
		}
	}
	return root, duplicates, nil
}

// Encode writes each item of a list as a line; another value is one line.
func Encode(n *message.Node) []byte {
	items := []*message.Node{n}
	if n.Kind == message.List {
		items = n.Items
	}
	var b bytes.Buffer
	for _, item := range items {
		b.Write(json.Encode(item))
		b.WriteByte('\n')
	}
	return b.Bytes()
}

// Package fixed reads and writes text of fixed width: a record a line, each field so many
// characters wide, over the document tree of core/message. The tree is a list of rows, each a
// map of texts by the names of a stated layout.
//
// Characters are counted, not bytes. A field that stands at the left loses the blanks, or what
// else fills it, behind it; one at the right those before it. A line may be shorter than the
// layout: the fields that are not there are empty. What does not fit is an error, never cut.
package fixed

import (
	"bytes"
	"fmt"
	"strings"
	"unicode/utf8"

	"readyferry/core/message"
)

// Check says what is wrong with a layout, or nil.
func Check(columns []message.Column) error {
	known := map[string]bool{}
	for i, c := range columns {
		switch {
		case c.Name == "":
			return fmt.Errorf("column %d has no name", i+1)
		case known[c.Name]:
			return fmt.Errorf("two columns are named %q", c.Name)
		case c.Width < 1 || c.Width > 100_000:
			return fmt.Errorf("the column %s is %d characters wide; from 1 to 100000 can be", c.Name, c.Width)
		}
		known[c.Name] = true
	}
	if len(columns) == 0 {
		return fmt.Errorf("text of fixed width has a layout; name its columns with their widths")
	}
	return nil
}

func filler(c message.Column) string {
	if c.Fill == 0 {
		return " "
	}
	return string(c.Fill)
}

// Decode reads a text. The error is a *message.SyntaxError, or one of Check. lineEnd is that of
// the first line.
func Decode(src []byte, columns []message.Column, maxNodes int) (root *message.Node, lineEnd string, err error) {
	if err := Check(columns); err != nil {
		return nil, "", err
	}
	root = &message.Node{Kind: message.List}
	fail := func(n, column, at int, problem string) error {
		return &message.SyntaxError{Format: "fixed width", Line: n, Column: column, Offset: at, Problem: problem}
	}
	for at, n := 0, 1; at < len(src); n++ {
		line, end := src[at:], ""
		if i := bytes.IndexByte(line, '\n'); i >= 0 {
			line, end = line[:i], "\n"
		}
		if bytes.HasSuffix(line, []byte("\r")) {
			line, end = line[:len(line)-1], "\r"+end
		}
		if lineEnd == "" {
			lineEnd = end
		}
		if !utf8.Valid(line) {
			return nil, "", fail(n, 1, at, "the text is not UTF-8; say what it is with encoding, such as encoding: windows-1252")
		}
		if len(line) > 0 {
			row, left := cut(string(line), columns, at)
			if strings.TrimSpace(left) != "" {
				return nil, "", fail(n, utf8.RuneCount(line)-utf8.RuneCountInString(left)+1, at,
					"the line is longer than its columns")
			}
			root.Items = append(root.Items, row)
		}
		if maxNodes > 0 && len(root.Items)*(len(columns)+1) > maxNodes {
			return nil, "", fail(n, 1, at, fmt.Sprintf("the text has more than %d values", maxNodes))
		}
		at += len(line) + len(end)
	}
	return root, lineEnd, nil
}

// cut parts a line into its fields, and gives what is left behind them.
func cut(line string, columns []message.Column, at int) (*message.Node, string) {
	row := &message.Node{Kind: message.Map, Offset: at}
	for _, c := range columns {
		end := 0
		for range c.Width {
			if end == len(line) {
				break
			}
			_, size := utf8.DecodeRuneInString(line[end:])
			end += size
		}
		text := line[:end]
		if line = line[end:]; c.Right {
			text = strings.TrimLeft(text, filler(c))
		} else {
			text = strings.TrimRight(text, filler(c))
		}
		row.Members = append(row.Members, message.Member{Name: c.Name,
			Value: &message.Node{Kind: message.String, Offset: at, Text: text}})
		at += end
	}
	row.Seal()
	return row, line
}

// Encode writes a list of rows, each a map; one map is one row. Lines end with lineEnd, CRLF
// when it is "". The error names the row and column that a value does not fit into.
func Encode(n *message.Node, columns []message.Column, lineEnd string) ([]byte, error) {
	if err := Check(columns); err != nil {
		return nil, err
	}
	if lineEnd == "" {
		lineEnd = "\r\n"
	}
	rows := []*message.Node{n}
	if n.Kind == message.List {
		rows = n.Items
	}
	var b bytes.Buffer
	for i, row := range rows {
		if row.Kind != message.Map {
			return nil, fmt.Errorf("fixed width, row %d: a row is a map of columns, not a %s", i+1, row.Kind)
		}
		for _, m := range row.Members {
			if !known(columns, m.Name) {
				return nil, fmt.Errorf("fixed width, row %d: the layout has no column %q", i+1, m.Name)
			}
		}
		for _, c := range columns {
			field, err := field(row.Get(c.Name), c)
			if err != nil {
				return nil, fmt.Errorf("fixed width, row %d, column %s: %w", i+1, c.Name, err)
			}
			b.WriteString(field)
		}
		b.WriteString(lineEnd)
	}
	return b.Bytes(), nil
}

func known(columns []message.Column, name string) bool {
	for _, c := range columns {
		if c.Name == name {
			return true
		}
	}
	return false
}

func field(v *message.Node, c message.Column) (string, error) {
	text := ""
	if v != nil {
		var scalar bool
		if text, scalar = v.Scalar(); !scalar {
			return "", fmt.Errorf("a %s does not fit into a column", v.Kind)
		}
	}
	n := utf8.RuneCountInString(text)
	switch {
	case strings.ContainsAny(text, "\r\n"):
		return "", fmt.Errorf("a value with a line end would begin a new row")
	case n > c.Width:
		return "", fmt.Errorf("%q has %d characters, and %d fit", text, n, c.Width)
	case c.Right:
		return strings.Repeat(filler(c), c.Width-n) + text, nil
	}
	return text + strings.Repeat(filler(c), c.Width-n), nil
}

package records

import (
	"bufio"
	"bytes"
	"errors"
	"io"
)

// byteOrderMark may begin a file in UTF-8 (Unicode 16.0, 23.8); it is no part of a record.
const byteOrderMark = "\xEF\xBB\xBF"

// lines reads lines that end with LF or CRLF; those with nothing but spaces are none.
type lines struct {
	of io.Closer
	r  *bufio.Reader
	at Place
}

func openLines(source Source, at Place) (Reader, error) {
	f, err := source(at.Offset)
	if err != nil {
		return nil, err
	}
	return &lines{f, bufio.NewReaderSize(f, 256<<10), at}, nil
}

// Close implements Reader.
func (r *lines) Close() error { return r.of.Close() }

// Next implements Reader.
func (r *lines) Next() (Record, error) {
	behind := r.at
	for {
		line, err := upTo(r.r, func(b byte) bool { return b == '\n' })
		if errors.Is(err, errTooLarge) {
			return Record{}, &BrokenError{r.at, err.Error()}
		}
		if err != nil && (!errors.Is(err, io.EOF) || len(line) == 0) {
			return Record{}, err
		}
		if behind.Offset += int64(len(line)); behind.Offset == int64(len(line)) {
			line = bytes.TrimPrefix(line, []byte(byteOrderMark))
		}
		if line = bytes.TrimRight(line, "\r\n"); len(bytes.TrimSpace(line)) > 0 {
			behind.N++
			r.at = behind
			return Record{line, behind}, nil
		}
	}
}

// upTo reads up to a byte that ends something, and with it. io.EOF comes with what is left.
func upTo(r *bufio.Reader, ends func(b byte) bool) ([]byte, error) {
	var out []byte
	for {
		if _, err := r.Peek(1); err != nil {
			return out, err
		}
		some, _ := r.Peek(r.Buffered())
		n := bytes.IndexFunc(some, func(c rune) bool { return c < 0x80 && ends(byte(c)) }) + 1
		found := n > 0
		if !found {
			n = len(some)
		}
		out = append(out, some[:n]...)
		_, _ = r.Discard(n)
		if len(out) > Largest {
			return nil, errTooLarge
		}
		if found {
			return out, nil
		}
	}
}

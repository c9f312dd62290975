package records

import (
	"bufio"
	"encoding/json"
	"errors"
	"io"
)

// values reads the elements of a JSON array (RFC 8259), or JSON values one behind the other.
type values struct {
	of    io.Closer
	r     *json.Decoder
	limit *bounded
	base  int64 // where r began
	list  bool  // within the brackets
	at    Place
}

func openJSON(source Source) (Reader, error) {
	f, err := source(0)
	if err != nil {
		return nil, err
	}
	in, base := bufio.NewReaderSize(f, 256<<10), int64(0)
	if mark, _ := in.Peek(len(byteOrderMark)); string(mark) == byteOrderMark {
		base, _ = 3, skip(in, 3)
	}
	for {
		first, err := in.Peek(1)
		if err != nil && !errors.Is(err, io.EOF) {
			return nil, errors.Join(err, f.Close())
		}
		if len(first) == 1 && (first[0] == ' ' || first[0] == '\t' || first[0] == '\r' || first[0] == '\n') {
			base += int64(skip(in, 1))
			continue
		}
		limit := &bounded{Reader: in}
		limit.again()
		r := &values{of: f, r: json.NewDecoder(limit), limit: limit, base: base}
		if r.list = len(first) == 1 && first[0] == '['; r.list {
			if _, err := r.r.Token(); err != nil {
				return nil, errors.Join(err, f.Close())
			}
		}
		return r, nil
	}
}

// skip leaves out bytes that were looked at.
func skip(r *bufio.Reader, n int) int {
	n, _ = r.Discard(n)
	return n
}

// Close implements Reader.
func (r *values) Close() error { return r.of.Close() }

// Next implements Reader.
func (r *values) Next() (Record, error) {
	r.limit.again()
	if r.list && !r.r.More() {
		if _, err := r.r.Token(); err != nil {
			return Record{}, r.wrong(err)
		}
		r.list = false
	}
	var raw json.RawMessage
	if err := r.r.Decode(&raw); err != nil {
		return Record{}, r.wrong(err)
	}
	r.at = Place{r.base + r.r.InputOffset(), r.at.N + 1}
	return Record{raw, r.at}, nil
}

// wrong tells what is no JSON from what the source could not give.
func (r *values) wrong(err error) error {
	if r.list && errors.Is(err, io.EOF) {
		return &BrokenError{r.at, "the list does not end"}
	}
	var syntax *json.SyntaxError
	if errors.As(err, &syntax) || errors.Is(err, errTooLarge) || errors.Is(err, io.ErrUnexpectedEOF) {
		return &BrokenError{r.at, err.Error()}
	}
	return err
}

package records

import (
	"bufio"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"strings"
	"unicode/utf8"

	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
)

// rows reads CSV (RFC 4180) whose first row names the columns. A record is a JSON object
// of strings.
type rows struct {
	of      io.Closer
	r       *csv.Reader
	limit   *bounded
	base    int64 // where r began
	at      Place
	columns []string
}

func openCSV(source Source, separator rune, at Place) (Reader, error) {
	f, err := source(0)
	if err != nil {
		return nil, err
	}
	if separator == 0 {
		separator = ','
	}
	limit := &bounded{Reader: f}
	limit.again()
	head := csv.NewReader(limit)
	head.Comma, head.FieldsPerRecord = separator, -1
	columns, err := columnsOf(head)
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	if at.Offset == 0 {
		at.Offset = head.InputOffset()
	}
	if err := f.Close(); err != nil {
		return nil, err
	}
	if f, err = source(at.Offset); err != nil {
		return nil, err
	}
	limit = &bounded{Reader: bufio.NewReaderSize(f, 256<<10)}
	r := csv.NewReader(limit)
	r.Comma, r.FieldsPerRecord, r.ReuseRecord = separator, -1, true
	return &rows{f, r, limit, at.Offset, at, columns}, nil
}

// columnsOf reads the first row.
func columnsOf(head *csv.Reader) ([]string, error) {
	columns, err := head.Read()
	if err != nil {
		if errors.Is(err, io.EOF) {
			return nil, &BrokenError{Place{}, "it is empty; the first row names the columns"}
		}
		return nil, broken(Place{}, err)
	}
	columns[0] = strings.TrimPrefix(columns[0], byteOrderMark)
	seen := map[string]bool{}
	for _, c := range columns {
		if c == "" || seen[c] || !utf8.ValidString(c) {
			return nil, &BrokenError{Place{}, fmt.Sprintf("the first row must name each column once, in UTF-8; %q does not", c)}
		}
		seen[c] = true
	}
	return columns, nil
}

// broken tells what is wrong with what was read from what the source could not give.
func broken(at Place, err error) error {
	var wrong *csv.ParseError
	if errors.As(err, &wrong) {
		return &BrokenError{at, wrong.Err.Error()} // its lines would be counted from where it went on
	}
	if errors.Is(err, errTooLarge) {
		return &BrokenError{at, err.Error()}
	}
	return err
}

// Close implements Reader.
func (r *rows) Close() error { return r.of.Close() }

// Next implements Reader.
func (r *rows) Next() (Record, error) {
	r.limit.again()
	fields, err := r.r.Read()
	if err != nil {
		return Record{}, broken(r.at, err)
	}
	if len(fields) > len(r.columns) {
		return Record{}, &BrokenError{r.at, fmt.Sprintf("a row has %d fields, and the first row names %d columns",
			len(fields), len(r.columns))}
	}
	members := make([]message.Member, len(fields))
	for i, f := range fields {
		members[i] = message.Member{Name: r.columns[i], Value: message.NewString(strings.ToValidUTF8(f, "\uFFFD"))}
	}
	r.at = Place{r.base + r.r.InputOffset(), r.at.N + 1}
	return Record{jsonfmt.Encode(message.NewMap(members...)), r.at}, nil
}

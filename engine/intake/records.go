package intake

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"unicode/utf8"

	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
	"readyferry/core/want"
	"readyferry/store"
)

// record is one record of a bulk load.
type record struct {
	body []byte // JSON, as it becomes a message
	// Where the next one begins: bytes of the file, or the key of a row.
	offset int64
	last   []byte
}

// records reads the records of a load, one after the other, from where it
// stands. io.EOF ends them.
type records interface {
	next() (record, error)
	Close() error
}

// maxRecord is the largest record, in bytes.
const maxRecord = 16 << 20

// recordsOf opens the records of a load.
func (k *Intakes) recordsOf(l *store.Load) (records, error) {
	if l.Format == "query" {
		return &rowRecords{k: k, l: l, after: l.Last}, nil
	}
	f, err := os.Open(k.Store.LoadFile(l.ID))
	if err != nil {
		return nil, fmt.Errorf("the file of the load: %w", err)
	}
	if l.Format == "csv" {
		return openCSV(f, l.Offset)
	}
	if _, err := f.Seek(l.Offset, io.SeekStart); err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return &lineRecords{f: f, r: bufio.NewReaderSize(f, 256<<10), at: l.Offset}, nil
}

// lineRecords reads JSON lines: one JSON value a line.
type lineRecords struct {
	f  *os.File
	r  *bufio.Reader
	at int64
}

func (r *lineRecords) Close() error { return r.f.Close() }

func (r *lineRecords) next() (record, error) {
	for {
		var line []byte
		for {
			some, err := r.r.ReadSlice('\n')
			line = append(line, some...)
			r.at += int64(len(some))
			if len(line) > maxRecord {
				return record{}, fmt.Errorf("a line has more than %d bytes", maxRecord)
			}
			if errors.Is(err, bufio.ErrBufferFull) {
				continue
			}
			if err != nil && !errors.Is(err, io.EOF) {
				return record{}, err
			}
			if errors.Is(err, io.EOF) && len(line) == 0 {
				return record{}, io.EOF
			}
			break
		}
		line = bytes.TrimSpace(bytes.TrimPrefix(line, []byte("\xEF\xBB\xBF")))
		if len(line) > 0 {
			return record{body: line, offset: r.at}, nil
		}
	}
}

// csvRecords reads CSV (RFC 4180) whose first row names the columns.
type csvRecords struct {
	f       *os.File
	r       *csv.Reader
	base    int64
	columns []string
}

func openCSV(f *os.File, offset int64) (*csvRecords, error) {
	head := csv.NewReader(f)
	head.FieldsPerRecord = -1
	columns, err := head.Read()
	if err != nil {
		if errors.Is(err, io.EOF) {
			err = errors.New("it is empty; the first row names the columns")
		}
		return nil, errors.Join(err, f.Close())
	}
	columns[0] = strings.TrimPrefix(columns[0], "\uFEFF")
	seen := map[string]bool{}
	for _, c := range columns {
		if c == "" || seen[c] || !utf8.ValidString(c) {
			return nil, errors.Join(
				fmt.Errorf("the first row must name each column once, in UTF-8; %q does not", c),
				f.Close(),
			)
		}
		seen[c] = true
	}
	if offset == 0 {
		offset = head.InputOffset()
	}
	if _, err := f.Seek(offset, io.SeekStart); err != nil {
		return nil, errors.Join(err, f.Close())
	}
	r := csv.NewReader(bufio.NewReaderSize(f, 256<<10))
	r.FieldsPerRecord, r.ReuseRecord = -1, true
	return &csvRecords{f, r, offset, columns}, nil
}

func (r *csvRecords) Close() error { return r.f.Close() }

func (r *csvRecords) next() (record, error) {
	fields, err := r.r.Read()
	if err != nil {
		return record{}, err
	}
	if len(fields) > len(r.columns) {
		return record{}, fmt.Errorf(
			"a row has %d fields, and the first row names %d columns",
			len(fields),
			len(r.columns),
		)
	}
	members := make([]message.Member, len(fields))
	for i, f := range fields {
		members[i] = message.Member{Name: r.columns[i], Value: message.NewString(strings.ToValidUTF8(f, "\uFFFD"))}
	}
	return record{body: jsonfmt.Encode(message.NewMap(members...)), offset: r.base + r.r.InputOffset()}, nil
}

// rowPage is how many rows of a query are read at once.
const rowPage = 500

// rowRecords reads the rows of a query in the order of a column.
type rowRecords struct {
	k     *Intakes
	l     *store.Load
	after []byte
	page  []*message.Node
	ended bool
}

func (r *rowRecords) Close() error { return nil }

func (r *rowRecords) next() (record, error) {
	if len(r.page) == 0 {
		if r.ended {
			return record{}, io.EOF
		}
		conn := r.k.Catalog.Connection(r.l.Connection)
		if conn == nil {
			return record{}, fmt.Errorf("there is no connection named %s", r.l.Connection)
		}
		key := quotedName(conn, r.l.Key)
		q := &want.Query{
			Most: rowPage + 1,
			SQL:  fmt.Sprintf("SELECT * FROM (%s) AS loaded ORDER BY %s LIMIT %d", r.l.SQL, key, rowPage),
		}
		if len(r.after) > 0 {
			q.SQL = fmt.Sprintf(
				"SELECT * FROM (%s) AS loaded WHERE %s > :after ORDER BY %s LIMIT %d",
				r.l.SQL,
				key,
				key,
				rowPage,
			)
			q.Params = []want.QueryParameter{{Name: "after", Value: json.RawMessage(r.after)}}
		}
		var err error
		if r.page, err = r.k.query(conn, q); err != nil {
			return record{}, err
		}
		r.ended = len(r.page) < rowPage
		if len(r.page) == 0 {
			return record{}, io.EOF
		}
	}
	row := r.page[0]
	r.page = r.page[1:]
	k := row.Get(r.l.Key)
	if k == nil || k.Kind == message.Null {
		return record{}, fmt.Errorf("a row has no value in the column %s, by which the rows are read in order", r.l.Key)
	}
	r.after = jsonfmt.Encode(k)
	return record{body: jsonfmt.Encode(row), last: r.after}, nil
}

package intake

import (
	"bytes"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"

	"readyferry/connect/sql"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
	cut "readyferry/core/records"
	"readyferry/core/want"
	"readyferry/store"
)

// record is one record of a bulk load.
type record struct {
	body []byte // JSON, as it becomes a message
	// Where the next one begins: bytes of the file, or the key of a row.
	offset int64
	last   []byte
	// elsewhere tells that another partition has taken it.
	elsewhere bool
}

// records reads the records of a load, one after the other, from where it
// stands. io.EOF ends them.
type records interface {
	next() (record, error)
	Close() error
}

// recordsOf opens the records of a load.
func (k *Intakes) recordsOf(l *store.Load) (records, error) {
	if l.Format == "query" {
		return &rowRecords{k: k, l: l, at: readPlace(l.Last)}, nil
	}
	by := cut.Cutting{By: cut.Lines}
	if l.Format == "csv" {
		by.By = cut.CSV
	}
	if err := k.Store.BringLoadFile(l.ID); err != nil {
		return nil, fmt.Errorf("the file of the load: %w", err)
	}
	r, err := cut.Open(func(offset int64) (io.ReadCloser, error) {
		f, err := os.Open(k.Store.LoadFile(l.ID))
		if err != nil {
			return nil, fmt.Errorf("the file of the load: %w", err)
		}
		if _, err := f.Seek(offset, io.SeekStart); err != nil {
			return nil, errors.Join(err, f.Close())
		}
		return f, nil
	}, by, cut.Place{Offset: l.Offset, N: l.Read})
	if err != nil {
		return nil, plainly(err)
	}
	return fileRecords{r}, nil
}

// fileRecords reads JSON lines, or CSV whose first row names the columns.
type fileRecords struct{ cut.Reader }

func (r fileRecords) next() (record, error) {
	one, err := r.Next()
	return record{body: bytes.TrimSpace(one.Body), offset: one.Behind.Offset}, plainly(err)
}

// plainly leaves out where a file is broken: a load says that itself.
func plainly(err error) error {
	if broken := (*cut.BrokenError)(nil); errors.As(err, &broken) {
		return errors.New(broken.Reason)
	}
	return err
}

// rowPage is how many rows of a query are read at once.
const rowPage = 500

// mostTies is how many rows of a query may have the same value in the column by which
// they are read: all of them are remembered, so that none is lost and none comes twice.
const mostTies = 10_000

// rowRecords reads the rows of a query in the order of a column. Several rows may have
// the same value there, and a page may end among them: the next one begins with that
// value again and leaves out what was seen of it.
type rowRecords struct {
	k     *Intakes
	l     *store.Load
	at    rowPlace
	page  []pagedRow
	ended bool
}

// pagedRow is a row with its value in the column, as the database compares it.
type pagedRow struct {
	row *message.Node
	key []byte // JSON
}

// rowPlace is how far a query was read.
type rowPlace struct {
	After json.RawMessage `json:"after,omitempty"` // the value of the last row
	Seen  []string        `json:"seen,omitempty"`  // what the rows with that value were, as hashes
	// Behind lets the next row be one with another value: so places were kept before
	// several rows could have one.
	Behind bool `json:"behind,omitempty"`
}

func readPlace(b []byte) rowPlace {
	var p rowPlace
	if len(b) == 0 {
		return p
	}
	if b[0] != '{' || json.Unmarshal(b, &p) != nil {
		return rowPlace{After: b, Behind: true}
	}
	return p
}

func (r *rowRecords) Close() error { return nil }

func (r *rowRecords) next() (record, error) {
	for len(r.page) == 0 {
		if r.ended {
			return record{}, io.EOF
		}
		if err := r.read(); err != nil {
			return record{}, err
		}
	}
	row := r.page[0]
	r.page = r.page[1:]
	body := jsonfmt.Encode(row.row)
	if !bytes.Equal(r.at.After, row.key) {
		r.at = rowPlace{After: row.key}
	}
	if r.at.Seen = append(r.at.Seen, hashOf(body)); len(r.at.Seen) > mostTies {
		return record{}, fmt.Errorf(
			"more than %d rows have the value %s in the column %s; name one that tells the rows apart better",
			mostTies, row.key, r.l.Key,
		)
	}
	last, err := json.Marshal(r.at)
	return record{body: body, last: last}, err
}

func hashOf(b []byte) string {
	sum := sha256.Sum256(b)
	return base64.RawStdEncoding.EncodeToString(sum[:9])
}

// read reads a page.
func (r *rowRecords) read() error {
	conn := r.k.Catalog.Connection(r.l.Connection)
	if conn == nil {
		return fmt.Errorf("there is no connection named %s", r.l.Connection)
	}
	driver := conn.Text("/driver")
	key, columns := sql.Quoted(driver, r.l.Key), "loaded.*"
	if driver == sql.DriverSQLite {
		// The driver makes a time of what is declared as one; the comparison needs the
		// text as it is stored.
		columns += ", CAST(" + key + " AS TEXT) AS " + storedText
	}
	most := rowPage + len(r.at.Seen)
	q := &want.Query{Most: most + 1}
	where := ""
	if len(r.at.After) > 0 {
		compare := " >= "
		if r.at.Behind {
			compare = " > "
		}
		where = " WHERE " + key + compare + ":after"
		q.Params = []want.QueryParameter{{Name: "after", Value: r.at.After}}
	}
	q.SQL = fmt.Sprintf("SELECT %s FROM (%s) AS loaded%s ORDER BY %s", columns, r.l.SQL, where,
		key) + sql.Limit(driver, most)
	rows, err := r.k.query(conn, q)
	if err != nil {
		return err
	}
	r.ended = len(rows) < most
	seen := map[string]int{}
	for _, hash := range r.at.Seen {
		seen[hash]++
	}
	for _, row := range rows {
		paged, err := r.paged(row)
		if err != nil {
			return err
		}
		if hash := hashOf(jsonfmt.Encode(paged.row)); bytes.Equal(paged.key, r.at.After) && seen[hash] > 0 {
			seen[hash]--
			continue
		}
		r.page = append(r.page, paged)
	}
	return nil
}

// paged takes the value out by which rows are read in order.
func (r *rowRecords) paged(row *message.Node) (pagedRow, error) {
	value := row.Get(r.l.Key)
	if text := row.Get(storedText); text != nil {
		row = row.Without(storedText)
		if value != nil && value.Kind == message.String {
			value = text
		}
	}
	if value == nil || value.Kind == message.Null {
		return pagedRow{}, fmt.Errorf(
			"a row has no value in the column %s, by which the rows are read in order", r.l.Key,
		)
	}
	return pagedRow{row, jsonfmt.Encode(value)}, nil
}

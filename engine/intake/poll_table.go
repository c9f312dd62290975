package intake

import (
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"readyferry/connect"
	"readyferry/connect/sql"
	"readyferry/core/flow"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
	"readyferry/core/want"
	"readyferry/engine/catalog"
	"readyferry/engine/journal"
	"readyferry/store"
)

// storedText names a column that a poll adds to a query.
const storedText = "readyferry_stored_text"

// mostKeys is how many rows a table may have whose deleted rows are looked for.
const mostKeys = 500_000

// polledRow is a row that a poll has read.
type polledRow struct {
	key, changed *message.Node
	keyText      string
	hash         []byte
	row          *message.Node
	event        string
}

// pollTable reads new and changed rows of a table. Rows with the change time of
// the mark are read again, because others may have come since with the same
// time; what a row was like when it was last seen tells whether it has changed.
//
// A row may also be committed after others that stand behind it: whoever wrote it took
// its number or its time before, and was slower. So what lies between where the poll
// stood a while ago and where it stands now is read again, too.
func (k *Intakes) pollTable(f *catalog.Flow, c store.Clock) error {
	in := &f.Live.Document.Intake
	conn := k.Catalog.Connection(in.Of)
	if conn == nil {
		return fmt.Errorf("there is no SQL connection named %s", in.Of)
	}
	marks := readMarks(c.Marks)
	if floor := marks.floor(k.Now(), in.Late); in.Late > 0 && floor != nil && string(floor.Mark) != string(c.Mark) {
		if _, err := k.pollSpan(f, conn, span{from: floor.Mark, until: c.Mark}, false); err != nil {
			return err
		}
	}
	first := len(c.Mark) == 0
	ends, err := k.pollSpan(f, conn, span{from: c.Mark}, first && in.Begin.Latest)
	if err != nil {
		return err
	}
	if err := k.noteMarks(f, marks, ends, first); err != nil {
		return err
	}
	if in.Deleted {
		return k.pollDeleted(f, conn)
	}
	return nil
}

// span is a part of a table: behind a mark, and with until up to another one.
type span struct {
	from, until json.RawMessage // nil: without a bound
	key         json.RawMessage // of rows with the change time of from, the last one that was read
}

// pollSpan reads a part of a table and takes what is new in it; silent only notes it.
// A part without an end moves the mark. ends are the marks behind each batch.
func (k *Intakes) pollSpan(
	f *catalog.Flow,
	conn *connect.Connection,
	s span,
	silent bool,
) (ends []json.RawMessage, err error) {
	in := &f.Live.Document.Intake
	for {
		rows, err := k.readRows(conn, in, s)
		if err != nil {
			return ends, err
		}
		if len(rows) == 0 {
			return ends, nil
		}
		last := rows[len(rows)-1]
		for begin := rows; len(begin) > 0; { // some at a time, each with the mark behind them
			some := begin[:min(len(begin), atOneGo)]
			begin = begin[len(some):]
			if err := k.takeRows(f, some, silent, s.until == nil); err != nil {
				return ends, err
			}
		}
		if s.from, s.key = jsonfmt.Encode(last.key), nil; in.Changed != "" {
			s.from, s.key = jsonfmt.Encode(last.changed), jsonfmt.Encode(last.key)
		}
		ends = append(ends[max(0, len(ends)-1):], s.from)
		if len(rows) < in.Most || k.Life.Ending() {
			return ends, nil
		}
	}
}

// marks are where a poll stood at some moments, the oldest first.
type marks []markAt

type markAt struct {
	At   int64           `json:"at"` // microseconds since 1970
	Mark json.RawMessage `json:"mark"`
}

func readMarks(b []byte) (m marks) {
	if len(b) == 0 || json.Unmarshal(b, &m) != nil {
		return nil
	}
	return m
}

// floor gives where the poll stood so long ago; nil where that is not known.
func (m marks) floor(now time.Time, late time.Duration) *markAt {
	var found *markAt
	for i := range m {
		if found == nil || m[i].At <= now.Add(-late).UnixMicro() {
			found = &m[i]
		}
	}
	return found
}

// keptMarks is how many moments are kept.
const keptMarks = 64

// noteMarks keeps where the poll stands now, and forgets what no row can be behind any
// more. ends are the marks behind the last two batches.
func (k *Intakes) noteMarks(f *catalog.Flow, m marks, ends []json.RawMessage, first bool) error {
	in, now := &f.Live.Document.Intake, k.Now()
	if in.Late == 0 {
		return nil
	}
	if first && len(ends) > 0 { // among the rows of the very first poll others may still come
		old := markAt{At: now.Add(-in.Late).UnixMicro(), Mark: json.RawMessage("null")}
		if len(ends) > 1 {
			old.Mark = ends[0]
		}
		m = append(m, old)
	}
	var gone time.Time
	return k.Store.Write(k.Life.Taking(), func(tx *store.Tx) error {
		c, err := tx.Clock(f.Name)
		if err != nil || len(c.Mark) == 0 {
			return err
		}
		m := append(m[:len(m):len(m)], markAt{now.UnixMicro(), c.Mark})
		floor := m.floor(now, in.Late)
		for len(m) > 1 && m[0].At < floor.At || len(m) > keptMarks {
			m = m[1:]
		}
		if c.Marks, err = json.Marshal(m); err != nil {
			return err
		}
		if gone = time.UnixMicro(m[0].At).Add(-time.Minute); in.Changed == "" {
			if _, err := tx.ForgetSeen(f.Name, gone, stageBatch); err != nil {
				return err
			}
		}
		return tx.SaveClock(&c)
	})
}

// readRows reads the next rows of a part, in order.
func (k *Intakes) readRows(conn *connect.Connection, in *flow.Intake, s span) ([]polledRow, error) {
	name, key, changed, most, driver := in.Table, in.Key, in.Changed, in.Most, conn.Text("/driver")
	by := sql.Quoted(driver, key)
	q := &want.Query{Most: most + 1}
	var where []string
	order, at := by, by
	if changed != "" {
		at = sql.Quoted(driver, changed)
		order = at + ", " + by
	}
	bound := func(condition, name string, value json.RawMessage) {
		where = append(where, condition)
		q.Params = append(q.Params, want.QueryParameter{Name: name, Value: value})
	}
	switch {
	case len(s.from) == 0 || string(s.from) == "null":
	case changed == "":
		bound(by+" > :mark", "mark", s.from)
	case s.key == nil:
		bound(at+" >= :mark", "mark", s.from)
	default:
		bound("("+at+" > :mark OR "+at+" = :mark AND "+by+" > :key)", "mark", s.from)
		q.Params = append(q.Params, want.QueryParameter{Name: "key", Value: s.key})
	}
	if s.until != nil {
		bound(at+" <= :until", "until", s.until)
	}
	condition := ""
	if len(where) > 0 {
		condition = " WHERE " + strings.Join(where, " AND ")
	}
	columns := "*"
	if changed != "" && driver == sql.DriverSQLite {
		// The driver makes a time of what is declared as one; the comparison needs
		// the text as it is stored.
		columns += ", CAST(" + sql.Quoted(driver, changed) + " AS TEXT) AS " + storedText
	}
	q.SQL = fmt.Sprintf("SELECT %s FROM %s%s ORDER BY %s", columns, sql.QuotedTable(driver, name), condition, order) + sql.Limit(driver, most)
	list, err := k.query(conn, q)
	if err != nil {
		return nil, err
	}
	rows := make([]polledRow, len(list))
	for i, row := range list {
		r := polledRow{row: row, key: row.Get(key), changed: row.Get(changed)}
		if text := row.Get(storedText); text != nil {
			if r.row = row.Without(storedText); r.changed != nil && r.changed.Kind == message.String {
				r.changed = text
			}
			row = r.row
		}
		if r.key == nil || r.key.Kind == message.Null {
			return nil, fmt.Errorf("a row of %s has no value in the column %s, which tells rows apart", name, key)
		}
		if changed != "" && (r.changed == nil || r.changed.Kind == message.Null) {
			return nil, fmt.Errorf(
				"a row of %s has no value in the column %s, which says when it changed",
				name,
				changed,
			)
		}
		sum := sha256.Sum256(jsonfmt.Encode(row))
		r.keyText, r.hash = string(jsonfmt.Encode(r.key)), sum[:]
		rows[i] = r
	}
	return rows, nil
}

func (k *Intakes) query(conn *connect.Connection, q *want.Query) ([]*message.Node, error) {
	_, content, err := k.ask(conn, connect.Request{Request: want.Request{Query: q}})
	if err != nil {
		return nil, err
	}
	r, err := jsonfmt.Decode(content)
	if err != nil {
		return nil, fmt.Errorf("the answer of %s cannot be read: %w", conn.Name, err)
	}
	if r.Root.Kind != message.List {
		return nil, fmt.Errorf("the answer of %s is a %s, not a list of rows", conn.Name, r.Root.Kind)
	}
	return r.Root.Items, nil
}

// takeRows takes a message for each row that is new or has changed. silent only
// notes them; moves lets the mark stand behind them.
func (k *Intakes) takeRows(f *catalog.Flow, rows []polledRow, silent, moves bool) error {
	in := &f.Live.Document.Intake
	changes := in.Changed != ""
	keys := make([]string, len(rows))
	for i, r := range rows {
		keys[i] = r.keyText
	}
	known, err := k.Store.Polled(f.Name, keys)
	if err != nil {
		return err
	}
	var fresh []polledRow
	for _, r := range rows {
		was, seen := known[r.keyText]
		if seen && (!changes || was == string(r.hash)) {
			continue
		}
		if r.event = "created"; seen {
			r.event = "updated"
		}
		fresh = append(fresh, r)
	}
	last := rows[len(rows)-1]
	n := len(fresh)
	if silent {
		n = 0
	}
	if n == 0 && len(fresh) == 0 && !moves {
		return nil
	}
	return k.takeAll(
		f,
		n,
		func(i int) (journal.Arrival, error) { return rowMessage(f, fresh[i]), nil },
		func(tx *store.Tx, c *store.Clock) error {
			if moves {
				if c.Mark, c.MarkKey = jsonfmt.Encode(last.key), nil; changes {
					c.Mark, c.MarkKey = jsonfmt.Encode(last.changed), jsonfmt.Encode(last.key)
				}
			}
			if !changes && in.Late == 0 {
				return nil
			}
			seen, now := make([]store.PolledRow, len(fresh)), k.Now()
			for i, r := range fresh {
				seen[i] = store.PolledRow{Flow: f.Name, Key: r.keyText, Hash: r.hash, SeenAt: now}
			}
			return tx.SavePolled(seen)
		},
	)
}

func rowMessage(f *catalog.Flow, r polledRow) journal.Arrival {
	in := &f.Live.Document.Intake
	row := r.row
	if row == nil {
		row = message.NewNull()
	}
	body := jsonfmt.Encode(message.NewMap(
		message.Member{Name: "event", Value: message.NewString(r.event)},
		message.Member{Name: "key", Value: r.key},
		message.Member{Name: "row", Value: row},
	))
	return journal.Arrival{Headers: []byte("[]"), Body: body, Source: "table " + in.Table + " of " + in.Of}
}

// pollDeleted looks for rows that were there and are gone.
func (k *Intakes) pollDeleted(f *catalog.Flow, conn *connect.Connection) error {
	in, driver := &f.Live.Document.Intake, conn.Text("/driver")
	there := map[string]bool{}
	var after json.RawMessage
	for {
		q := &want.Query{
			Most: 5001,
			SQL: fmt.Sprintf("SELECT %[1]s AS k FROM %[2]s ORDER BY %[1]s", sql.Quoted(driver, in.Key),
				sql.QuotedTable(driver, in.Table)) + sql.Limit(driver, 5000),
		}
		if after != nil {
			q.SQL = fmt.Sprintf("SELECT %[1]s AS k FROM %[2]s WHERE %[1]s > :after ORDER BY %[1]s", sql.Quoted(driver, in.Key),
				sql.QuotedTable(driver, in.Table)) + sql.Limit(driver, 5000)
			q.Params = []want.QueryParameter{{Name: "after", Value: after}}
		}
		rows, err := k.query(conn, q)
		if err != nil {
			return err
		}
		for _, r := range rows {
			after = jsonfmt.Encode(r.Get("k"))
			there[string(after)] = true
		}
		if len(there) > mostKeys {
			return fmt.Errorf(
				"the table %s has more than %d rows, too many to look for those that are gone",
				in.Table,
				mostKeys,
			)
		}
		if len(rows) < 5000 {
			break
		}
	}
	last := ""
	for {
		keys, err := k.Store.PolledKeys(f.Name, last, 1000)
		if err != nil || len(keys) == 0 {
			return err
		}
		last = keys[len(keys)-1]
		var gone []string
		for _, k := range keys {
			if !there[k] {
				gone = append(gone, k)
			}
		}
		if len(gone) == 0 {
			continue
		}
		err = k.takeAll(f, len(gone), func(i int) (journal.Arrival, error) {
			key, err := jsonfmt.Decode([]byte(gone[i]))
			if err != nil {
				return journal.Arrival{}, err
			}
			return rowMessage(f, polledRow{key: key.Root, event: "deleted"}), nil
		}, func(tx *store.Tx, _ *store.Clock) error { return tx.ForgetPolled(f.Name, gone) })
		if err != nil {
			return err
		}
	}
}

package intake

import (
	"crypto/sha256"
	"encoding/json"
	"fmt"

	"readyferry/connect"
	"readyferry/connect/sql"
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
func (k *Intakes) pollTable(f *catalog.Flow, c store.Clock) error {
	in := &f.Live.Document.Intake
	conn := k.Catalog.Connection(in.Of)
	if conn == nil {
		return fmt.Errorf("there is no SQL connection named %s", in.Of)
	}
	first := len(c.Mark) == 0
	mark, markKey := json.RawMessage(c.Mark), json.RawMessage(nil)
	for {
		rows, err := k.readRows(conn, in.Table, in.Key, in.Changed, in.Most, mark, markKey)
		if err != nil {
			return err
		}
		if len(rows) == 0 {
			break
		}
		last := rows[len(rows)-1]
		if err := k.takeRows(f, rows, first && in.Begin.Latest, in.Changed != ""); err != nil {
			return err
		}
		mark, markKey = jsonfmt.Encode(last.key), nil
		if in.Changed != "" {
			mark, markKey = jsonfmt.Encode(last.changed), jsonfmt.Encode(last.key)
		}
		if len(rows) < in.Most || k.Life.Over() {
			break
		}
	}
	if in.Deleted {
		return k.pollDeleted(f, conn)
	}
	return nil
}

// readRows reads the rows behind a mark, in order.
func (k *Intakes) readRows(
	conn *connect.Connection,
	name, key, changed string,
	most int,
	mark, markKey json.RawMessage,
) ([]polledRow, error) {
	by := quotedName(conn, key)
	q := &want.Query{Most: most + 1}
	where, order := "", by
	if changed != "" {
		order = quotedName(conn, changed) + ", " + by
	}
	switch {
	case len(mark) == 0:
	case changed == "":
		where = " WHERE " + by + " > :mark"
	case markKey == nil:
		where = " WHERE " + quotedName(conn, changed) + " >= :mark"
	default:
		where = " WHERE (" + quotedName(
			conn,
			changed,
		) + " > :mark OR " + quotedName(
			conn,
			changed,
		) + " = :mark AND " + by + " > :key)"
		q.Params = append(q.Params, want.QueryParameter{Name: "key", Value: markKey})
	}
	if len(mark) > 0 {
		q.Params = append(q.Params, want.QueryParameter{Name: "mark", Value: mark})
	}
	columns := "*"
	if changed != "" && conn.Text("/driver") == sql.DriverSQLite {
		// The driver makes a time of what is declared as one; the comparison needs
		// the text as it is stored.
		columns += ", CAST(" + quotedName(conn, changed) + " AS TEXT) AS " + storedText
	}
	q.SQL = fmt.Sprintf("SELECT %s FROM %s%s ORDER BY %s LIMIT %d", columns, quotedName(conn, name), where, order, most)
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
// notes them.
func (k *Intakes) takeRows(f *catalog.Flow, rows []polledRow, silent, changes bool) error {
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
		if seen && was == string(r.hash) {
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
	return k.takeAll(
		f,
		n,
		func(i int) (journal.Arrival, error) { return rowMessage(f, fresh[i]), nil },
		func(tx *store.Tx, c *store.Clock) error {
			c.Mark = jsonfmt.Encode(last.key)
			if !changes {
				return nil
			}
			c.Mark, c.MarkKey = jsonfmt.Encode(last.changed), jsonfmt.Encode(last.key)
			seen := make([]store.PolledRow, len(fresh))
			for i, r := range fresh {
				seen[i] = store.PolledRow{Flow: f.Name, Key: r.keyText, Hash: r.hash}
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
	in := &f.Live.Document.Intake
	there := map[string]bool{}
	var after json.RawMessage
	for {
		q := &want.Query{
			Most: 5001,
			SQL: fmt.Sprintf(
				"SELECT %[1]s AS k FROM %[2]s ORDER BY %[1]s LIMIT 5000",
				quotedName(conn, in.Key),
				quotedName(conn, in.Table),
			),
		}
		if after != nil {
			q.SQL = fmt.Sprintf(
				"SELECT %[1]s AS k FROM %[2]s WHERE %[1]s > :after ORDER BY %[1]s LIMIT 5000",
				quotedName(conn, in.Key),
				quotedName(conn, in.Table),
			)
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

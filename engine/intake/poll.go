package intake

import (
	"crypto/sha256"
	"encoding/json"
	"fmt"

	"readyferry/connect"
	"readyferry/connect/sql"
	"readyferry/core/expr"
	"readyferry/core/format"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
	"readyferry/core/retry"
	"readyferry/core/step"
	"readyferry/core/table"
	"readyferry/core/want"
	"readyferry/engine/catalog"
	"readyferry/engine/journal"
	"readyferry/store"
)

// mostItems is how many items one answer to a poll may hold.
const mostItems = 10_000

// pollHTTP asks a system for what is new, and takes each item as a message. The
// items and the mark behind them are kept in one database transaction: after a
// crash nothing is missing and nothing comes twice.
func (k *Intakes) pollHTTP(f *catalog.Flow, c store.Clock) error {
	p, in := f.Live.Poll, &f.Live.Document.Intake
	conn := k.Catalog.Connection(in.Of)
	if conn == nil {
		return fmt.Errorf("there is no connection named %s", in.Of)
	}
	mark := message.NewString(in.First)
	if len(c.Mark) > 0 {
		if r, err := jsonfmt.Decode(c.Mark); err == nil {
			mark = r.Root
		}
	}
	scope := func(body, headers, item *message.Node) *expr.Scope {
		return &expr.Scope{
			Body:    body,
			Headers: headers,
			Now:     k.Now(),
			Seed:    f.Name + "/poll",
			Locals:  map[string]*message.Node{"mark": mark, "item": item},
		}
	}
	none := message.NewNull()
	req := connect.Request{Request: want.Request{Method: "GET"}}
	var err error
	if req.Path, err = p.Path.Eval(scope(none, message.NewMap(), none)); err != nil {
		return fmt.Errorf("path: %w", err)
	}
	for _, h := range p.Headers {
		v, err := h.Value.Eval(scope(none, message.NewMap(), none))
		if err != nil {
			return fmt.Errorf("headers/%s: %w", h.Name, err)
		}
		req.Headers = append(req.Headers, message.Header{Name: h.Name, Value: v})
	}
	answer, content, err := k.ask(conn, req)
	if err != nil {
		return err
	}
	if status := answer.Status(); status == 204 || status == 304 {
		return nil
	} else if status < 200 || status > 299 {
		return fmt.Errorf("%s answered %d", in.Of, status)
	}
	headers := message.HeaderMap(answer.Headers)
	kind := headers.Get("content-type")
	d, err := format.Decode(
		step.FormatOf("auto", kind, content),
		content,
		message.Layout{Charset: step.Charset(kind)},
		format.Limits{},
	)
	if err != nil {
		return fmt.Errorf("the answer of %s cannot be read: %w", in.Of, err)
	}
	list, err := p.Each.Eval(scope(d.Root, headers, none))
	if err != nil {
		return fmt.Errorf("each: %w", err)
	}
	if list.Kind == message.Null {
		list = message.NewList()
	}
	if list.Kind != message.List || len(list.Items) > mostItems {
		return fmt.Errorf(
			"each: %s is a %s of %d; it must be a list of at most %d items",
			p.Each.Source,
			list.Kind,
			len(list.Items),
			mostItems,
		)
	}
	next := mark
	if p.Mark != nil && !p.PerItem {
		if next, err = p.Mark.Eval(scope(d.Root, headers, none)); err != nil {
			return fmt.Errorf("mark: %w", err)
		}
	}
	if p.PerItem {
		for i, item := range list.Items {
			m, err := p.Mark.Eval(scope(d.Root, headers, item))
			if err != nil {
				return fmt.Errorf("mark of item %d: %w", i+1, err)
			}
			if further(m, next) {
				next = m
			}
		}
	}
	return k.takeAll(f, len(list.Items), func(i int) (journal.Arrival, error) {
		return journal.Arrival{
			Headers: []byte("[]"),
			Body:    jsonfmt.Encode(list.Items[i]),
			Source:  "poll of " + in.Of,
		}, nil
	}, func(_ *store.Tx, c *store.Clock) error {
		c.Mark = jsonfmt.Encode(next)
		return nil
	})
}

// further tells whether a mark lies beyond another.
func further(a, b *message.Node) bool {
	x, okX := a.Scalar()
	y, okY := b.Scalar()
	return okX && a.Kind != message.Null && (!okY || y == "" || table.SortKey(x) > table.SortKey(y))
}

// takeAll takes messages and notes how far the clock has come, all in one
// database transaction.
func (k *Intakes) takeAll(
	f *catalog.Flow,
	n int,
	make func(i int) (journal.Arrival, error),
	come func(tx *store.Tx, c *store.Clock) error,
) error {
	return k.Do(k.Life.Context(), f.Name, func(s *journal.Session) error {
		for i := range n {
			a, err := make(i)
			if err != nil {
				return err
			}
			if err := s.Take(f, a, nil, nil); err != nil {
				return err
			}
		}
		s.Then(func(tx *store.Tx, _ *journal.Notice) error {
			c, err := tx.Clock(f.Name)
			if err != nil {
				return err
			}
			c.Taken += int64(n)
			if err := come(tx, &c); err != nil {
				return err
			}
			return tx.SaveClock(&c)
		})
		return nil
	})
}

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

// storedText names a column that a poll adds to a query.
const storedText = "readyferry_stored_text"

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

// ask asks a system once; the answer's body is read.
func (k *Intakes) ask(conn *connect.Connection, r connect.Request) (connect.Receipt, []byte, error) {
	link, err := k.links.Link(k.Life.Context(), conn)
	if err != nil {
		return connect.Receipt{}, nil, err
	}
	asker, ok := link.(connect.Asker)
	if !ok {
		return connect.Receipt{}, nil, fmt.Errorf(
			"%w: the connection %s is of kind %s, which cannot be asked",
			connect.ErrCannotSend,
			conn.Name,
			conn.Kind,
		)
	}
	r.Rules = retry.Default()
	answer, err := asker.Ask(k.Life.Context(), r)
	if err != nil {
		return connect.Receipt{}, nil, err
	}
	content, err := answer.Body()
	return answer, content, err
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

// mostKeys is how many rows a table may have whose deleted rows are looked for.
const mostKeys = 500_000

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

package sql

import (
	"context"
	"errors"
	"fmt"
	"net/url"

	"readyferry/connect"
	"readyferry/connect/reach"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
	"readyferry/core/want"
)

// Check implements connect.Link: the server is reached, signed in to, and asked.
func (l *link) Check(ctx context.Context) (connect.Report, error) {
	var w reach.Way
	if err := l.reached(ctx, &w); err != nil {
		return w.Report(err, "", "signing in", "asking"), nil
	}
	a, err := l.query(ctx, &want.Query{SQL: "SELECT 1 AS answer", Most: 1}, nil)
	if err != nil {
		return w.Report(&reach.Error{Step: "signing in and asking", Err: err,
			Repair: "look at the user, the password, the name of the database, and what the server permits"}, ""), nil
	}
	if _, server := servers[l.driver]; server {
		w.Did("signed in to the database")
	}
	w.Did("it answers")
	if names, err := l.List(ctx, "table"); err == nil {
		w.Did("there are %d tables and views", len(names))
	}
	if writes(l.c) {
		w.Did("statements may change it")
	} else {
		w.Did("statements may only read")
	}
	out := w.Report(nil, "it answers with 200")
	out.Code, out.Answer = "200", jsonfmt.Encode(a.rows)
	return out, nil
}

// reached tries the way to a server, with nothing said on it.
func (l *link) reached(ctx context.Context, w *reach.Way) error {
	if _, server := servers[l.driver]; !server {
		return nil
	}
	u, err := url.Parse(l.c.Address)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, l.c.TimeLimit)
	defer cancel()
	conn, err := reach.DialAt(ctx, l.c, at(u, l.driver), false, w)
	if err != nil {
		return err
	}
	return conn.Close()
}

// Peek implements connect.Peeker: the first row of a table is read, as a poll of it would
// bring it.
func (l *link) Peek(ctx context.Context, in connect.Settings) (*connect.Arrival, error) {
	text := func(name string) string {
		if n := in.Get(name); n != nil {
			return n.Text
		}
		return ""
	}
	table, key := text("table"), text("key")
	if table == "" || key == "" {
		return nil, errors.New("the intake names no table, or no key")
	}
	a, err := l.query(ctx, &want.Query{Most: 2, SQL: fmt.Sprintf("SELECT * FROM %s ORDER BY %s", QuotedTable(l.driver,
		table),
		Quoted(l.driver, key)) + Limit(l.driver, 1)}, nil)
	if err != nil {
		return nil, err
	}
	if len(a.rows.Items) == 0 {
		return nil, fmt.Errorf("the table %s has no row", table)
	}
	row := a.rows.Items[0]
	value := row.Get(key)
	if value == nil {
		value = message.NewNull()
	}
	return &connect.Arrival{Headers: []message.Header{{Name: "content-type", Value: "application/json"}},
		Body: jsonfmt.Encode(message.NewMap(message.Member{Name: "event", Value: message.NewString("created")},
			message.Member{Name: "key", Value: value}, message.Member{Name: "row", Value: row}))}, nil
}

package sql

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"strings"

	"readyferry/connect"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
	"readyferry/core/retry"
	"readyferry/core/want"
)

// deliverSchema is what a delivery to a database says: a change of one row by its columns,
// or a statement.
const deliverSchema = `{"properties": {
	"table": {"type": "string", "title": "Table", "offers": true, "maxLength": 300, "description": "with its schema before a dot where it has one",
		"examples": ["loans"]},
	"change": {"enum": ["insert", "upsert", "update", "delete"], "title": "Change", "default": "insert", "when": {"table": ["*"]}, "titles": {
		"insert": "a new row", "upsert": "a new row, or the one that is there", "update": "the row that is there",
		"delete": "the row goes"}},
	"key": {"type": "array", "title": "Found by", "items": {"type": "string"}, "when": {"change": ["upsert", "update", "delete"]},
		"description": "columns that tell the row from others; a unique index must be over them to upsert"},
	"columns": {"type": "object", "title": "Columns", "format": "expression", "when": {"table": ["*"]}, "description": "column: expression",
		"additionalProperties": {"type": ["string", "number", "boolean"]}},
	"id-column": {"type": "string", "title": "Column for the id", "maxLength": 200, "when": {"change": ["insert"]}, "description":
		"gets the id of the delivery, the same on every try; a unique index on it keeps repeats out"},
	"sql": {"type": "string", "title": "Or a statement", "format": "lines", "minLength": 1, "description":
		"one statement with :name for each parameter, in place of table and columns"},
	"params": {"type": "object", "title": "Parameters", "format": "expression", "when": {"sql": ["*"]}, "description": "name: expression",
		"additionalProperties": {"type": ["string", "number", "boolean"]}},
	"expect": {"enum": ["any", "one", "some"], "title": "Must concern", "default": "any", "titles": {
		"any": "any number of rows", "one": "exactly one row", "some": "at least one row"}, "description":
		"else nothing is changed, and it is a dead letter"}}}`

// row is what a delivery says.
type row struct {
	Table, Change, SQL, Expect string
	Key                        []string
	Columns, Params            members
	IDColumn                   string `json:"id-column"`
}

// members are values by name, in the order in which the document has them.
type members []want.QueryParameter

// UnmarshalJSON implements json.Unmarshaler.
func (m *members) UnmarshalJSON(b []byte) error {
	r, err := jsonfmt.Decode(b)
	if err != nil {
		return err
	}
	for _, one := range r.Root.Members {
		v := one.Value
		switch v.Kind {
		case message.List, message.Map: // as a text, which columns for JSON take
			v = message.NewString(string(jsonfmt.Encode(v)))
		}
		*m = append(*m, want.QueryParameter{Name: one.Name, Value: jsonfmt.Encode(v)})
	}
	return nil
}

// name is what a table or column may be called here. All of it is quoted as well; what is
// refused is a slip of the pen.
var name = regexp.MustCompile(`^[^\x00-\x1F"\[\]` + "`" + `;]{1,200}$`)

// query makes the statement of a delivery.
func (c *row) query(driver, id string) (*want.Query, error) {
	q := &want.Query{Most: 1000}
	switch {
	case c.SQL != "" && c.Table != "":
		return nil, errors.New("say either a table or a statement")
	case c.SQL != "":
		q.SQL, q.Params = c.SQL, c.Params
		return q, nil
	case c.Table == "":
		return nil, errors.New("say which table it goes into, or a statement")
	}
	if c.IDColumn != "" && c.Change == insertRow {
		c.Columns = append(
			c.Columns,
			want.QueryParameter{Name: c.IDColumn, Value: jsonfmt.Encode(message.NewString(id))},
		)
	}
	var set, keys []string
	found := make([]json.RawMessage, len(c.Key))
	for _, one := range c.Columns {
		isKey := false
		for i, k := range c.Key {
			if strings.EqualFold(k, one.Name) {
				isKey, found[i] = true, one.Value
			}
		}
		if !isKey || c.Change == insertRow || c.Change == upsertRow {
			q.Params = append(q.Params, want.QueryParameter{Name: fmt.Sprintf("c%d", len(set)), Value: one.Value})
			set = append(set, one.Name)
		}
	}
	for i, k := range c.Key {
		switch {
		case c.Change == insertRow:
			continue
		case found[i] == nil:
			return nil, fmt.Errorf("the key %s has no value: name it among the columns", k)
		case string(found[i]) == "null":
			return nil, fmt.Errorf("%w: the key %s is null, and null finds no row", connect.ErrBadData, k)
		}
		keys = append(keys, k)
		if c.Change == updateRow || c.Change == deleteRow {
			q.Params = append(q.Params, want.QueryParameter{Name: fmt.Sprintf("k%d", i), Value: found[i]})
		}
	}
	return q, c.write(driver, set, keys, q)
}

// write writes the statement, where it has all that it needs.
func (c *row) write(driver string, set, keys []string, q *want.Query) error {
	for _, one := range append(append([]string{c.Table}, set...), keys...) {
		if !name.MatchString(one) {
			return fmt.Errorf("%q is no name of a table or column", one)
		}
	}
	switch {
	case len(set) == 0 && c.Change != deleteRow:
		return errors.New("columns: say what is written into which")
	case len(keys) == 0 && c.Change != insertRow:
		return fmt.Errorf("key: say by which columns the row is found; %s without one would concern all rows", c.Change)
	}
	if c.Change == deleteRow { // nothing else than the keys is said
		kept := q.Params[:0]
		for _, p := range q.Params {
			if strings.HasPrefix(p.Name, "k") {
				kept = append(kept, p)
			}
		}
		q.Params = kept
	}
	q.SQL = statement(driver, c.Change, c.Table, set, keys)
	return nil
}

// errExpected tells that a change concerns another number of rows than it must.
var errExpected = errors.New("nothing was changed")

// concerns checks how many rows a change concerns, before it is committed.
func (c *row) concerns(n int64) error {
	must := ""
	switch {
	case c.Expect == "one" && n != 1:
		must = "exactly one must be"
	case c.Expect == "some" && n == 0:
		must = "at least one must be"
	default:
		return nil
	}
	return fmt.Errorf(
		"%w: %w: %s concerned, and %s; %w",
		connect.ErrCannotSend,
		connect.ErrBadData,
		counted(n),
		must,
		errExpected,
	)
}

func counted(n int64) string {
	if n == 1 {
		return "1 row is"
	}
	return fmt.Sprintf("%d rows are", n)
}

// Send implements connect.Sender: one change, in a transaction of its own.
func (l *link) Send(ctx context.Context, r connect.Request) (connect.Receipt, error) {
	c := row{Change: insertRow, Expect: "any"}
	if err := json.Unmarshal(r.Settings, &c); err != nil {
		return connect.Receipt{}, fmt.Errorf("%w: the settings of the delivery cannot be read", connect.ErrCannotSend)
	}
	q, err := c.query(l.driver, r.ID)
	if err != nil {
		return connect.Receipt{}, fmt.Errorf("%w: %w", connect.ErrCannotSend, err)
	}
	a, err := l.query(ctx, q, func(a *answer) error {
		if !a.changed {
			return nil
		}
		if c.Change == upsertRow && c.SQL == "" && a.affected > 1 {
			a.affected = 1 // MySQL counts a row that was changed twice
		}
		return c.concerns(a.affected)
	})
	if err != nil {
		if c.IDColumn != "" && errors.Is(err, connect.ErrBadData) && l.has(ctx, &c, r.ID) {
			return connect.Receipt{
				Outcome: retry.Delivered,
				Code:    "1 row",
				Words:   "it was there already, under the same id",
			}, nil
		}
		return connect.Receipt{}, err
	}
	out := connect.Receipt{Outcome: retry.Delivered, Code: "done"}
	if a.changed {
		out.Code = strings.TrimSuffix(strings.TrimSuffix(counted(a.affected), " is"), " are")
		out.Headers = []message.Header{{Name: AffectedHeader, Value: fmt.Sprint(a.affected)}}
	}
	if len(a.rows.Items) > 0 {
		out.Headers = append(out.Headers, message.Header{Name: "Content-Type", Value: "application/json"})
		out.Answer = bytes.NewReader(jsonfmt.Encode(a.rows))
	}
	return out, nil
}

// has tells whether a row with the id of a delivery is there: an earlier try has made it,
// and its answer was lost.
func (l *link) has(ctx context.Context, c *row, id string) bool {
	q := &want.Query{
		Most: 2,
		SQL: fmt.Sprintf(
			"SELECT COUNT(*) AS n FROM %s WHERE %s = :id",
			QuotedTable(l.driver, c.Table),
			Quoted(
				l.driver,
				c.IDColumn,
			),
		),
		Params: []want.QueryParameter{{Name: "id", Value: jsonfmt.Encode(message.NewString(id))}},
	}
	a, err := l.query(ctx, q, nil)
	return err == nil && len(a.rows.Items) == 1 && a.rows.Items[0].Get("n").Text != "0"
}

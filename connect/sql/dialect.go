package sql

import (
	"fmt"
	"strings"
)

// Quoted writes the name of a column so that a database takes it as one
// whatever is in it (SQL:2016, 5.2: delimited identifiers; MySQL and SQL Server have their
// own marks, and SQLite takes a name in double quotes that it does not know for a text).
func Quoted(driver, name string) string {
	open, end := `"`, `"`
	switch driver {
	case DriverMySQL, DriverSQLite:
		open, end = "`", "`"
	case DriverSQLServer:
		open, end = "[", "]"
	}
	return open + strings.ReplaceAll(name, end, end+end) + end
}

// QuotedTable writes the name of a table, which may have its schema before a dot.
func QuotedTable(driver, name string) string {
	parts := strings.Split(name, ".")
	for i, part := range parts {
		parts[i] = Quoted(driver, part)
	}
	return strings.Join(parts, ".")
}

// Limit writes behind an ORDER BY that only the first rows are wanted.
func Limit(driver string, most int) string {
	if driver == DriverSQLServer {
		return fmt.Sprintf(" OFFSET 0 ROWS FETCH NEXT %d ROWS ONLY", most)
	}
	return fmt.Sprintf(" LIMIT %d", most)
}

// placeholder writes the n-th place for a value, the first is 1.
func placeholder(driver string, n int) string {
	switch driver {
	case DriverPostgreSQL:
		return fmt.Sprintf("$%d", n)
	case DriverSQLServer:
		return fmt.Sprintf("@p%d", n)
	}
	return "?"
}

// The changes that a delivery makes without a statement of its own.
const (
	insertRow = "insert"
	upsertRow = "upsert"
	updateRow = "update"
	deleteRow = "delete"
)

// statement writes the change of one row: columns are set, keys find it. Values stand as
// :c0, :c1 … for columns and :k0, :k1 … for keys. Upserting, the keys are among the columns.
func statement(driver, change, table string, columns, keys []string) string {
	q := func(name string) string { return Quoted(driver, name) }
	values := make([]string, len(columns))
	names := make([]string, len(columns))
	sets := make([]string, len(columns))
	var others []string // columns that are no keys
	for i, c := range columns {
		values[i], names[i] = fmt.Sprintf(":c%d", i), q(c)
		sets[i] = q(c) + " = " + values[i]
		if !contains(keys, c) {
			others = append(others, c)
		}
	}
	found := make([]string, len(keys))
	for i, k := range keys {
		found[i] = fmt.Sprintf("%s = :k%d", q(k), i)
	}
	insert := fmt.Sprintf("INSERT INTO %s (%s) VALUES (%s)", QuotedTable(driver, table), strings.Join(names, ", "),
		strings.Join(values, ", "))
	switch change {
	case updateRow:
		return fmt.Sprintf("UPDATE %s SET %s WHERE %s", QuotedTable(driver, table), strings.Join(sets, ", "),
			strings.Join(found, " AND "))
	case deleteRow:
		return fmt.Sprintf("DELETE FROM %s WHERE %s", QuotedTable(driver, table), strings.Join(found, " AND "))
	case upsertRow:
		return upsert(driver, insert, table, columns, keys, others)
	}
	return insert
}

func contains(list []string, s string) bool {
	for _, one := range list {
		if strings.EqualFold(one, s) {
			return true
		}
	}
	return false
}

// upsert inserts a row, or changes the one that has its key already.
func upsert(driver, insert, table string, columns, keys, others []string) string {
	q := func(name string) string { return Quoted(driver, name) }
	each := func(list []string, write func(c string) string) string {
		out := make([]string, len(list))
		for i, c := range list {
			out[i] = write(c)
		}
		return strings.Join(out, ", ")
	}
	switch driver {
	case DriverMySQL:
		if len(others) == 0 {
			others = keys[:1] // what stays as it is
		}
		return insert + " ON DUPLICATE KEY UPDATE " + each(others,
			func(c string) string { return q(c) + " = VALUES(" + q(c) + ")" })
	case DriverSQLServer:
		values := make([]string, len(columns))
		for i, c := range columns {
			values[i] = fmt.Sprintf(":c%d AS %s", i, q(c))
		}
		var on []string
		for _, k := range keys {
			on = append(on, "t."+q(k)+" = s."+q(k))
		}
		out := fmt.Sprintf("MERGE INTO %s WITH (HOLDLOCK) AS t USING (SELECT %s) AS s ON %s", QuotedTable(driver, table),
			strings.Join(values, ", "),
			strings.Join(on, " AND "))
		if len(others) > 0 {
			out += " WHEN MATCHED THEN UPDATE SET " + each(others, func(c string) string { return "t." + q(c) + " = s." + q(c) })
		}
		return out + fmt.Sprintf(" WHEN NOT MATCHED THEN INSERT (%s) VALUES (%s);", each(columns, q),
			each(columns, func(c string) string { return "s." + q(c) }))
	}
	out := insert + " ON CONFLICT (" + each(keys, q) + ") DO "
	if len(others) == 0 { // it is there: that is all that is asked for
		others = keys[:1]
	}
	return out + "UPDATE SET " + each(others, func(c string) string { return q(c) + " = excluded." + q(c) })
}

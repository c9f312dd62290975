package sql

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"readyferry/connect"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
	"readyferry/core/want"
)

// mostTables is how many tables are listed, mostColumns how many columns a table has at
// most.
const (
	mostTables  = 1000
	mostColumns = 2000
)

// catalog asks a database about itself, over the information schema of the SQL standard
// (SQL:2016, part 11) where it has one. Each statement gives the columns named here.
type catalog struct {
	tables     string // name: with its schema where it is not the usual one
	columns    string // of :table in :schema: name, type, nullable (YES or NO), dflt, in order
	keys       string // name, of its primary key
	references string // id, inward (1 or 0), col, other, othercol, in order
	schema     string // the usual one, as an expression
}

var catalogs = map[string]catalog{
	DriverSQLite: {
		tables: `SELECT name FROM sqlite_master WHERE type IN ('table', 'view') AND name NOT LIKE 'sqlite!_%' ESCAPE '!' ORDER BY name`,
		columns: `SELECT name, type, CASE WHEN "notnull" = 0 THEN 'YES' ELSE 'NO' END AS nullable, dflt_value AS dflt
			FROM pragma_table_info(:table) WHERE :schema = :schema ORDER BY cid`,
		keys: `SELECT name FROM pragma_table_info(:table) WHERE pk > 0 AND :schema = :schema ORDER BY pk`,
		references: `SELECT 'o' || id AS id, 0 AS inward, "from" AS col, "table" AS other, "to" AS othercol, seq
				FROM pragma_foreign_key_list(:table)
			UNION ALL SELECT 'i' || m.name || f.id, 1, f."to", m.name, f."from", f.seq
				FROM sqlite_master m JOIN pragma_foreign_key_list(m.name) f
				WHERE m.type = 'table' AND lower(f."table") = lower(:table) AND :schema = :schema
			ORDER BY id, seq`,
		schema: "''",
	},
	DriverPostgreSQL: {
		tables: `SELECT CASE WHEN table_schema = current_schema() THEN table_name ELSE table_schema || '.' || table_name END AS name
			FROM information_schema.tables WHERE table_schema NOT IN ('pg_catalog', 'information_schema')
			ORDER BY table_schema <> current_schema(), 1`,
		columns: `SELECT column_name AS name, data_type AS type, is_nullable AS nullable, column_default AS dflt
			FROM information_schema.columns WHERE table_name = :table AND table_schema = :schema ORDER BY ordinal_position`,
		keys: standardKeys, references: `SELECT 'o' || c.oid::text AS id, 0 AS inward, a.attname AS col, ` + postgresName("f") + ` AS other,
				b.attname AS othercol, k.n AS seq
			FROM pg_constraint c JOIN pg_class t ON t.oid = c.conrelid JOIN pg_namespace ts ON ts.oid = t.relnamespace
			JOIN pg_class f ON f.oid = c.confrelid JOIN pg_namespace fs ON fs.oid = f.relnamespace
			CROSS JOIN LATERAL unnest(c.conkey, c.confkey) WITH ORDINALITY AS k(a, b, n)
			JOIN pg_attribute a ON a.attrelid = t.oid AND a.attnum = k.a JOIN pg_attribute b ON b.attrelid = f.oid AND b.attnum = k.b
			WHERE c.contype = 'f' AND t.relname = :table AND ts.nspname = :schema
			UNION ALL SELECT 'i' || c.oid::text, 1, b.attname, ` + postgresName("t") + `, a.attname, k.n
			FROM pg_constraint c JOIN pg_class t ON t.oid = c.conrelid JOIN pg_namespace ts ON ts.oid = t.relnamespace
			JOIN pg_class f ON f.oid = c.confrelid JOIN pg_namespace fs ON fs.oid = f.relnamespace
			CROSS JOIN LATERAL unnest(c.conkey, c.confkey) WITH ORDINALITY AS k(a, b, n)
			JOIN pg_attribute a ON a.attrelid = t.oid AND a.attnum = k.a JOIN pg_attribute b ON b.attrelid = f.oid AND b.attnum = k.b
			WHERE c.contype = 'f' AND f.relname = :table AND fs.nspname = :schema
			ORDER BY id, seq`,
		schema: "current_schema()",
	},
	DriverMySQL: {
		tables: `SELECT table_name AS name FROM information_schema.tables WHERE table_schema = DATABASE() ORDER BY table_name`,
		columns: `SELECT column_name AS name, column_type AS type, is_nullable AS nullable,
				CASE WHEN extra LIKE '%auto_increment%' THEN 'auto' ELSE NULLIF(column_default, 'NULL') END AS dflt
			FROM information_schema.columns WHERE table_name = :table AND table_schema = :schema ORDER BY ordinal_position`,
		keys: standardKeys,
		references: `SELECT CONCAT('o', constraint_name) AS id, 0 AS inward, column_name AS col, referenced_table_name AS other,
				referenced_column_name AS othercol, ordinal_position AS seq
			FROM information_schema.key_column_usage
			WHERE table_name = :table AND table_schema = :schema AND referenced_table_name IS NOT NULL
			UNION ALL SELECT CONCAT('i', table_name, constraint_name), 1, referenced_column_name, table_name, column_name, ordinal_position
			FROM information_schema.key_column_usage WHERE referenced_table_name = :table AND referenced_table_schema = :schema
			ORDER BY id, seq`,
		schema: "DATABASE()",
	},
	DriverSQLServer: {
		tables: `SELECT CASE WHEN table_schema = SCHEMA_NAME() THEN table_name ELSE table_schema + '.' + table_name END AS name
			FROM information_schema.tables ORDER BY table_schema, table_name`,
		columns: `SELECT column_name AS name, data_type AS type, is_nullable AS nullable,
				CASE WHEN COLUMNPROPERTY(OBJECT_ID(table_schema + '.' + table_name), column_name, 'IsIdentity') = 1 THEN 'auto'
				ELSE column_default END AS dflt
			FROM information_schema.columns WHERE table_name = :table AND table_schema = :schema ORDER BY ordinal_position`,
		keys: standardKeys,
		references: `SELECT CONCAT('o', c.constraint_object_id) AS id, 0 AS inward, COL_NAME(c.parent_object_id, c.parent_column_id) AS col,
				OBJECT_SCHEMA_NAME(c.referenced_object_id) + '.' + OBJECT_NAME(c.referenced_object_id) AS other,
				COL_NAME(c.referenced_object_id, c.referenced_column_id) AS othercol, c.constraint_column_id AS seq
			FROM sys.foreign_key_columns c
			WHERE OBJECT_NAME(c.parent_object_id) = :table AND OBJECT_SCHEMA_NAME(c.parent_object_id) = :schema
			UNION ALL SELECT CONCAT('i', c.constraint_object_id), 1, COL_NAME(c.referenced_object_id, c.referenced_column_id),
				OBJECT_SCHEMA_NAME(c.parent_object_id) + '.' + OBJECT_NAME(c.parent_object_id),
				COL_NAME(c.parent_object_id, c.parent_column_id), c.constraint_column_id
			FROM sys.foreign_key_columns c
			WHERE OBJECT_NAME(c.referenced_object_id) = :table AND OBJECT_SCHEMA_NAME(c.referenced_object_id) = :schema
			ORDER BY id, seq`,
		schema: "SCHEMA_NAME()",
	},
}

const standardKeys = `SELECT k.column_name AS name FROM information_schema.table_constraints c
	JOIN information_schema.key_column_usage k ON k.constraint_name = c.constraint_name AND k.table_schema = c.table_schema
		AND k.table_name = c.table_name
	WHERE c.constraint_type = 'PRIMARY KEY' AND c.table_name = :table AND c.table_schema = :schema ORDER BY k.ordinal_position`

// postgresName names a table as it is listed.
func postgresName(t string) string {
	return fmt.Sprintf("CASE WHEN %[1]ss.nspname = current_schema() THEN %[1]s.relname ELSE %[1]ss.nspname || '.' || %[1]s.relname END", t)
}

// List implements connect.Lister: it lists tables and views.
func (l *link) List(ctx context.Context, what string) ([]string, error) {
	if what != "table" {
		return nil, fmt.Errorf("there are tables here, and no %s", what)
	}
	rows, err := l.about(ctx, catalogs[l.driver].tables, mostTables)
	if err != nil {
		return nil, err
	}
	out := []string{}
	for _, r := range rows {
		out = append(out, r.Get("name").Text)
	}
	return out, nil
}

// about asks the database about itself; more rows than most are left out.
func (l *link) about(ctx context.Context, text string, most int, params ...want.QueryParameter) ([]*message.Node,
	error) {
	a, err := l.query(ctx, &want.Query{SQL: text, Most: 100_000, Params: params}, nil)
	if err != nil {
		return nil, err
	}
	return a.rows.Items[:min(len(a.rows.Items), most)], nil
}

// Describe implements connect.Describer.
func (l *link) Describe(ctx context.Context, table string) (*connect.Table, error) {
	of := catalogs[l.driver]
	schema, name, found := strings.Cut(table, ".")
	if !found {
		schema, name = "", table
	}
	text := func(name, value string) want.QueryParameter {
		return want.QueryParameter{Name: name, Value: jsonfmt.Encode(message.NewString(value))}
	}
	ask := func(sql string, most int) ([]*message.Node, error) {
		params := []want.QueryParameter{text("table", name)}
		if found || l.driver == DriverSQLite {
			params = append(params, text("schema", schema))
		} else {
			sql = strings.ReplaceAll(sql, ":schema", of.schema)
		}
		return l.about(ctx, sql, most, params...)
	}
	columns, err := ask(of.columns, mostColumns)
	if err != nil {
		return nil, err
	}
	if len(columns) == 0 {
		return nil, fmt.Errorf("there is no table or view %s", table)
	}
	keys, err1 := ask(of.keys, mostColumns)
	references, err2 := ask(of.references, mostColumns)
	if err := errors.Join(err1, err2); err != nil {
		return nil, err
	}
	out := &connect.Table{Name: table, Columns: []connect.Column{}, References: []connect.Reference{}}
	for _, c := range columns {
		one := connect.Column{Name: c.Get("name").Text, Type: strings.ToLower(c.Get("type").Text),
			Null:    c.Get("nullable").Text == "YES",
			Default: c.Get("dflt").Kind != message.Null}
		one.Key = slices.ContainsFunc(keys, func(k *message.Node) bool { return k.Get("name").Text == one.Name })
		out.Columns = append(out.Columns, one)
	}
	l.references(out, references)
	return out, nil
}

// references puts the columns of each foreign key together.
func (l *link) references(out *connect.Table, rows []*message.Node) {
	last := ""
	for _, r := range rows {
		if id := r.Get("id").Text; id != last || last == "" {
			last = id
			out.References = append(out.References, connect.Reference{Inward: r.Get("inward").Text == "1",
				Table: r.Get("other").Text})
		}
		one := &out.References[len(out.References)-1]
		one.Columns = append(one.Columns, r.Get("col").Text)
		one.To = append(one.To, r.Get("othercol").Text)
	}
}

// Inspect implements connect.Inspector: it looks whether the table of a step is there, and
// has the columns that it names.
func (l *link) Inspect(ctx context.Context, u connect.Use) connect.Step {
	name := u.Settings.Get("table")
	if name == nil || name.Text == "" {
		return connect.Step{OK: true, Detail: u.Flow + ": a statement is seen when it is made"}
	}
	table, err := l.Describe(ctx, name.Text)
	if err != nil {
		return connect.Step{Detail: fmt.Sprintf("%s: %v", u.Flow, err), Repair: "make it, or name another one"}
	}
	if !u.Intake && !writes(l.c) {
		return connect.Step{Detail: u.Flow + ": the connection allows reading alone", Repair: "allow statements to change it"}
	}
	for _, c := range namedColumns(u.Settings) {
		if !slices.ContainsFunc(table.Columns, func(one connect.Column) bool { return strings.EqualFold(one.Name, c) }) {
			return connect.Step{Detail: fmt.Sprintf("%s: the table %s has no column %s", u.Flow, table.Name, c),
				Repair: "name one of those that it has"}
		}
	}
	return connect.Step{OK: true, Detail: fmt.Sprintf("%s: the table %s is there, with %d columns", u.Flow, table.Name,
		len(table.Columns))}
}

func namedColumns(s connect.Settings) (out []string) {
	if columns := s.Get("columns"); columns != nil {
		for _, m := range columns.Members {
			out = append(out, m.Name)
		}
	}
	for _, name := range []string{"key", "changed", "id-column"} {
		if n := s.Get(name); n != nil && n.Kind == message.String && n.Text != "" {
			out = append(out, n.Text)
		}
	}
	return out
}

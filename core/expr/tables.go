package expr

import (
	"bytes"
	"errors"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"
	"sync"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"

	"readyferry/core/format/csv"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
)

const (
	tablesName = "@tables"
	lookupName = "@lookup"
)

// TableFile gives the name of the file that holds a table.
func TableFile(table string) string { return "tables/" + table + ".csv" }

// TableName gives the name of the table that a file holds; false for a file
// that is no table.
func TableName(file string) (string, bool) {
	name, in := strings.CutPrefix(file, "tables/")
	name, is := strings.CutSuffix(name, ".csv")
	return name, in && is && name != "" && !strings.Contains(name, "/")
}

// Tables are what lookup() reads: the files of a flow that lie under tables/.
// Each is CSV (RFC 4180) whose first row names the columns and whose first
// column is the key. A table is read when it is first named. Tables belong to
// a flow's version, so the same message finds the same row on every replay.
type Tables struct {
	files map[string][]byte
	mu    sync.Mutex
	read  map[string]*table
}

type table struct {
	rows map[string]*message.Node
	keys []string
	err  error
}

// NewTables takes the tables out of a flow's files.
func NewTables(files map[string][]byte) *Tables {
	t := &Tables{files: map[string][]byte{}, read: map[string]*table{}}
	for file, content := range files {
		if name, is := TableName(file); is {
			t.files[name] = content
		}
	}
	return t
}

// CheckTable says what is wrong with the text of a table, or nil.
func CheckTable(content []byte) error { return readTable(content).err }

// Rows finds rows of the tables that are no files of the flow, but are kept beside the flows
// and change while they run.
type Rows interface {
	// Row gives the row of a key: a text or number where the key is one column, else a map
	// from column to value. It is nil where there is none.
	Row(table string, key *message.Node) (*message.Node, error)
}

// Look is a call of lookup() for a table that is no file of the flow.
type Look struct {
	Table   string   // "": an expression comes to its name
	Columns []string // of its key, where the call names them; nil: the one column of the first key
}

// WithKept gives an environment whose expressions may look up in tables that are no files of
// the flow as well. Where that is, the scope has Rows; a flow's steps have them.
func (env *Env) WithKept(kept bool) *Env {
	out := *env
	out.kept = kept
	return &out
}

func readTable(content []byte) *table {
	if len(bytes.TrimSpace(content)) == 0 {
		return &table{err: errors.New("it is empty; its first row names the columns")}
	}
	d, err := csv.Decode(content, csv.Options{Header: true})
	if err != nil {
		return &table{err: err}
	}
	t := &table{rows: make(map[string]*message.Node, len(d.Root.Items))}
	for _, row := range d.Root.Items {
		if len(row.Members) == 0 {
			continue
		}
		key := row.Members[0].Value.Text
		if _, taken := t.rows[key]; taken {
			line, _ := message.Position(content, row.Members[0].Value.Offset)
			return &table{
				err: fmt.Errorf("line %d: the key %q stands twice in the column %s", line, key, row.Members[0].Name),
			}
		}
		t.rows[key] = row
		t.keys = append(t.keys, key)
	}
	return t
}

func (t *Tables) get(name string) (*table, error) {
	if t == nil {
		t = &Tables{}
	}
	content, ok := t.files[name]
	if !ok {
		known := slices.Sorted(maps.Keys(t.files))
		switch near := Nearest(name, known); {
		case len(near) > 0:
			return nil, fmt.Errorf("there is no table %q; did you mean %s?", name, strings.Join(near, " or "))
		case len(known) > 0:
			return nil, fmt.Errorf(
				"there is no table %q; there is %s",
				name,
				strings.Join(known[:min(8, len(known))], ", "),
			)
		}
		return nil, fmt.Errorf("there is no table %q; add it to the files of the flow as %s", name, TableFile(name))
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.read[name] == nil {
		t.read[name] = readTable(content)
	}
	if err := t.read[name].err; err != nil {
		return nil, fmt.Errorf("the table %q cannot be read: %w", name, err)
	}
	return t.read[name], nil
}

// WithTables gives an environment whose expressions look up in these tables.
func (env *Env) WithTables(t *Tables) *Env {
	out := *env
	out.tables = t
	return &out
}

// checkTables finds the tables that an expression names and that are not there, and
// what it looks up in tables that are no files.
func (env *Env) checkTables(e *ast.AST) (looks []Look, bad *CompileError) {
	ast.PostOrderVisit(e.Expr(), ast.NewExprVisitor(func(x ast.Expr) {
		if bad != nil || x.Kind() != ast.CallKind || x.AsCall().FunctionName() != lookupName {
			return
		}
		name := x.AsCall().Args()[1]
		var text types.String
		if name.Kind() == ast.LiteralKind {
			text, _ = name.AsLiteral().(types.String)
		}
		if env.kept && !env.tables.has(string(text)) {
			looks = append(looks, Look{string(text), keyColumns(x.AsCall().Args()[2])})
			return
		}
		if text == "" {
			return
		}
		if _, err := env.tables.get(string(text)); err != nil {
			at := e.SourceInfo().GetStartLocation(name.ID())
			said, repair, _ := strings.Cut(err.Error(), "; ")
			bad = &CompileError{max(1, at.Line()), at.Column() + 1, said, repair}
		}
	}))
	return looks, bad
}

// keyColumns names the columns of a key that is written as a map; nil for any other.
func keyColumns(key ast.Expr) (columns []string) {
	if key.Kind() != ast.MapKind {
		return nil
	}
	for _, e := range key.AsMap().Entries() {
		k := e.AsMapEntry().Key()
		if k.Kind() != ast.LiteralKind {
			return nil
		}
		name, _ := k.AsLiteral().(types.String)
		columns = append(columns, string(name))
	}
	return columns
}

func (t *Tables) has(name string) bool { return t != nil && t.files[name] != nil }

// tablesValue lets CEL hand the tables to lookup().
type tablesValue struct {
	*Tables
	kept Rows // nil: there are none
}

var tablesType = types.NewOpaqueType("tables")

func (tablesValue) ConvertToNative(reflect.Type) (any, error) {
	return nil, errors.New("tables are no value")
}
func (tablesValue) ConvertToType(ref.Type) ref.Val { return types.NewErr("tables are no value") }
func (v tablesValue) Equal(other ref.Val) ref.Val {
	o, is := other.(tablesValue)
	return types.Bool(is && v.Tables == o.Tables)
}
func (tablesValue) Type() ref.Type { return tablesType }
func (v tablesValue) Value() any   { return v.Tables }

// tableFunctions look into tables.
var tableFunctions = []Function{
	{
		Name: "lookup", Signature: `lookup("table", key[, otherwise]) → map`,
		Text: "The row of a table whose key it is, as a map by the names of the columns. A file of the flow is a table, " +
			"by its first column: tables/branches.csv is \"branches\". In the settings of steps any other name is a " +
			"table of the Tables page, whose key of several columns is a map: lookup(\"tariffs\", {\"zone\": \"2\", " +
			"\"kind\": \"box\"}); the transaction keeps the rows that were found. A key that is not there is a missing " +
			"value, unless a third argument says what it comes to.",
		Examples: []Example{
			{
				Expression: `lookup("branches", body.branch).name`,
				Body:       `{"branch": "MARL"}`,
				Tables:     branches,
				Value:      `"Marlow Road"`,
			},
			{
				Expression: `lookup("branches", body.branch, {"name": "unknown"}).name`,
				Body:       `{"branch": "XXXX"}`,
				Tables:     branches,
				Value:      `"unknown"`,
			},
		},
		options: []cel.EnvOption{
			cel.Macros(lookupMacro(2), lookupMacro(3)),
			cel.Variable(tablesName, cel.DynType),
			cel.Function(
				lookupName,
				cel.Overload(
					"lookup_key",
					[]*cel.Type{cel.DynType, cel.StringType, cel.DynType},
					cel.DynType,
					cel.FunctionBinding(evalLookup),
				),
				cel.Overload(
					"lookup_key_otherwise",
					[]*cel.Type{cel.DynType, cel.StringType, cel.DynType, cel.DynType},
					cel.DynType,
					cel.FunctionBinding(evalLookup),
				),
			),
		},
	},
}

var branches = map[string]string{"branches": "code,name,run\nMARL,Marlow Road,2\nELMS,Elms Park,1\n"}

func lookupMacro(args int) cel.Macro {
	return cel.GlobalMacro(
		"lookup",
		args,
		func(f cel.MacroExprFactory, _ ast.Expr, a []ast.Expr) (ast.Expr, *common.Error) {
			return f.NewCall(lookupName, append([]ast.Expr{f.NewIdent(tablesName)}, a...)...), nil
		},
	)
}

func evalLookup(a ...ref.Val) ref.Val {
	name := string(a[1].(types.String))
	tables, _ := a[0].(tablesValue)
	n, ok, err := toNode(a[2])
	if err != nil {
		return types.NewErr("lookup: %v", err)
	}
	if !ok {
		return types.WrapErr(ErrMissing)
	}
	find := tables.inFile
	if tables.kept != nil && !tables.has(name) {
		find = tables.inKept
	}
	row, missing, err := find(name, n)
	switch {
	case err != nil:
		return types.NewErr("lookup: %v", err)
	case row != nil:
		return nodes.NativeToValue(row)
	case len(a) < 4:
		return types.WrapErr(missing)
	}
	if m, ok := a[3].(traits.Mapper); ok {
		return sorted(m)
	}
	return a[3]
}

// inFile finds a row of a file of the flow, or says what it lacks.
func (t *Tables) inFile(name string, n *message.Node) (*message.Node, *MissingError, error) {
	all, err := t.get(name)
	if err != nil {
		return nil, nil, err
	}
	key, ok := n.Scalar()
	if !ok {
		return nil, nil, fmt.Errorf("the key for the table %q is a %s, not a text or number", name, n.Kind)
	}
	if row, ok := all.rows[key]; ok {
		return row, nil, nil
	}
	missing := noKey(name, fmt.Sprintf("%q", key))
	if missing.Near = Nearest(key, all.keys); len(missing.Near) == 0 {
		missing.Names = all.keys[:min(8, len(all.keys))]
	}
	return nil, missing, nil
}

// inKept finds a row of a table that is kept beside the flows.
func (v tablesValue) inKept(name string, n *message.Node) (*message.Node, *MissingError, error) {
	row, err := v.kept.Row(name, n)
	if err != nil || row != nil {
		return row, nil, err
	}
	return nil, noKey(name, string(jsonfmt.Encode(n))), nil
}

func noKey(table, key string) *MissingError {
	return &MissingError{At: fmt.Sprintf("the table %q", table), Name: "key " + key}
}

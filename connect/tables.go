package connect

import "context"

// Describer tells how the tables of a database are made.
type Describer interface {
	Describe(ctx context.Context, table string) (*Table, error)
	// Query writes the statement that gives what is selected, and lists its parameters. An
	// error says which part of the selection is none.
	Query(s *Selection) (sql string, params []string, err error)
}

// Table is a table or view.
type Table struct {
	Name       string      `json:"name"`
	Columns    []Column    `json:"columns"`
	References []Reference `json:"references"` // both ways
}

// Column is a column of a table.
type Column struct {
	Name    string `json:"name"`
	Type    string `json:"type"`    // as the database says it
	Null    bool   `json:"null"`    // it may be null
	Key     bool   `json:"key"`     // it belongs to the primary key
	Default bool   `json:"default"` // it has a value where none is given
}

// Reference is a foreign key from a table to another, or to it from another.
type Reference struct {
	Inward  bool     `json:"inward"`  // from the other table
	Columns []string `json:"columns"` // of this table
	Table   string   `json:"table"`   // the other
	To      []string `json:"to"`      // the other's columns, in the same order
}

// Selection is what a person wants to read of tables.
type Selection struct {
	Tables []Selected `json:"tables"` // the first, and those that are joined
	Where  []Compared `json:"where"`  // all of them must hold
	Order  []Ordered  `json:"order"`
	Most   int        `json:"most"` // rows; 0: all
}

// Selected is a table, with the columns that are wanted of it.
type Selected struct {
	Table   string   `json:"table"`
	Columns []string `json:"columns"`
	// Joined to an earlier table, but for the first; Missing keeps rows of that which have
	// none here.
	With    int      `json:"with"`
	On      []string `json:"on"` // columns of this table
	To      []string `json:"to"` // those of the other, in the same order
	Missing bool     `json:"missing"`
}

// Compared is a comparison of a column with a parameter.
type Compared struct {
	Table  int    `json:"table"`
	Column string `json:"column"`
	Is     string `json:"is"` // = <> < <= > >= like, null or not null
}

// Ordered says by what rows are ordered.
type Ordered struct {
	Table  int    `json:"table"`
	Column string `json:"column"`
	Down   bool   `json:"down"`
}

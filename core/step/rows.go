package step

import (
	"fmt"
	"slices"
	"strings"

	"readyferry/core/flow"
	"readyferry/core/message"
)

// change checks what a delivery to a database says: the change of a row, or a statement
// with its parameters.
func (c *Compiler) change(s *flow.Step) {
	table, statement := scalar(s.Settings.Get("table")), s.Settings.Get("sql")
	switch {
	case statement != nil && table != "":
		c.Find(s.Pointer+"/sql", flow.Error, "wrong-value", "a delivery to a database names either a table or a statement",
			"remove one of the two")
	case statement != nil:
		c.statement(s)
	case table == "":
		c.Find(s.Pointer, flow.Error, "missing-key", "a delivery to a database names a table, or a statement", "add table:")
	default:
		c.changedRow(s)
	}
}

// changedRow checks the change of a row: what a key and what columns it needs.
func (c *Compiler) changedRow(s *flow.Step) {
	how, columns := scalar(s.Settings.Get("change")), s.Settings.Get("columns")
	if columns == nil || len(columns.Members) == 0 {
		c.Find(s.Pointer, flow.Error, "missing-key", "the change of a row says which column gets what",
			"add columns: {name: expression}")
		return
	}
	if how == "" || how == "insert" {
		return
	}
	keys := s.Settings.Get("key")
	if keys == nil || len(keys.Items) == 0 {
		c.Find(s.Pointer, flow.Error, "missing-key", "to "+how+" a row, its key must be named", "add key: [column]")
		return
	}
	for i, k := range keys.Items {
		if !slices.ContainsFunc(columns.Members, func(m message.Member) bool { return strings.EqualFold(m.Name, k.Text) }) {
			c.Find(fmt.Sprintf("%s/key/%d", s.Pointer, i), flow.Error, "wrong-value",
				fmt.Sprintf("the key %s is no column that gets a value",
					k.Text), fmt.Sprintf("add it under columns, as %s: expression", k.Text))
		}
	}
}

package store

import (
	"strings"

	"gorm.io/gorm"
)

// Of names the flows that are meant: nil for all, an empty one for none.
type Of []string

// OfFlow means one flow, or all where name is "".
func OfFlow(name string) Of {
	if name == "" {
		return nil
	}
	return Of{name}
}

// Within gives those that are among others, too.
func (o Of) Within(others []string) Of {
	switch {
	case others == nil:
		return o
	case o == nil:
		return others
	}
	out := Of{}
	for _, name := range o {
		for _, other := range others {
			if name == other {
				out = append(out, name)
			}
		}
	}
	return out
}

// where narrows a query to them; column names the flow of a row.
func (o Of) where(q *gorm.DB, column string) *gorm.DB {
	switch {
	case o == nil:
		return q
	case len(o) == 1:
		return q.Where(column+" = ?", o[0])
	}
	return q.Where(column+" IN ?", []string(o))
}

// sql is the same as a condition of a query that is written out, with what it needs.
func (o Of) sql() (condition string, args []any) {
	if o == nil {
		return "1", nil
	}
	for _, name := range o {
		args = append(args, name)
	}
	return "flow IN (" + strings.TrimSuffix(strings.Repeat("?,", len(o)), ",") + ")", args
}

// RepairFlows names the flows of what a repair is about.
func (v View) RepairFlows(id ID) ([]string, error) {
	var out []string
	return out, v.sql().Raw("SELECT DISTINCT t.flow FROM repair_items i JOIN transactions t ON t.id = i.tx WHERE i.repair = ?", id).
		Scan(&out).Error
}

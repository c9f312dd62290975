package store

import (
	"bytes"
	"slices"

	"gorm.io/gorm"
)

// Transactions lists transactions, the newest first, without the parts of others: those are
// in their whole. There is one index by flow, state and id, because each index costs every
// message twice: lists that choose less are merged from it.
func (v View) Transactions(f Filter) ([]Transaction, error) {
	if f.Reference == "" {
		return v.newest(f)
	}
	q := f.within(v.sql().Where("parent IS NULL")).Order("id DESC").Limit(f.Limit)
	if f.Flow != "" {
		q = q.Where("+flow = ?", f.Flow) // the reference chooses fewer
	}
	q = f.Of.where(q, "+flow")
	if f.State != nil {
		q = q.Where("+state = ?", *f.State)
	}
	var out []Transaction
	return out, q.Where("reference = ? AND reference <> ''", f.Reference).Find(&out).Error
}

// within adds the bounds of a filter. Ids begin with the time in milliseconds, so a span of
// time is a span of ids.
func (f *Filter) within(q *gorm.DB) *gorm.DB {
	if !f.From.IsZero() {
		q = q.Where("id >= ?", idAt(f.From))
	}
	if !f.To.IsZero() {
		q = q.Where("id < ?", idAt(f.To))
	}
	if f.After != nil {
		q = q.Where("id < ?", *f.After)
	}
	return q
}

// newest lists the newest of some flows in some states, all of them as they are at one moment.
func (v View) newest(f Filter) (out []Transaction, err error) {
	list := View.merged
	if f.flows() == nil && f.State == nil {
		list = View.all
	}
	if v.tx != nil {
		return list(v, f)
	}
	err = v.db.Transaction(func(db *gorm.DB) error {
		now := v
		now.db = db
		out, err = list(now, f)
		return err
	})
	return out, err
}

// lookedThrough is how many transactions are looked through for those that are no parts.
const lookedThrough = 2000

// all lists the newest of all flows in all states. Mostly they are the newest that there are;
// only behind a split of thousands they are not, and are merged from their flows.
func (v View) all(f Filter) (out []Transaction, err error) {
	var last []ID
	err = f.within(v.sql().Model(&Transaction{})).Order("id DESC").Offset(lookedThrough).Limit(1).Pluck("id", &last).Error
	if err != nil {
		return nil, err
	}
	q := f.within(v.sql().Where("parent IS NULL")).Order("id DESC").Limit(f.Limit)
	if len(last) > 0 {
		q = q.Where("id >= ?", last[0])
	}
	if err := q.Find(&out).Error; err != nil || len(out) == f.Limit || len(last) == 0 {
		return out, err
	}
	return v.merged(f)
}

// flows gives those that a filter means.
func (f *Filter) flows() Of { return OfFlow(f.Flow).Within(f.Of) }

func (v View) merged(f Filter) ([]Transaction, error) {
	flows, states := []string(f.flows()), []State{UnderWay, Waiting, Delivered, TurnedAway, DeadLetter}
	if flows == nil {
		var err error
		if flows, err = v.flowsWithTransactions(); err != nil {
			return nil, err
		}
	}
	if f.State != nil {
		states = []State{*f.State}
	}
	var ids []ID
	for _, flow := range flows {
		for _, state := range states {
			var some []ID
			err := f.within(v.sql().Model(&Transaction{}).Where("parent IS NULL AND flow = ? AND state = ?", flow, state)).
				Order("id DESC").Limit(f.Limit).Pluck("id", &some).Error
			if err != nil {
				return nil, err
			}
			ids = append(ids, some...)
		}
	}
	slices.SortFunc(ids, func(a, b ID) int { return bytes.Compare(b[:], a[:]) })
	ids = ids[:min(len(ids), f.Limit)]
	var out []Transaction
	return out, v.sql().Where("id IN ?", ids).Order("id DESC").Find(&out).Error
}

// flowsWithTransactions names the flows that have any.
func (v View) flowsWithTransactions() ([]string, error) {
	return v.flowsIn("transactions", "parent IS NULL")
}

// flowsIn names the flows of rows that a condition chooses, going from one to the next in an
// index by flow: it costs what the flows are, however many rows they have. Table and
// condition are the program's own; the condition has at most one parameter, named value.
func (v View) flowsIn(table, where string, value ...any) (out []string, err error) {
	if v.parts != nil { // the first of a union would be looked for in all rows
		one := v
		one.parts = nil
		for _, file := range v.parts.files() {
			some, err := one.flowsIn(file+"."+table, where, value...)
			if err != nil {
				return nil, err
			}
			out = append(out, some...)
		}
		slices.Sort(out)
		return slices.Compact(out), nil
	}
	next := "SELECT MIN(flow) FROM " + table + " WHERE " + where
	return out, v.sql().Raw("WITH RECURSIVE flows(next) AS ("+next+" UNION ALL SELECT ("+next+" AND flow > flows.next) FROM flows "+
		"WHERE flows.next IS NOT NULL) SELECT next FROM flows WHERE next IS NOT NULL", value...).Scan(&out).Error
}

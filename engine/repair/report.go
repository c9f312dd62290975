package repair

import (
	"time"

	"readyferry/store"
)

// Report is what has become of a repair by now; it stays as long as the file does.
type Report struct {
	ID      store.ID   `json:"id"`
	State   string     `json:"state"` // planned, running, stopped or done
	What    string     `json:"what"`
	Title   string     `json:"title"`
	By      string     `json:"by"`
	At      time.Time  `json:"at"`
	BeginAt *time.Time `json:"beginAt"`
	Nightly bool       `json:"nightly"`
	When    string     `json:"when"`
	Most    int        `json:"most"`
	Pace    int        `json:"pace"`
	EndedAt *time.Time `json:"endedAt"`
	Total   int64      `json:"total"`
	Waits   int64      `json:"waits"` // not yet gone through
	Refused int64      `json:"refused"`
	// Outcomes counts what has become of those that were gone through: delivered, under way,
	// waiting, turned away, a dead letter again, discarded.
	Outcomes map[string]int64 `json:"outcomes"`
}

// Report gives the report of a repair.
func (r *Repairs) Report(id store.ID) (*Report, error) {
	row, err := r.Store.Repair(id)
	if err != nil {
		return nil, err
	}
	return r.report(&row)
}

// Reports lists repairs that are about some flows alone, the latest first; nil: all.
func (r *Repairs) Reports(of store.Of, after *store.ID, limit int) ([]*Report, error) {
	rows, err := r.Store.Repairs(of, false, after, limit)
	if err != nil {
		return nil, err
	}
	out := make([]*Report, len(rows))
	for i := range rows {
		if out[i], err = r.report(&rows[i]); err != nil {
			return nil, err
		}
	}
	return out, nil
}

func (r *Repairs) report(row *store.Repair) (*Report, error) {
	out := &Report{ID: row.ID, State: row.State.String(), What: row.What, Title: row.Title, By: row.By, At: row.At,
		BeginAt: row.BeginAt, Nightly: row.Nightly, When: row.When, Most: row.Most, Pace: row.Pace, EndedAt: row.EndedAt,
		Total: row.Total, Outcomes: map[string]int64{}}
	all, err := r.Store.All().RepairOutcomes(row.ID)
	if err != nil {
		return nil, err
	}
	for _, o := range all {
		switch o.Item {
		case store.ItemWaits:
			out.Waits += o.N
		case store.ItemRefused:
			out.Refused += o.N
		default:
			out.Outcomes[become(row.What, o.Letter, o.State)] += o.N
		}
	}
	return out, nil
}

// become says what has become of an item that was gone through.
func become(what string, letter *store.LetterState, state *store.State) string {
	if letter != nil {
		switch *letter {
		case store.LetterOpen:
			if what == "discard" {
				return "taken back"
			}
			return "dead letter"
		case store.LetterDiscarded:
			return "discarded"
		}
	}
	if state == nil {
		return "no longer kept"
	}
	return state.String()
}

// Item is a line of a report.
type Item struct {
	N           int64     `json:"n"`
	Letter      *store.ID `json:"letter"`
	Transaction store.ID  `json:"transaction"`
	Made        *store.ID `json:"made"` // the transaction in which it was sent again
	Reference   string    `json:"reference"`
	State       string    `json:"state"` // waits, refused, or what has become of it
	Detail      string    `json:"detail"`
}

// Items lists the lines of a report behind a number.
func (r *Repairs) Items(id store.ID, after int64, limit int) ([]Item, error) {
	row, err := r.Store.Repair(id)
	if err != nil {
		return nil, err
	}
	rows, err := r.Store.RepairItems(id, false, after, limit)
	if err != nil {
		return nil, err
	}
	out := make([]Item, len(rows))
	for i := range rows {
		x := &rows[i]
		out[i] = Item{
			N:           x.N,
			Letter:      x.Letter,
			Transaction: x.Tx,
			Made:        x.Made,
			State:       x.State.String(),
			Detail:      x.Detail,
		}
		var letter *store.LetterState
		if x.Letter != nil {
			if l, err := r.Store.All().Letter(*x.Letter); err == nil {
				letter, out[i].Reference = &l.State, l.Reference
				if l.State == store.LetterOpen && x.State == store.ItemDone {
					out[i].Detail = l.Reason
				}
			}
		}
		about := x.Tx
		if x.Made != nil {
			about = *x.Made
		}
		var state *store.State
		if t, err := r.Store.All().Transaction(about); err == nil {
			state, out[i].Reference = &t.State, t.Reference
		}
		if x.State == store.ItemDone {
			out[i].State = become(row.What, letter, state)
		}
	}
	return out, nil
}

package lane

import (
	"context"
	"fmt"
	"time"

	"readyferry/connect"
	"readyferry/engine/journal"
	"readyferry/store"
	"readyferry/store/body"
)

// keptLate is how many such answers are kept of one question: whoever answers may do so
// without end.
const keptLate = 10

// Late keeps an answer that came late or a second time.
func (l *Lanes) Late(connection, id string, r connect.Receipt) {
	answer, err := r.Body()
	if err != nil {
		return
	}
	of, err := store.ParseID(id)
	if err != nil {
		return // the answer to something else
	}
	a := attempt{id: of, receipt: r, began: l.Now()}
	a.receipt.Outcome = store.Late
	a.kept = body.Of(answer[:min(len(answer), keptAnswer)]).Packed()
	ctx, cancel := context.WithTimeout(l.Life.Context(), time.Minute)
	defer cancel()
	err = l.Write(ctx, func(tx *store.Tx, n *journal.Notice) error { return l.keepLate(tx, n, &a, connection) })
	if err != nil && !l.Life.Over() {
		l.Log.Error("keeping a late answer", "connection", connection, "error", err)
	}
}

func (l *Lanes) keepLate(tx *store.Tx, n *journal.Notice, a *attempt, connection string) error {
	d, err := tx.Delivery(a.id)
	if err != nil || d.Target != connection {
		return nil // it answers nothing that was asked there
	}
	tries, err := tx.Tries(d.ID)
	if err != nil {
		return err
	}
	late := 0
	for _, t := range tries {
		if t.Outcome == store.Late {
			late++
		}
	}
	if late >= keptLate {
		return nil
	}
	what := "an answer for which nobody waited any more"
	if d.State == store.Done {
		what = "one more answer; the first one counts"
	}
	a.receipt.Code, a.failed = "", fmt.Errorf("%s", what)
	d.Total++
	n.Events[journal.EventTransactions] = true
	if err := a.store(tx, &d); err != nil {
		return err
	}
	return tx.SaveDelivery(&d, l.Now())
}

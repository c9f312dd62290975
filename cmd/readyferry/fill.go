package main

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"time"

	"github.com/spf13/cobra"

	"readyferry/core/find"
	"readyferry/core/retry"
	"readyferry/core/run"
	"readyferry/core/want"
	"readyferry/store"
	"readyferry/store/body"
)

func fillCommand() *cobra.Command {
	var data string
	var n int
	var over time.Duration
	c := &cobra.Command{
		Use: "fill", Short: "Fill a folder with made-up transactions, to try it at size", Args: cobra.NoArgs,
		Long: "Adds transactions of the demo's flows, each with its message and a delivery, to the folder of an\n" +
			"application that is not running: delivered, turned away and dead letters, spread over the time until now.",
		RunE: func(c *cobra.Command, _ []string) error {
			s, err := store.Open(data)
			if err != nil {
				return err
			}
			defer s.Close()
			return fill(c.Context(), s, n, over, c.ErrOrStderr())
		},
	}
	c.Flags().StringVar(&data, "data", "demo-data", "folder that is filled; made when absent")
	c.Flags().IntVar(&n, "transactions", 100_000, "how many")
	c.Flags().DurationVar(&over, "over", 30*24*time.Hour, "over how long they came")
	return c
}

// filledAtOnce is how many one commit adds.
const filledAtOnce = 1000

var filled = []struct{ flow, step, target, prefix string }{
	{"hold-requests", "to-shelf", "shelf-printer", "HR-"},
	{"return-scans", "tell", "circulation", "RS-"},
	{"interloan-asks", "ask", "sandholm", "IL-"},
	{"overdue-notices", "send", "service-desk", "ON-"},
}

func fill(ctx context.Context, s *store.Store, n int, over time.Duration, tell io.Writer) error {
	chance := rand.New(rand.NewPCG(1, uint64(n)))
	end := time.Now().UTC()
	for done := 0; done < n; done += filledAtOnce {
		many := min(filledAtOnce, n-done)
		err := s.Write(ctx, func(tx *store.Tx) error {
			docs := make([]store.SearchDoc, 0, many)
			last := int64(0)
			for i := range many {
				at := end.Add(-over + time.Duration(float64(over)*float64(done+i)/float64(n)))
				doc, err := fillOne(tx, chance, done+i, at.Truncate(time.Microsecond))
				if err != nil {
					return err
				}
				docs, last = append(docs, doc), doc.Seq
			}
			if !s.Words() {
				return nil
			}
			return tx.Index(docs, last, nil, nil)
		})
		if err != nil {
			return err
		}
		if (done+many)%50_000 == 0 || done+many == n {
			fmt.Fprintf(tell, "%d of %d\n", done+many, n)
		}
	}
	return ctx.Err()
}

// fillOne adds a transaction that came at a time.
func fillOne(tx *store.Tx, chance *rand.Rand, n int, at time.Time) (doc store.SearchDoc, err error) {
	of := filled[chance.IntN(len(filled))]
	took := time.Duration(chance.ExpFloat64() * float64(40*time.Millisecond)).Truncate(time.Microsecond)
	finished := at.Add(took)
	id := store.IDAt(at, uint64(n))
	t := &store.Transaction{ID: id, Flow: of.flow, Version: 1, State: store.Delivered, Tries: 1,
		Reference: fmt.Sprintf("%s%07d", of.prefix, n), ReceivedAt: at, FinishedAt: &finished}
	content := fmt.Sprintf(
		`{"request":%q,"patron":{"card":"LC %d"},"item":"31408-%05d"}`,
		t.Reference,
		1000+n%9000,
		n%100_000,
	)
	m := &store.Message{Tx: id, Source: "fill", Body: body.OfMessage([]byte(content)), Warnings: []byte("null"),
		Headers: []byte(`[["content-type","application/json"]]`)}
	switch {
	case n%97 == 0:
		t.State, t.Tries, t.Reason = store.DeadLetter, 4, of.target+" answered 503, given up after 4 tries"
		t.Place, t.FinishedAt = of.step, nil
	case n%13 == 0:
		t.State, t.Tries, t.Reason = store.TurnedAway, 0, "it was cancelled"
	}
	if err := tx.AddTransaction(t, m); err != nil {
		return doc, err
	}
	doc = store.SearchDoc{Seq: t.Message, Reference: find.Folded(t.Reference), Body: t.Reference + "\n" + t.Reason,
		Tags: []string{"flow " + t.Flow, "first", store.NumberTag("tries", float64(t.Tries)),
			store.NumberTag("took", float64(took.Microseconds())), store.NumberTag("size", float64(len(content)))}}
	if t.State == store.TurnedAway {
		return doc, nil
	}
	doc.Tags = append(doc.Tags, "target "+of.target, "step "+of.step)
	return doc, fillDelivery(tx, t, of.step, of.target, took)
}

func fillDelivery(tx *store.Tx, t *store.Transaction, step, target string, took time.Duration) error {
	id, err := store.ParseID(run.DeliveryID(t.ID.String(), step))
	if err != nil {
		return err
	}
	plan, err := retry.Default().Encode()
	if err != nil {
		return err
	}
	request, err := json.Marshal(want.Request{Method: "POST", Path: "/", Format: "json"})
	if err != nil {
		return err
	}
	at := t.ReceivedAt
	d := &store.Delivery{
		ID:        id,
		Tx:        t.ID,
		Flow:      t.Flow,
		Path:      step,
		Step:      step,
		Target:    target,
		Request:   request,
		Plan:      plan,
		CreatedAt: at,
		FirstAt:   &at,
		Tries:     t.Tries,
		Total:     t.Tries,
		State:     store.Done,
		Body:      body.Of([]byte("{}")),
	}
	if err := tx.AddDelivery(d); err != nil {
		return err
	}
	last := store.Try{At: at, Took: took.Microseconds(), Outcome: string(retry.Delivered), Status: 200}
	if t.State == store.DeadLetter {
		d.State, last.Outcome, last.Status = store.Dead, string(retry.Again), 503
	}
	for d.Total = 1; d.Total <= t.Tries; d.Total++ {
		one := last
		if err := tx.AddTry(d, &one); err != nil {
			return err
		}
	}
	d.Total = t.Tries
	if err := tx.SaveDelivery(d, at); err != nil {
		return err
	}
	if t.State != store.DeadLetter {
		return nil
	}
	return tx.SaveLetter(
		&store.Letter{ID: store.IDAt(at, uint64(t.Message)), Tx: t.ID, Flow: t.Flow, Version: 1, Step: step,
			Path: step, Kind: "deliver", Phase: "delivery", Class: "target", Reason: t.Reason, Cause: "fill " + t.Flow,
			CauseText: t.Reason, Reference: t.Reference, At: at},
		at,
		"the flow "+t.Flow,
		"died",
		t.Reason,
	)
}

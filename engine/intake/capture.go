package intake

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"readyferry/core/message"
	"readyferry/core/run"
	"readyferry/core/step"
	"readyferry/engine/catalog"
	"readyferry/engine/journal"
	"readyferry/store"
)

// capturedSamples is how many messages an unpublished flow keeps.
const capturedSamples = 20

// keepSample keeps a message for a flow that was never published.
func (k *Intakes) keepSample(ctx context.Context, in *Intake, c Call, headers []message.Header) (*step.Answer, error) {
	now := k.Now()
	received := "received " + now.Format("2006-01-02 15.04.05.000")
	s := catalog.Sample{
		Headers: map[string]string{},
		Params:  map[string]string{},
		Query:   map[string]string{},
		At:      now.Truncate(time.Millisecond),
	}
	for _, h := range headers {
		s.Headers[strings.ToLower(h.Name)] = h.Value
	}
	for _, p := range in.Params {
		s.Params[p.Name] = p.Value
	}
	for _, q := range c.Query {
		s.Query[q.Name] = q.Value
	}
	s.SetBody(c.Body)
	if f := k.Catalog.Flow(in.Flow); f != nil {
		s.MadeUp(f.Draft, k.MaskOf(in.Flow, nil))
	}
	full := false
	err := k.Store.Write(ctx, func(tx *store.Tx) error {
		n, err := tx.CountSamples(in.Flow)
		if full = n >= capturedSamples; full || err != nil {
			return err
		}
		if s.Name, err = tx.FreeSampleName(in.Flow, received); err != nil {
			return err
		}
		return catalog.SaveSample(tx, in.Flow, s)
	})
	if err != nil {
		return nil, fmt.Errorf("keeping the message as a sample: %w", err)
	}
	if full {
		return nil, &run.RefusedError{
			Status: 503,
			Title:  "The flow is not published",
			Detail: fmt.Sprintf(
				"%s keeps %d samples already and takes no more until it is published",
				in.Flow,
				capturedSamples,
			),
		}
	}
	k.Announce(journal.EventFlows)
	body, err := json.Marshal(
		map[string]string{
			"sample": s.Name,
			"detail": in.Flow + " is not published yet; the message is kept as a sample",
		},
	)
	return &step.Answer{
		Status:  202,
		Headers: []message.Header{{Name: "Content-Type", Value: "application/json"}},
		Body:    body,
	}, err
}

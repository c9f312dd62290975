package journal

import (
	"errors"
	"fmt"
	"strings"

	"readyferry/core/flow"
	"readyferry/core/step"
	"readyferry/core/want"
	"readyferry/store"
)

// The headers of a question by a queue, and of its reply. (From memory: these names
// are common practice in messaging.)
const (
	CorrelationHeader = "Correlation-Id"
	ReplyToHeader     = "Reply-To"
)

// passOn tells whoever waits for an answer of this transaction that it has failed:
// a flow that has called this one, or one that has put a question into its queue.
// That one then fails where it asked, or goes the way of its else, and its dead
// letter is the one that a person decides about; here the failure is noted and no
// second letter is made. passed is false where nobody waits.
func (w *Writing) passOn(f *step.Failure) (passed bool, err error) {
	root := *w.T
	for root.Parent != nil { // a part answers nobody itself
		if root, err = w.Tx.Transaction(*root.Parent); err != nil {
			return false, err
		}
	}
	if p, err := w.Catalog.Plan(root.Flow, root.Version); err != nil || p.Rules < flow.Rules2 {
		return false, nil
	}
	asker, path, err := w.askerOf(&root)
	if err != nil || asker == nil {
		return false, err
	}
	reason := f.Reason
	if f.Kind != "subflow" || !strings.HasPrefix(reason, "the flow ") { // else it tells already where it came from
		reason = fmt.Sprintf("the flow %s failed at %s: %s", root.Flow, f.Step, reason)
	}
	told, err := Prepare(path, want.Effect{Item: root.ID.String(), Failed: reason})
	if err != nil {
		return false, err
	}
	return true, w.handTo(*asker, told)
}

// askerOf gives who waits for an answer of a transaction, and where; nil for nobody.
func (w *Writing) askerOf(root *store.Transaction) (asker *store.ID, path string, err error) {
	if root.CallerWaits {
		stands, err := w.Tx.HasLimit(*root.Caller, root.CallerPath)
		if err != nil || !stands {
			return nil, "", err
		}
		return root.Caller, root.CallerPath, nil
	}
	if root.FromGroup || root.OfLetter != nil || root.Caller != nil {
		return nil, "", nil
	}
	m, err := w.Tx.MessageHead(root.ID)
	if errors.Is(err, ErrNotFound) {
		return nil, "", nil
	}
	if err != nil {
		return nil, "", err
	}
	headers, err := want.DecodeHeaders(m.Headers)
	if err != nil {
		return nil, "", nil
	}
	correlation, replyTo := "", ""
	for _, h := range headers {
		switch {
		case strings.EqualFold(h.Name, CorrelationHeader):
			correlation = h.Value
		case strings.EqualFold(h.Name, ReplyToHeader):
			replyTo = h.Value
		}
	}
	if correlation == "" || replyTo == "" || !strings.HasPrefix(m.Source, "queue ") {
		return nil, "", nil
	}
	a, err := w.Tx.TakeAsk(correlation, replyTo)
	if errors.Is(err, ErrNotFound) {
		return nil, "", nil // it was answered, or nobody waits any more
	}
	return &a.Tx, a.Path, err
}

// tellRepeats lets those hear of the end of a transaction who called its flow with the
// same once value and wait for the first one's answer. untold tells that there are
// some and that the walk must be done again to know what they hear.
func (w *Writing) tellRepeats(known bool) (untold bool, err error) {
	repeats, err := w.Tx.WaitingRepeats(w.T.ID)
	if err != nil || len(repeats) == 0 {
		return false, err
	}
	if !known {
		return true, nil
	}
	for i := range repeats {
		e := w.Move.heard
		if e.Path = repeats[i].CallerPath; w.T.State == store.TurnedAway && w.Move.result.Answer == nil {
			if e, err = Prepare(e.Path, w.away()); err != nil {
				return false, err
			}
		}
		if err := w.handTo(*repeats[i].Caller, e); err != nil {
			return false, err
		}
	}
	return false, nil
}

// away is what a caller hears of a message that its flow has turned away.
func (w *Writing) away() want.Effect {
	return want.Effect{
		Item:   w.T.ID.String(),
		Failed: fmt.Sprintf("the flow %s turned the message away: %s", w.T.Flow, w.T.Reason),
	}
}

package intake

import (
	"context"
	"fmt"
	"time"

	"readyferry/core/run"
	"readyferry/core/step"
	"readyferry/store"
)

// mostExpected is how many callers may wait for an end at once.
const mostExpected = 20_000

// crowded refuses a caller who would wait for the end of a message beside very many others.
func (k *Intakes) crowded(in *Intake) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	if len(k.expected) < mostExpected || !in.plan.Document.Intake.Finished {
		return nil
	}
	return &run.RefusedError{
		Status: 429,
		Title:  "Too many callers wait",
		Detail: fmt.Sprintf("%d callers wait for the end of their message; nothing was stored, send it again later",
			mostExpected),
		RetryAfter: comeAgain,
	}
}

// expect lets a caller hear the answer of a transaction that is finished, or is
// answered by a step. forget must be called.
func (k *Intakes) expect(id store.ID) (heard <-chan *step.Answer, forget func()) {
	ch := make(chan *step.Answer, 1)
	k.mu.Lock()
	k.expected[id] = append(k.expected[id], ch)
	k.mu.Unlock()
	return ch, func() {
		k.mu.Lock()
		defer k.mu.Unlock()
		list := k.expected[id]
		for i, c := range list {
			if c == ch {
				list = append(list[:i:i], list[i+1:]...)
				break
			}
		}
		if k.expected[id] = list; len(list) == 0 {
			delete(k.expected, id)
		}
	}
}

// tellCallers hands an answer to those who wait for it.
func (k *Intakes) tellCallers(id store.ID, a *step.Answer) {
	k.mu.Lock()
	defer k.mu.Unlock()
	for _, ch := range k.expected[id] {
		select {
		case ch <- a:
		default: // it has heard
		}
	}
}

// waitFor waits for the answer of a transaction. When that takes too long the
// caller is told what it would have been told at once, and the answer is kept.
func (k *Intakes) waitFor(
	ctx context.Context,
	id store.ID,
	heard <-chan *step.Answer,
	wait time.Duration,
) (*step.Answer, error) {
	timer := time.NewTimer(wait)
	defer timer.Stop()
	select {
	case a := <-heard:
		return a, nil
	case <-timer.C:
		return run.StoredAnswer(id.String()), nil
	case <-ctx.Done():
		return nil, ctx.Err()
	case <-k.Life.Closing():
	}
	select {
	case a := <-heard: // it came just in time
		return a, nil
	default:
	}
	return nil, &run.RefusedError{
		Status: 503,
		Title:  "The application stops",
		Detail: fmt.Sprintf("the message is stored as transaction %s and goes on after the next start", id),
	}
}

// stopping is the answer to a call that comes when the application is about to stop.
func (k *Intakes) stopping() error {
	select {
	case <-k.Life.Closing():
		return &run.RefusedError{
			Status: 503,
			Title:  "The application stops",
			Detail: "nothing was stored; send it again later",
		}
	default:
		return nil
	}
}

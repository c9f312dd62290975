package intake

import (
	"context"
	"errors"
	"time"

	"readyferry/core/format"
	"readyferry/core/message"
	"readyferry/core/run"
	"readyferry/core/step"
	"readyferry/engine/journal"
	"readyferry/store"
)

// Streams tells whether a body of a type and size goes to the disk while it comes: no step of
// the flow reads it, and it is large, or does not say how large it is (size < 0).
func (in *Intake) Streams(contentType string, size int64) bool {
	if in.draft || in.plan == nil || size >= 0 && size <= journal.Large || !in.plan.Unread() {
		return false
	}
	kind := message.NewString(contentType)
	return step.FormatOf(in.plan.Document.Intake.Format, kind, nil) == format.Binary
}

// streamed takes a message whose body comes as a stream. Nothing of it is kept unless the
// whole is. What came counts against the key that the caller has.
func (k *Intakes) streamed(
	ctx context.Context, in *Intake, c Call, headers []message.Header, key string,
) (*step.Answer, error) {
	if err := errors.Join(k.Roomy(), k.crowded(in), k.within(in, nil)); err != nil {
		return nil, err
	}
	staged, err := k.Store.Stage(ctx, c.Stream)
	if err != nil {
		return nil, err
	}
	k.rates.of(in.Flow, in.plan.Document.Bounds).Spend(0, staged.Body.Size(), time.Now())
	k.Catalog.Spent(key, staged.Body.Size())
	t := &taking{
		Intakes: k, in: in, id: store.NewID(), staged: staged,
		envelope: run.Envelope{ReceivedAt: k.Now(), Headers: headers, Params: in.Params, Query: c.Query,
			Apart: true, Body: staged.Body.Reference(), Size: int(staged.Body.Size())},
		source: "webhook " + c.Method + " /in" + c.Path,
	}
	answer, err := t.accept(ctx, func() {})
	if err := k.Store.DropStaged(context.WithoutCancel(ctx), staged); err != nil { // where no message has it
		k.Log.Error("removing a body that was not taken", "flow", in.Flow, "error", err)
	}
	return answer, err
}

package watch

import (
	"context"
	"log/slog"

	"readyferry/store"
)

// Logging gives what writes to a log what happened: dead letters as warnings, and at level debug
// each message that comes and ends, and each try. A line has names and ids and what came of it;
// references, reasons, headers and bodies, which can hold anything, are not in it.
func Logging(log *slog.Logger) func([]store.Happened) {
	ctx := context.Background()
	return func(all []store.Happened) {
		closely := log.Enabled(ctx, slog.LevelDebug)
		for i := range all {
			h := &all[i]
			if h.What == store.HasDied {
				log.LogAttrs(ctx, slog.LevelWarn, "dead letter", slog.String("flow", h.Flow), slog.String("step", h.Step),
					slog.String("transaction", h.Tx.String()))
			} else if closely {
				closeUp(ctx, log, h)
			}
		}
	}
}

func closeUp(ctx context.Context, log *slog.Logger, h *store.Happened) {
	own := []slog.Attr{slog.String("flow", h.Flow), slog.String("transaction", h.Tx.String())}
	if h.Journey != nil {
		own = append(own, slog.String("journey", h.Journey.String()))
	}
	var what string
	switch h.What {
	case store.HasCome:
		what = "message received"
	case store.HasEnded:
		what = "transaction ended"
		own = append(own, slog.String("state", h.State.String()), slog.Duration("took", h.Took))
	case store.WasTried:
		what = "delivery tried"
		own = append(own, slog.String("step", h.Step), slog.String("delivery", h.Delivery.String()),
			slog.String("connection", h.Target), slog.Int("try", h.N), slog.String("outcome", h.Outcome),
			slog.Int("status", h.Status), slog.Duration("took", h.Took))
	default:
		return
	}
	log.LogAttrs(ctx, slog.LevelDebug, what, own...)
}

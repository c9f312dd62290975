// Package tracing tells an OpenTelemetry collector what happens, by OTLP over HTTP. It is off
// unless an address is given.
//
// Each transaction is a span from when its message came in to its end; each delivery is a span
// below it, and each of its tries one below that. A trace is a journey: what came with a traceparent
// (W3C Trace Context) belongs to the trace of its caller, below the caller's span, and what the
// target does on behalf of a delivery is below the span of that delivery, whose id went out in its
// traceparent. Spans carry names of flows, steps and connections, ids, states and status codes:
// never a reference, a reason, a header or a body.
//
// Spans are made behind the commit, from what was committed, and handed over without waiting:
// where the collector is slow or gone, spans are lost and messages are not.
package tracing

import (
	"context"
	"encoding/binary"
	"fmt"
	"log/slog"
	"net/url"
	"sync/atomic"
	"time"

	"go.opentelemetry.io/otel"
	"go.opentelemetry.io/otel/attribute"
	"go.opentelemetry.io/otel/codes"
	"go.opentelemetry.io/otel/exporters/otlp/otlptrace/otlptracehttp"
	"go.opentelemetry.io/otel/sdk/resource"
	sdk "go.opentelemetry.io/otel/sdk/trace"
	"go.opentelemetry.io/otel/trace"

	"readyferry/core/retry"
	"readyferry/store"
)

// waiting is how many commits may wait to become spans.
const waiting = 4096

// Begin is how a transaction began: whose journey it is, and the span of whoever sent its message,
// where that was told.
type Begin struct {
	Journey *store.ID
	Caller  [8]byte
	Called  bool
}

// Tracer makes spans of what happened.
type Tracer struct {
	provider *sdk.TracerProvider
	tracer   trace.Tracer
	look     func(tx store.ID) (Begin, error)
	in       chan []store.Happened
	done     chan struct{}
	lost     atomic.Int64
	log      *slog.Logger
}

// Start begins to tell the collector at an address such as http://127.0.0.1:4318. look tells
// how a transaction began.
func Start(ctx context.Context, endpoint, version string, look func(tx store.ID) (Begin, error), log *slog.Logger) (
	*Tracer, error,
) {
	at, err := url.Parse(endpoint)
	if err != nil || at.Scheme != "http" && at.Scheme != "https" || at.Host == "" {
		return nil, fmt.Errorf("%q is no address of a collector; write it as http://127.0.0.1:4318", endpoint)
	}
	if at.Path == "" || at.Path == "/" {
		at.Path = "/v1/traces" // as the specification of OTLP has it
	}
	out, err := otlptracehttp.New(ctx, otlptracehttp.WithEndpointURL(at.String()))
	if err != nil {
		return nil, fmt.Errorf("telling traces to %s: %w", endpoint, err)
	}
	otel.SetErrorHandler(otel.ErrorHandlerFunc(func(err error) { log.Warn("telling traces", "error", err) }))
	return begin(out, version, look, log), nil
}

func begin(out sdk.SpanExporter, version string, look func(tx store.ID) (Begin, error), log *slog.Logger) *Tracer {
	own := resource.NewSchemaless(attribute.String("service.name", "ready-ferry"), attribute.String("service.version", version))
	t := &Tracer{
		provider: sdk.NewTracerProvider(sdk.WithBatcher(out), sdk.WithIDGenerator(given{}), sdk.WithResource(own),
			sdk.WithSampler(sdk.AlwaysSample())),
		look: look, in: make(chan []store.Happened, waiting), done: make(chan struct{}), log: log,
	}
	t.tracer = t.provider.Tracer("readyferry")
	go t.run()
	return t
}

// Happened takes what a commit brought. It never waits.
func (t *Tracer) Happened(all []store.Happened) {
	select {
	case t.in <- append([]store.Happened(nil), all...): // the writer uses its own again
	default:
		t.lost.Add(int64(len(all)))
	}
}

// Stop hands over what it has, for as long as ctx lets it.
func (t *Tracer) Stop(ctx context.Context) error {
	close(t.in)
	select {
	case <-t.done:
	case <-ctx.Done():
	}
	if n := t.lost.Load(); n > 0 {
		t.log.Warn("spans were lost, as the collector did not take them fast enough", "spans", n)
	}
	return t.provider.Shutdown(ctx)
}

func (t *Tracer) run() {
	defer close(t.done)
	for all := range t.in {
		for i := range all {
			t.span(&all[i])
		}
	}
}

// span makes a span of what happened; of a transaction when it has ended.
func (t *Tracer) span(h *store.Happened) {
	own := []attribute.KeyValue{attribute.String("readyferry.flow", h.Flow), attribute.String("readyferry.transaction", h.Tx.String())}
	switch h.What {
	case store.HasEnded, store.HasDied:
		own = append(own, attribute.String("readyferry.state", h.State.String()))
		id, name := tail(h.Tx), "flow "+h.Flow
		parent, below := t.above(h)
		if h.Again {
			id, parent, below, name = other(id, 1<<60), id, true, name+", repaired"
		}
		t.make(h, name, id, parent, below, trace.SpanKindServer, h.State == store.DeadLetter, own)
	case store.HasSettled:
		own = append(own, attribute.String("readyferry.step", h.Step), attribute.String("readyferry.connection", h.Target),
			attribute.Int("readyferry.tries", h.N))
		t.make(h, "deliver to "+h.Target, tail(h.Delivery), tail(h.Tx), true, trace.SpanKindClient, h.Outcome == "dead", own)
	case store.WasTried:
		own = append(own, attribute.String("readyferry.connection", h.Target), attribute.Int("readyferry.try", h.N),
			attribute.String("readyferry.outcome", h.Outcome))
		if h.Status > 0 {
			own = append(own, attribute.Int("http.response.status_code", h.Status))
		}
		t.make(h, fmt.Sprintf("try %d", h.N), other(tail(h.Delivery), uint64(h.N)), tail(h.Delivery), true, trace.SpanKindInternal,
			h.Outcome != string(retry.Delivered), own)
	case store.HasCome:
	}
}

// above gives the span that a transaction is below.
func (t *Tracer) above(h *store.Happened) (span [8]byte, below bool) {
	if h.Parent != nil {
		return tail(*h.Parent), true
	}
	b, err := t.look(h.Tx)
	return b.Caller, err == nil && b.Called
}

// other gives the id of a span that has none of its own.
func other(id [8]byte, n uint64) (out [8]byte) {
	binary.BigEndian.PutUint64(out[:], binary.BigEndian.Uint64(id[:])^n<<8^0x5a)
	return out
}

func tail(id store.ID) [8]byte { return [8]byte(id[8:]) }

func (t *Tracer) make(h *store.Happened, name string, id, parent [8]byte, below bool, kind trace.SpanKind, bad bool,
	attributes []attribute.KeyValue,
) {
	journey := trace.TraceID(h.Tx)
	if h.Sought {
		if b, err := t.look(h.Tx); err == nil {
			h.Journey = b.Journey
		}
	}
	if h.Journey != nil {
		journey = trace.TraceID(*h.Journey)
	}
	ctx := context.WithValue(context.Background(), idKey{}, ids{journey, id})
	if below {
		ctx = trace.ContextWithRemoteSpanContext(ctx, trace.NewSpanContext(trace.SpanContextConfig{TraceID: journey,
			SpanID: parent, TraceFlags: trace.FlagsSampled, Remote: true}))
	}
	_, span := t.tracer.Start(ctx, name, trace.WithTimestamp(h.At), trace.WithSpanKind(kind), trace.WithAttributes(attributes...))
	if bad {
		span.SetStatus(codes.Error, "")
	}
	span.End(trace.WithTimestamp(h.At.Add(max(h.Took, time.Microsecond))))
}

// given gives spans the ids that the journal has for what they tell of.
type given struct{}

type idKey struct{}

type ids struct {
	trace trace.TraceID
	span  trace.SpanID
}

// NewIDs implements sdk.IDGenerator.
func (given) NewIDs(ctx context.Context) (trace.TraceID, trace.SpanID) {
	i, _ := ctx.Value(idKey{}).(ids)
	return i.trace, i.span
}

// NewSpanID implements sdk.IDGenerator.
func (given) NewSpanID(ctx context.Context, _ trace.TraceID) trace.SpanID {
	i, _ := ctx.Value(idKey{}).(ids)
	return i.span
}

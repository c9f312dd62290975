package tracing

import (
	"compress/gzip"
	"context"
	"encoding/hex"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	collector "go.opentelemetry.io/proto/otlp/collector/trace/v1"
	spans "go.opentelemetry.io/proto/otlp/trace/v1"
	"google.golang.org/protobuf/proto"

	"readyferry/store"
)

// A collector reads what comes with the schema that OpenTelemetry publishes
// (go.opentelemetry.io/proto/otlp): what it understands, others do.
type standIn struct {
	mu    sync.Mutex
	spans map[string]*spans.Span // by name
	path  string
}

func (s *standIn) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	body := io.Reader(r.Body)
	if r.Header.Get("Content-Encoding") == "gzip" {
		var err error
		if body, err = gzip.NewReader(body); err != nil {
			http.Error(w, err.Error(), http.StatusBadRequest)
			return
		}
	}
	b, err := io.ReadAll(body)
	var in collector.ExportTraceServiceRequest
	if err == nil {
		err = proto.Unmarshal(b, &in)
	}
	if err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.path = r.URL.Path
	for _, res := range in.ResourceSpans {
		for _, scope := range res.ScopeSpans {
			for _, span := range scope.Spans {
				s.spans[span.Name] = span
			}
		}
	}
}

func id(n byte) (id store.ID) {
	for i := range id {
		id[i] = n*16 + byte(i)
	}
	return id
}

func TestACollectorGetsSpans(t *testing.T) {
	in := &standIn{spans: map[string]*spans.Span{}}
	server := httptest.NewServer(in)
	defer server.Close()
	journey, caller := id(9), [8]byte{1, 2, 3, 4, 5, 6, 7, 8}
	looked := 0
	look := func(tx store.ID) (Begin, error) {
		looked++
		if tx == id(1) {
			return Begin{Journey: &journey, Caller: caller, Called: true}, nil
		}
		return Begin{}, fmt.Errorf("there is no transaction %s", tx)
	}
	tracer, err := Start(t.Context(), server.URL, "a1b2", look, slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	began := time.Date(2026, 11, 2, 9, 0, 0, 0, time.UTC)
	tx, parent, delivery := id(1), id(1), id(2)
	tracer.Happened([]store.Happened{
		{What: store.HasCome, Tx: tx, Flow: "hold-requests", At: began},
		{What: store.WasTried, Tx: tx, Sought: true, Flow: "hold-requests", Step: "send", At: began.Add(time.Second), Took: 40 * time.Millisecond,
			Delivery: delivery, Target: "desk", Outcome: "again", Status: 503, N: 1},
		{What: store.WasTried, Tx: tx, Journey: &journey, Flow: "hold-requests", Step: "send", At: began.Add(5 * time.Second),
			Took: 30 * time.Millisecond, Delivery: delivery, Target: "desk", Outcome: "delivered", Status: 201, N: 2},
		{What: store.HasSettled, Tx: tx, Journey: &journey, Flow: "hold-requests", Step: "send", At: began.Add(time.Second),
			Took: 4 * time.Second, Delivery: delivery, Target: "desk", Outcome: "delivered", N: 2},
		{What: store.HasEnded, Tx: tx, Journey: &journey, Flow: "hold-requests", State: store.Delivered, At: began, Took: 6 * time.Second},
		{What: store.HasDied, Tx: id(3), Parent: &parent, Journey: &journey, Flow: "printing", Step: "print", State: store.DeadLetter, At: began},
		{What: store.HasEnded, Tx: id(3), Parent: &parent, Journey: &journey, Flow: "printing", State: store.Delivered, At: began,
			Took: time.Hour, Again: true},
	})
	if err := tracer.Stop(context.Background()); err != nil {
		t.Fatal(err)
	}
	if in.path != "/v1/traces" {
		t.Errorf("it was sent to %s", in.path)
	}
	for name, want := range map[string]struct {
		span, parent string
		kind         spans.Span_SpanKind
		status       spans.Status_StatusCode
		took         time.Duration
	}{
		"flow hold-requests":      {h(tx), hex.EncodeToString(caller[:]), spans.Span_SPAN_KIND_SERVER, 0, 6 * time.Second},
		"deliver to desk":         {h(delivery), h(tx), spans.Span_SPAN_KIND_CLIENT, 0, 4 * time.Second},
		"try 1":                   {"", h(delivery), spans.Span_SPAN_KIND_INTERNAL, 2, 40 * time.Millisecond},
		"try 2":                   {"", h(delivery), spans.Span_SPAN_KIND_INTERNAL, 0, 30 * time.Millisecond},
		"flow printing":           {h(id(3)), h(parent), spans.Span_SPAN_KIND_SERVER, 2, time.Microsecond},
		"flow printing, repaired": {"", h(id(3)), spans.Span_SPAN_KIND_SERVER, 0, time.Hour},
	} {
		got := in.spans[name]
		if got == nil {
			t.Errorf("there is no span %q", name)
			continue
		}
		took := time.Duration(got.EndTimeUnixNano - got.StartTimeUnixNano)
		if hex.EncodeToString(got.TraceId) != hex.EncodeToString(journey[:]) || hex.EncodeToString(got.ParentSpanId) != want.parent ||
			want.span != "" && hex.EncodeToString(got.SpanId) != want.span || got.Kind != want.kind ||
			got.GetStatus().GetCode() != want.status || took != want.took {
			t.Errorf("%s: %+v", name, got)
		}
	}
	if a, b := in.spans["try 1"], in.spans["try 2"]; a != nil && b != nil && string(a.SpanId) == string(b.SpanId) {
		t.Error("two tries have one id")
	}
	if looked != 2 {
		t.Errorf("it looked %d times; once for a try of before the start, once for a caller", looked)
	}
	if text := fmt.Sprint(in.spans["try 1"].Attributes); !strings.Contains(text, "503") {
		t.Errorf("its attributes are %s", text)
	}
}

func h(id store.ID) string { return hex.EncodeToString(id[8:]) }

// A collector that does not answer keeps nobody waiting.
func TestACollectorThatIsGone(t *testing.T) {
	server := httptest.NewServer(http.NotFoundHandler())
	server.Close()
	tracer, err := Start(t.Context(), server.URL, "", func(store.ID) (Begin, error) { return Begin{}, nil }, slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	for n := range 3 * waiting {
		tracer.Happened([]store.Happened{{What: store.WasTried, Tx: id(1), Delivery: id(2), N: n}})
	}
	ctx, stop := context.WithCancel(context.Background())
	stop()
	_ = tracer.Stop(ctx) // that it could not tell is no failure of this test
}

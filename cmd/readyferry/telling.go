package main

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"runtime/debug"
	"strings"
	"time"

	"github.com/spf13/pflag"

	coretrace "readyferry/core/trace"
	"readyferry/core/want"
	"readyferry/engine"
	"readyferry/store"
	"readyferry/tracing"
)

// telling is how the application tells of itself.
type telling struct{ log, level, traces string }

func (t *telling) flags(f *pflag.FlagSet) {
	f.StringVar(&t.log, "log", "text", "form of the log on standard error: text or json")
	f.StringVar(&t.level, "log-level", "info", "from which level on lines are logged: debug (each message and try), info, warn or error")
	f.StringVar(&t.traces, "traces", "", "address of an OpenTelemetry collector that gets traces by OTLP over HTTP, such as\n"+
		"http://127.0.0.1:4318; nobody gets any without it")
}

// logger gives the log.
func (t *telling) logger(to io.Writer) (*slog.Logger, error) {
	var level slog.Level
	if err := level.UnmarshalText([]byte(strings.ToUpper(t.level))); err != nil {
		return nil, fmt.Errorf("--log-level must be debug, info, warn or error, not %q", t.level)
	}
	o := &slog.HandlerOptions{Level: level}
	switch t.log {
	case "text":
		return slog.New(slog.NewTextHandler(to, o)), nil
	case "json":
		return slog.New(slog.NewJSONHandler(to, o)), nil
	}
	return nil, fmt.Errorf("--log must be text or json, not %q", t.log)
}

// stopsWithin is how long the last spans may take to be told.
const stopsWithin = 3 * time.Second

// trace begins to tell traces, where somebody is to have them; stop ends it.
func (t *telling) trace(ctx context.Context, e *engine.Engine, s *store.Store, log *slog.Logger) (stop func(), err error) {
	if t.traces == "" {
		return func() {}, nil
	}
	tracer, err := tracing.Start(ctx, t.traces, release(), func(tx store.ID) (tracing.Begin, error) { return began(s.All(), tx) }, log)
	if err != nil {
		return nil, err
	}
	e.Watch.Meter.Pass(tracer.Happened)
	return func() {
		end, cancel := context.WithTimeout(context.Background(), stopsWithin)
		defer cancel()
		if err := tracer.Stop(end); err != nil {
			log.Warn("telling the last traces", "error", err)
		}
	}, nil
}

// release names what was built, as far as the build tells.
func release() string {
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return ""
	}
	for _, s := range info.Settings {
		if s.Key == "vcs.revision" {
			return s.Value
		}
	}
	return info.Main.Version
}

// began looks how a transaction began.
func began(s store.View, tx store.ID) (b tracing.Begin, err error) {
	t, err := s.Transaction(tx)
	if err != nil {
		return b, err
	}
	b.Journey = t.Journey
	m, err := s.MessageHead(tx)
	if err != nil {
		return b, err
	}
	headers, err := want.DecodeHeaders(m.Headers)
	if err != nil {
		return b, err
	}
	for _, h := range headers {
		if strings.EqualFold(h.Name, coretrace.Header) {
			_, b.Caller, b.Called = coretrace.Read(h.Value)
		}
	}
	return b, nil
}

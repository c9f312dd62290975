package main

import (
	"bytes"
	"encoding/json"
	"io"
	"log/slog"
	"strings"
	"testing"
)

func TestTheLogIsAsItWasAskedFor(t *testing.T) {
	for _, c := range []struct {
		log, level string
		lines      int
	}{{"json", "debug", 3}, {"json", "warn", 1}, {"text", "info", 2}} {
		var out bytes.Buffer
		log, err := (&telling{log: c.log, level: c.level}).logger(&out)
		if err != nil {
			t.Fatal(err)
		}
		log.Debug("a", "n", 1)
		log.Info("b", "n", 2)
		log.Warn("c", "n", 3)
		if n := strings.Count(out.String(), "\n"); n != c.lines {
			t.Errorf("%+v: %d lines", c, n)
		}
		if json.Valid([]byte(strings.SplitN(out.String(), "\n", 2)[0])) != (c.log == "json") {
			t.Errorf("%+v: %s", c, out.String())
		}
	}
	for _, c := range []telling{{log: "xml", level: "info"}, {log: "text", level: "loud"}} {
		if _, err := c.logger(io.Discard); err == nil || !strings.Contains(err.Error(), "must be") {
			t.Errorf("%+v: %v", c, err)
		}
	}
	_, err := (&telling{traces: "collector"}).trace(t.Context(), nil, nil, slog.New(slog.DiscardHandler))
	if err == nil || !strings.Contains(err.Error(), "no address of a collector") {
		t.Errorf("%v", err)
	}
}

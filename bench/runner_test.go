package bench

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/url"
	"testing"
	"time"

	"readyferry/connect"
	"readyferry/connect/systems"
	"readyferry/core/retry"
	"readyferry/core/want"
	"readyferry/runner/agent"
	"readyferry/runner/hub"
	"readyferry/runner/line"
)

// BenchmarkAcrossALine tries deliveries over HTTP at a runner, each noted on its disk before it is
// answered, beside the same tries without one; 64 at once, 1 KB each.
func BenchmarkAcrossALine(b *testing.B) {
	all, err := systems.All(systems.Surroundings{})
	if err != nil {
		b.Fatal(err)
	}
	target := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) { _, _ = io.Copy(io.Discard, r.Body) }))
	defer target.Close()
	silent := slog.New(slog.NewTextHandler(io.Discard, nil))
	h := hub.New(hub.Config{Here: all, Log: silent, Permits: func(string, string) error { return nil }})
	defer h.Close()
	door := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		name, key, _ := r.BasicAuth()
		_ = h.Begin(w, r, name, key)
	}))
	defer door.Close()
	at, err := url.Parse(door.URL)
	if err != nil {
		b.Fatal(err)
	}
	a, err := agent.Start(context.Background(), agent.Config{
		Joining: line.Joining{Address: at, Name: "depot", Key: "k", Dir: b.TempDir(), Log: silent}, Systems: all})
	if err != nil {
		b.Fatal(err)
	}
	defer a.Close()
	for name, where := range map[string]string{"without a runner": "", "at a runner": "at: depot\n"} {
		d, bad := all.Read(fmt.Appendf(nil, "readyferry: connection/1\nname: target\nkind: http\naddress: %s\n%s", target.URL, where))
		if d == nil {
			b.Fatal(bad)
		}
		link, err := h.Open(context.Background(), d.Connection)
		if err != nil {
			b.Fatal(err)
		}
		for where != "" {
			if _, away := h.Away("depot"); !away {
				break
			}
			time.Sleep(10 * time.Millisecond)
		}
		b.Run(name, func(b *testing.B) { tries(b, link.(connect.Sender)) })
	}
}

func tries(b *testing.B, to connect.Sender) {
	body := make([]byte, 1024)
	b.SetParallelism(32)
	b.RunParallel(func(p *testing.PB) {
		for p.Next() {
			r := connect.Request{ID: fmt.Sprint(time.Now().UnixNano()), Rules: retry.Default(),
				Request: want.Request{Method: "POST", Path: "/x", Format: "binary", Body: body}}
			if receipt, err := to.Send(context.Background(), r); err != nil || receipt.Outcome != retry.Delivered {
				b.Errorf("%+v %v", receipt, err)
				return
			}
		}
	})
	b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "tries/s")
}

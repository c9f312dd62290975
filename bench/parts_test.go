package bench

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"os"
	"runtime"
	"strings"
	"syscall"
	"testing"
	"time"

	"readyferry/connect"
	"readyferry/connect/systems"
	"readyferry/core/plan"
	"readyferry/core/retry"
	"readyferry/engine"
	"readyferry/engine/design"
	"readyferry/engine/intake"
	"readyferry/store"
)

// nowhere takes everything.
type nowhere struct{}

// Open implements connect.Opener.
func (n nowhere) Open(context.Context, *connect.Connection) (connect.Link, error) { return n, nil }

// Check implements connect.Link.
func (nowhere) Check(context.Context) (connect.Report, error) { return connect.Report{OK: true}, nil }

// Close implements connect.Link.
func (nowhere) Close() error { return nil }

// Send implements connect.Sender.
func (nowhere) Send(context.Context, connect.Request) (connect.Receipt, error) {
	return connect.Receipt{Outcome: retry.Delivered, Code: "204"}, nil
}

// running starts an engine whose deliveries go nowhere.
func running(b *testing.B, documents ...string) (*engine.Engine, *store.Store) {
	b.Helper()
	e, s := reaching(b, nowhere{})
	if _, err := e.Design.SaveConnection(context.Background(), "nowhere", []byte("readyferry: connection/1\nname: "+
		"nowhere\nkind: http\naddress: http://nowhere.invalid\n"), nil); err != nil {
		b.Fatal(err)
	}
	for i, d := range documents {
		publish(b, e, fmt.Sprint("f", i), d)
	}
	return e, s
}

// publish puts a flow to work.
func publish(b *testing.B, e *engine.Engine, name, document string) {
	b.Helper()
	if _, _, err := e.Design.SaveDraft(context.Background(), name, []byte(document), nil); err != nil {
		b.Fatal(err)
	}
	if _, _, err := e.Design.Publish(context.Background(), name, design.Word{Sure: true}); err != nil {
		b.Fatal(err)
	}
}

// reaching starts an engine that opens its connections by an opener; nil: as they are.
func reaching(b *testing.B, opener connect.Opener) (*engine.Engine, *store.Store) {
	b.Helper()
	s, err := store.Open(b.TempDir())
	if err != nil {
		b.Fatal(err)
	}
	all, err := systems.All(systems.Surroundings{Files: []string{os.TempDir()}})
	if err != nil {
		b.Fatal(err)
	}
	reader, err := plan.NewReader(all.Kinds()...)
	if err != nil {
		b.Fatal(err)
	}
	e, err := engine.New(
		engine.Config{
			Store:   s,
			Reader:  reader,
			Systems: all,
			Opener:  opener,
			Log:     slog.New(slog.NewTextHandler(io.Discard, nil)),
		},
	)
	if err != nil {
		b.Fatal(err)
	}
	if err := e.Start(); err != nil {
		b.Fatal(err)
	}
	b.Cleanup(func() {
		e.Stop()
		_ = s.Close()
	})
	return e, s
}

// post sends a message in and waits until all that it has to do is done.
func post(b *testing.B, e *engine.Engine, s *store.Store, path, body string) {
	b.Helper()
	in, _ := e.Intake.Find("POST", path)
	a, err := e.Intake.Accept(
		context.Background(),
		in,
		intake.Call{
			Method: "POST",
			Path:   path,
			Header: http.Header{"Content-Type": {"application/json"}},
			Body:   []byte(body),
		},
	)
	if err != nil {
		b.Fatal(err)
	}
	var answer struct{ Transaction string }
	if err := json.Unmarshal(a.Body, &answer); err != nil {
		b.Fatal(err)
	}
	id, err := store.ParseID(answer.Transaction)
	if err != nil {
		b.Fatal(err)
	}
	for {
		t, err := s.Transaction(id)
		if err != nil {
			b.Fatal(err)
		}
		if t.State == store.Delivered {
			return
		}
		if t.State == store.DeadLetter {
			b.Fatal(t.Reason)
		}
		time.Sleep(time.Millisecond)
	}
}

// used is what the process has used up: processor time, which a busy host
// disturbs less than the clock, and bytes allocated.
type used struct{ cpu, bytes float64 }

func usage(b *testing.B) used {
	b.Helper()
	var u syscall.Rusage
	if err := syscall.Getrusage(syscall.RUSAGE_SELF, &u); err != nil {
		b.Fatal(err)
	}
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	return used{float64(u.Utime.Nano() + u.Stime.Nano()), float64(m.TotalAlloc)}
}

func (u used) since(began used) used { return used{u.cpu - began.cpu, u.bytes - began.bytes} }

func (u *used) add(o used) { u.cpu, u.bytes = u.cpu+o.cpu, u.bytes+o.bytes }

// heap gives the bytes in use after a collection.
func heap() float64 {
	runtime.GC()
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	return float64(m.HeapInuse)
}

// The processor time and the memory per part of a message with 10,000 parts,
// beside those of one with 100; and how much more of the heap is in use behind
// it, in sizes of the message, which is kept while its parts begin.
func BenchmarkTenThousandParts(b *testing.B) {
	const steps = "steps: [{id: per, kind: split, each: body.items, steps: [{id: m, kind: map, fields: [{to: " +
		"/card, from: part.card}, {to: /of, from: body.of}, {to: /n, from: index}]}, {id: n, kind: note, text: " +
		"'${body.card}'}]}]\n"
	e, s := running(b, "readyferry: flow/1\nname: f0\nintake: {kind: webhook, path: /many, limit: 10000000}\n"+steps)
	message := func(n int) string {
		var sb strings.Builder
		sb.WriteString(`{"of":"x","items":[`)
		for i := range n {
			if i > 0 {
				sb.WriteByte(',')
			}
			fmt.Fprintf(&sb, `{"card":"LC %04d 203","item":"31408-20931-%d"}`, i, i)
		}
		return sb.String() + "]}"
	}
	few, many := message(100), message(10_000)
	post(b, e, s, "/many", few)
	var small, large used
	var before, after float64
	for b.Loop() {
		began := usage(b)
		for range 20 {
			post(b, e, s, "/many", few)
		}
		small.add(usage(b).since(began))
		before = heap()
		began = usage(b)
		post(b, e, s, "/many", many)
		large.add(usage(b).since(began))
		after = heap()
	}
	b.ReportMetric(large.cpu/1000/10_000/float64(b.N), "µs-cpu/part")
	b.ReportMetric(large.cpu/10_000/(small.cpu/2000), "×cpu-of-100")
	b.ReportMetric(large.bytes/10_000/(small.bytes/2000), "×bytes-of-100")
	b.ReportMetric((after-before)/float64(len(many)), "heap/message")
	b.Logf("steal %s", steal())
}

// The processor time per row of a list of 3,000 rows that are split and gathered
// again by key, beside that of one with 300.
func BenchmarkThreeThousandRowsGathered(b *testing.B) {
	e, s := running(
		b,
		"readyferry: flow/1\nname: f0\nintake: {kind: webhook, path: /rows, limit: 10000000}\nsteps: [{id: per, kind: "+
			"split, each: body, steps: [{id: by, kind: aggregate, key: part.card, close: {parts: true, age: 1h}}, "+
			"{id: n, kind: note, text: '${group.key}'}]}]\n",
	)
	message := func(n int) string {
		rows := make([]string, n)
		for i := range rows {
			rows[i] = fmt.Sprintf(`{"card":"LC %04d","item":%d}`, i%(n/5), i)
		}
		return "[" + strings.Join(rows, ",") + "]"
	}
	few, many := message(300), message(3000)
	post(b, e, s, "/rows", few)
	var small, large used
	for b.Loop() {
		began := usage(b)
		for range 5 {
			post(b, e, s, "/rows", few)
		}
		small.add(usage(b).since(began))
		began = usage(b)
		post(b, e, s, "/rows", many)
		large.add(usage(b).since(began))
	}
	b.ReportMetric(large.cpu/1000/3000/float64(b.N), "µs-cpu/row")
	b.ReportMetric(large.cpu/3000/(small.cpu/1500), "×cpu-of-300")
	b.ReportMetric(large.bytes/3000/(small.bytes/1500), "×bytes-of-300")
	b.Logf("steal %s", steal())
}

// Joining a group of 2,900 members whose end is an expression over its items, beside
// joining one of a few.
func BenchmarkJoiningALargeGroup(b *testing.B) {
	e, _ := running(b, "readyferry: flow/1\nname: f0\nintake: {kind: webhook, path: /g}\nsteps: [{id: g, kind: aggregate, "+
		"key: body.key, item: body.n, close: {when: 'size(group.items) >= 9000', age: 1h}}]\n")
	in, _ := e.Intake.Find("POST", "/g")
	n := 0
	join := func(key string) {
		n++
		body := fmt.Sprintf(`{"key":%q,"n":%d}`, key, n)
		if _, err := e.Intake.Accept(context.Background(), in, intake.Call{Method: "POST", Path: "/g",
			Header: http.Header{"Content-Type": {"application/json"}}, Body: []byte(body)}); err != nil {
			b.Fatal(err)
		}
	}
	for range 2900 {
		join("large")
	}
	ratio(b, func() { join("large") }, func() { join(fmt.Sprint("small ", n/20)) })
}

package bench

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"readyferry/engine"
	"readyferry/engine/intake"
)

// loops is a script that never ends; it is stopped at its limit.
const loops = `{id: c, kind: code, script: 'for (;;) {}'}`

// The p99 of a flow's intake while another flow computes at its limits, beside the
// same without it: as a ratio, the median of rounds in which both sides
// alternate. One side computes with scripts that are stopped at their limit, the
// other with ordinary CSV files of 0.8 MB that are mapped between two deliveries.
func BenchmarkIntakeBesideComputing(b *testing.B) {
	const quick = "readyferry: flow/1\nname: f0\nintake: {kind: webhook, path: /quick}\nsteps: [{id: d, kind: deliver, to: nowhere}]\n"
	const scripts = "readyferry: flow/1\nname: f1\nintake: {kind: webhook, path: /scripts}\nsteps: [{id: d, kind: " +
		"deliver, to: nowhere}, " + loops + "]\n"
	const files = "readyferry: flow/1\nname: f2\nintake: {kind: webhook, path: /files, format: csv, header: true, " +
		"limit: 10000000}\nsteps: [{id: d, kind: deliver, to: nowhere}, {id: m, kind: map, as: json, fields: " +
		"[{to: /rows, each: body, fields: [{to: /card, from: item.card}, {to: /due, from: item.due + " +
		"\"T00:00:00Z\"}, {to: /title, from: nameCase(item.title)}]}]}, {id: e, kind: deliver, to: nowhere}]\n"
	var rows strings.Builder
	rows.WriteString("card,due,title,branch\n")
	for i := range 16_000 {
		fmt.Fprintf(&rows, "LC %04d 203,2026-05-%02d,the year of the heron,MARL\n", i%10_000, i%28+1)
	}
	for _, c := range []struct{ name, path, body string }{
		{"scripts", "/scripts", `{}`},
		{"files", "/files", rows.String()},
	} {
		b.Run(c.name, func(b *testing.B) {
			e, _ := running(b, quick, scripts, files)
			send(b, e, "/quick", "application/json", `{"n":1}`)
			var ratios []float64
			for b.Loop() {
				var alone, beside []float64
				for range 5 {
					alone = append(alone, p99(b, e))
					kind := "application/json"
					if c.name == "files" {
						kind = "text/csv"
					}
					var all sync.WaitGroup
					for range 10 {
						all.Go(func() { send(b, e, c.path, kind, c.body) })
					}
					if c.name == "files" {
						all.Wait() // what is measured is the mapping behind the first delivery
					}
					beside = append(beside, p99(b, e))
					all.Wait()
					settle(b, e, c.path)
				}
				for i := range alone {
					ratios = append(ratios, beside[i]/alone[i])
				}
			}
			slices.Sort(ratios)
			b.ReportMetric(ratios[len(ratios)/2], "×p99-alone")
			b.ReportMetric(ratios[len(ratios)-1], "×p99-worst-round")
			b.Logf("steal %s", steal())
		})
	}
}

func send(b *testing.B, e *engine.Engine, path, kind, body string) {
	in, _ := e.Intake.Find("POST", path)
	if _, err := e.Intake.Accept(context.Background(), in, intake.Call{Method: "POST", Path: path,
		Header: http.Header{"Content-Type": {kind}}, Body: []byte(body)}); err != nil {
		b.Error(err)
	}
}

// p99 sends 400 messages by four callers and gives the 99th percentile of how long
// a caller waited, in seconds.
func p99(b *testing.B, e *engine.Engine) float64 {
	b.Helper()
	var mu sync.Mutex
	var took []float64
	var all sync.WaitGroup
	for range 4 {
		all.Go(func() {
			for range 100 {
				began := time.Now()
				send(b, e, "/quick", "application/json", `{"n":1}`)
				mu.Lock()
				took = append(took, time.Since(began).Seconds())
				mu.Unlock()
			}
		})
	}
	all.Wait()
	slices.Sort(took)
	return took[len(took)*99/100]
}

// settle waits until a flow has nothing under way.
func settle(b *testing.B, e *engine.Engine, path string) {
	b.Helper()
	in, _ := e.Intake.Find("POST", path)
	for {
		totals, err := e.Watch.Totals()
		if err != nil {
			b.Fatal(err)
		}
		open := int64(0)
		for _, c := range totals {
			if c.Flow == in.Flow && c.State < 2 {
				open += c.N
			}
		}
		if open == 0 {
			return
		}
		time.Sleep(10 * time.Millisecond)
	}
}

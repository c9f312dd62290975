// Package bench measures speed as ratios within one run: this machine's clock
// and disk are shared, so only the two sides of a ratio that alternate in one
// run can be compared. make bench prints them; docs/performance.md keeps them.
package bench

import (
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"readyferry/core/expr"
	"readyferry/core/format"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
	"readyferry/core/plan"
	"readyferry/core/run"
)

// steal gives the share of time that the host took away, from /proc/stat.
func steal() string {
	b, err := os.ReadFile("/proc/stat")
	if err != nil {
		return "unknown"
	}
	var n [8]float64
	if _, err := fmt.Sscanf(string(b), "cpu %f %f %f %f %f %f %f %f", &n[0], &n[1], &n[2], &n[3], &n[4], &n[5], &n[6],
		&n[7]); err != nil {
		return "unknown"
	}
	sum := 0.0
	for _, v := range n {
		sum += v
	}
	return fmt.Sprintf("%.1f %%", 100*n[7]/sum)
}

// ratio runs both sides in turns and reports how many times longer ours takes.
func ratio(b *testing.B, ours, other func()) {
	var a, o time.Duration
	for b.Loop() {
		began := time.Now()
		ours()
		middle := time.Now()
		other()
		a += middle.Sub(began)
		o += time.Since(middle)
	}
	b.ReportMetric(float64(a)/float64(o), "×other")
	b.ReportMetric(float64(a.Nanoseconds())/float64(b.N), "ours-ns")
	b.Logf("steal %s", steal())
}

func document(size int) []byte {
	var sb strings.Builder
	sb.WriteString(`{"request":"HR-20811","patron":{"card":"LC 4417 203","name":"o'neil, maud"},"price":0.10,"lines":[`)
	for i := 0; sb.Len() < size-60; i++ {
		if i > 0 {
			sb.WriteByte(',')
		}
		fmt.Fprintf(&sb, `{"item":"31408-%05d-7","qty":%d,"ok":true,"note":null}`, i, i)
	}
	sb.WriteString(`]}`)
	return []byte(sb.String())
}

func BenchmarkJSON(b *testing.B) {
	for _, size := range []int{1 << 10, 1 << 20} {
		doc := document(size)
		b.Run(fmt.Sprintf("decode-%d", size), func(b *testing.B) {
			ratio(b, func() { _, _ = jsonfmt.Decode(doc) }, func() { var v any; _ = json.Unmarshal(doc, &v) })
		})
		r, err := jsonfmt.Decode(doc)
		if err != nil {
			b.Fatal(err)
		}
		var v any
		if err := json.Unmarshal(doc, &v); err != nil {
			b.Fatal(err)
		}
		b.Run(fmt.Sprintf("encode-%d", size), func(b *testing.B) {
			ratio(b, func() { _ = jsonfmt.Encode(r.Root) }, func() { _, _ = json.Marshal(v) })
		})
	}
}

// A map of twelve fields over 1 KB, decode and encode included, beside one
// round trip of encoding/json.
func BenchmarkMap(b *testing.B) {
	reader, err := plan.NewReader()
	if err != nil {
		b.Fatal(err)
	}
	var fields strings.Builder
	for i := range 12 {
		fmt.Fprintf(&fields, "    - {to: /f%d, from: 'body.lines[%d].item'}\n", i, i)
	}
	p, findings := reader.Read(
		[]byte(
			"readyferry: flow/1\nname: m\nintake: {kind: webhook, path: /m}\nsteps:\n- id: m\n  kind: map\n  fields:\n"+
				fields.String()+"- {id: d, kind: deliver, to: x}\n",
		),
		nil,
	)
	if p == nil {
		b.Fatal(findings)
	}
	doc := document(1 << 10)
	in := run.Envelope{
		ID:         "019cf2b1-77a4-7c31-8000-0123456789ab",
		ReceivedAt: time.Unix(1e9, 0).UTC(),
		Headers:    []message.Header{{Name: "Content-Type", Value: "application/json"}},
		Body:       doc,
	}
	ratio(b, func() {
		r, err := run.Receive(p, in)
		if err != nil {
			b.Fatal(err)
		}
		if w := run.Walk(p, run.Input{Message: r.Message}); len(w.Wants) != 1 {
			b.Fatal(w.Reason)
		}
	}, func() {
		var v any
		_ = json.Unmarshal(doc, &v)
		_, _ = json.Marshal(v)
	})
}

// Compiled conditions over a message that is decoded once.
func BenchmarkCondition(b *testing.B) {
	env, err := expr.New()
	if err != nil {
		b.Fatal(err)
	}
	r, err := jsonfmt.Decode(document(1 << 10))
	if err != nil {
		b.Fatal(err)
	}
	s := &expr.Scope{Body: r.Root}
	for name, source := range map[string]string{
		"one": `body.request == "HR-20811"`, "two": `body.patron.card == "LC 4417 203" && body.price < 1.0`,
		"loop": `body.lines.exists(l, l.qty == 3)`,
	} {
		p, err := env.CompileBool(source)
		if err != nil {
			b.Fatal(err)
		}
		b.Run(name, func(b *testing.B) {
			for b.Loop() {
				if ok, err := p.EvalBool(s); !ok || err != nil {
					b.Fatal(ok, err)
				}
			}
			b.Logf("steal %s", steal())
		})
	}
}

// The other formats, beside JSON of the same tree.
func BenchmarkFormats(b *testing.B) {
	rows := make([]string, 0, 200)
	for i := range 200 {
		rows = append(rows, fmt.Sprintf(`{"sku":"31408-%05d-7","qty":"%d","name":"o'neil, maud & sons"}`, i, i))
	}
	tree, err := jsonfmt.Decode([]byte(`{"rows":{"row":[` + strings.Join(rows, ",") + `]}}`))
	if err != nil {
		b.Fatal(err)
	}
	for _, name := range []string{format.XML, format.CSV} {
		n, l := tree.Root, message.Layout{}
		if name == format.CSV {
			n, l = n.Get("rows").Get("row"), message.Layout{Header: true}
		}
		raw, err := format.Encode(name, n, l)
		if err != nil {
			b.Fatal(err)
		}
		asJSON := jsonfmt.Encode(n)
		b.Run(name+"-decode", func(b *testing.B) {
			ratio(
				b,
				func() { _, _ = format.Decode(name, raw, l, format.Limits{}) },
				func() { _, _ = jsonfmt.Decode(asJSON) },
			)
		})
		b.Run(name+"-encode", func(b *testing.B) {
			ratio(b, func() { _, _ = format.Encode(name, n, l) }, func() { _ = jsonfmt.Encode(n) })
		})
	}
}

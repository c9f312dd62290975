package format

import (
	"fmt"
	"runtime"
	"runtime/debug"
	"strings"
	"testing"
	"time"

	"readyferry/core/message"
)

// grown are documents that may be made as large as one likes; each makes a decoder do
// much over and over again that does it badly.
var grown = map[string]struct {
	format string
	make   func(n int) string
}{
	"json, a list":              {JSON, func(n int) string { return "[1" + strings.Repeat(",1", n) + "]" }},
	"json, a map":               {JSON, func(n int) string { return "{" + each(n, `"k%d":1`, ",") + "}" }},
	"json, one name":            {JSON, func(n int) string { return "{" + each(n, `"k":%d`, ",") + "}" }},
	"json, escapes":             {JSON, func(n int) string { return `"` + strings.Repeat(`\u0041`, n) + `"` }},
	"csv, commas":               {CSV, func(n int) string { return strings.Repeat(",", n) }},
	"csv, rows":                 {CSV, func(n int) string { return strings.Repeat("a,b\n", n) }},
	"csv, quoted lines":         {CSV, func(n int) string { return strings.Repeat("\"a\nb\",c\n", n) }},
	"csv, one quoted":           {CSV, func(n int) string { return `"` + strings.Repeat("a\n", n) + `"` }},
	"csv, doubled quotes":       {CSV, func(n int) string { return `"` + strings.Repeat(`""`, n) + `"` }},
	"xml, attributes":           {XML, func(n int) string { return "<a " + each(n, `k%d="v"`, " ") + "/>" }},
	"xml, attributes, refs":     {XML, func(n int) string { return "<a " + each(n, `k%d="&#65;"`, " ") + "/>" }},
	"xml, prefixed attributes":  {XML, func(n int) string { return `<a xmlns:p="u" ` + each(n, `p:k%d="v"`, " ") + "/>" }},
	"xml, elements":             {XML, func(n int) string { return "<a>" + strings.Repeat("<b/>", n) + "</a>" }},
	"xml, elements of names":    {XML, func(n int) string { return "<a>" + each(n, "<b%d/>", "") + "</a>" }},
	"xml, texts in pieces":      {XML, func(n int) string { return "<a>" + strings.Repeat("<![CDATA[x]]>", n) + "</a>" }},
	"xml, comments":             {XML, func(n int) string { return "<a>" + strings.Repeat("<!--x-->y", n) + "</a>" }},
	"xml, namespaces in a row":  {XML, func(n int) string { return "<a>" + each(n, `<b xmlns:p%[1]d="u"/>`, "") + "</a>" }},
	"xml, entities":             {XML, func(n int) string { return "<a>" + strings.Repeat("&amp;", n) + "</a>" }},
	"hl7, fields":               {HL7, func(n int) string { return msh + "OBX" + strings.Repeat("|a", n) }},
	"hl7, segments":             {HL7, func(n int) string { return msh + strings.Repeat("OBX|1\r", n) }},
	"hl7, names in turn":        {HL7, func(n int) string { return msh + strings.Repeat("OBX|1\rNTE|1\r", n) }},
	"hl7, repetitions":          {HL7, func(n int) string { return msh + "OBX|" + strings.Repeat("a~", n) + "a" }},
	"hl7, components":           {HL7, func(n int) string { return msh + "OBX|" + strings.Repeat("a^", n) + "a" }},
	"hl7, escapes":              {HL7, func(n int) string { return msh + "OBX|" + strings.Repeat(`\T\`, n) }},
	"form, fields":              {Form, func(n int) string { return each(n, "k%d=v", "&") }},
	"form, one name":            {Form, func(n int) string { return strings.TrimSuffix(strings.Repeat("k=v&", n), "&") }},
	"form, nothing":             {Form, func(n int) string { return strings.Repeat("&", n) }},
	"text":                      {Text, func(n int) string { return strings.Repeat("é", n) }},
	"xml, unclosed":             {XML, func(n int) string { return strings.Repeat("<a>", n) }},
	"json, unclosed":            {JSON, func(n int) string { return strings.Repeat("[", n) }},
	"json, an error at the end": {JSON, func(n int) string { return "[1" + strings.Repeat(",1", n) + "x" }},
}

const msh = "MSH|^~\\&|a|b\r"

func each(n int, what, between string) string {
	var b strings.Builder
	for i := range n {
		if i > 0 {
			b.WriteString(between)
		}
		fmt.Fprintf(&b, what, i)
	}
	return b.String()
}

// Work is in proportion to the input: where that is four times as much, so is the time, the
// best of many runs against each other. A decoder that looks at everything again for each
// value takes sixteen times as long.
func TestDecodingIsLinear(t *testing.T) {
	if testing.Short() {
		t.Skip("takes some seconds")
	}
	for name, g := range grown {
		t.Run(name, func(t *testing.T) {
			const n = 15_000
			small, large := []byte(g.make(n)), []byte(g.make(4*n))
			took := func(src []byte) time.Duration {
				began := time.Now()
				_, _ = Decode(g.format, src, message.Layout{}, Limits{})
				return time.Since(began)
			}
			best := 1e9
			// The collector works when it likes, and others may use the machine just now.
			defer debug.SetGCPercent(debug.SetGCPercent(-1))
			for range 60 {
				runtime.GC()
				s, l := took(small), took(large)
				if best = min(best, float64(l)/float64(max(s, time.Microsecond))); best < 11 {
					return
				}
			}
			t.Errorf("four times as much takes %.1f times as long", best)
		})
	}
}

// A limit is met while a document is read: what stands behind it costs nothing.
func TestLimitsAreMetWhileReading(t *testing.T) {
	for name, g := range grown {
		if name == "json, escapes" || name == "text" || strings.Contains(name, "quote") || strings.Contains(name, "one") ||
			strings.Contains(name, "entities") || strings.Contains(name, "pieces") || strings.HasSuffix(name, "nothing") ||
			name == "hl7, escapes" {
			continue // one value, however long
		}
		src := []byte(g.make(400_000))
		var before, after runtime.MemStats
		runtime.GC()
		runtime.ReadMemStats(&before)
		_, err := Decode(g.format, src, message.Layout{}, Limits{Nodes: 1000, Depth: 100})
		runtime.ReadMemStats(&after)
		if err == nil {
			t.Errorf("%s: no limit was met", name)
		}
		if got := after.TotalAlloc - before.TotalAlloc; got > uint64(32*len(src)) || got > 200<<20 {
			t.Errorf("%s: %d MiB for %d KiB: %v", name, got>>20, len(src)>>10, err)
		}
	}
}

package format

import (
	"runtime"
	"strings"
	"testing"
	"time"

	"readyferry/core/message"
)

// FuzzTwiceAsMuch makes a document of a piece over and over again, and one that has
// twice as many: work is in proportion to the input, so the second takes about twice as
// long and twice the memory. A decoder that looks at all before it for each value takes
// four times as long.
func FuzzTwiceAsMuch(f *testing.F) {
	for _, seed := range []struct{ format, before, piece, after string }{
		{JSON, "[1", `,{"a":"b\u0041"}`, "]"},
		{JSON, `{"k":1`, `,"k":[2]`, "}"},
		{CSV, "a,b\n", "\"x\n\"\"\",y\n", ""},
		{CSV, "", ",", ""},
		{XML, "<a>", `<b c="&amp;"><!--x--><![CDATA[y]]></b>`, "</a>"},
		{XML, "<a>", `<p:b xmlns:p="u" p:q="r"/>`, "</a>"},
		{HL7, msh, "OBX|a~b^c&d|\\T\\\rNTE|1\r", ""},
		{HL7, msh + "OBX", "|a", ""},
		{Form, "", "k=%41+&", ""},
		{Text, "", "é\n", ""},
	} {
		f.Add(seed.format, seed.before, seed.piece, seed.after)
	}
	f.Fuzz(func(t *testing.T, format, before, piece, after string) {
		if len(before)+len(piece)+len(after) > 1<<10 || piece == "" {
			t.Skip("the piece is to be small, and the number of them large")
		}
		n := 64 << 10 / len(piece)
		once := []byte(before + strings.Repeat(piece, n) + after)
		twice := []byte(before + strings.Repeat(piece, 2*n) + after)
		var best work
		for try := range 30 { // others may use the machine just now
			ratio := decoding(format, twice).over(decoding(format, once))
			if try == 0 {
				best = ratio
			}
			best = work{min(best.took, ratio.took), min(best.bytes, ratio.bytes)}
			if best.took < 3 && best.bytes < 3 {
				return
			}
		}
		t.Errorf("twice as much of %q takes %.1f times as long and %.1f times the memory", piece, best.took, best.bytes)
	})
}

// work is what decoding took: nanoseconds and bytes that were allocated.
type work struct{ took, bytes float64 }

// over gives the ratio of two; what is little in both counts as the same.
func (w work) over(o work) work {
	return work{max(w.took, 50_000) / max(o.took, 50_000), max(w.bytes, 1<<20) / max(o.bytes, 1<<20)}
}

func decoding(format string, src []byte) work {
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	began := time.Now()
	_, _ = Decode(format, src, message.Layout{}, Limits{})
	took := time.Since(began)
	runtime.ReadMemStats(&after)
	return work{float64(took), float64(after.TotalAlloc - before.TotalAlloc)}
}

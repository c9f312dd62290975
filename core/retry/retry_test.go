package retry

import (
	"encoding/json"
	"fmt"
	"math"
	"os"
	"testing"
	"time"
)

func read(t *testing.T, file string, into any) {
	t.Helper()
	b, err := os.ReadFile("testdata/" + file)
	if err != nil {
		t.Fatal(err)
	}
	if err := json.Unmarshal(b, into); err != nil {
		t.Fatal(err)
	}
}

func seconds(s float64) time.Duration { return time.Duration(math.Round(s * 1e9)) }

type backoffCase struct {
	Kind   string
	Base   float64 `json:"base_s"`
	Factor float64
	Cap    float64   `json:"cap_s"`
	N      int       `json:"retries"`
	Delays []float64 `json:"delay_before_retry_s"`
	Total  float64   `json:"total_wait_s"`
	Full   struct {
		Mean float64 `json:"mean_total_s"`
		SD   float64 `json:"sd_total_s"`
	} `json:"full_jitter"`
	Equal struct {
		Mean float64 `json:"mean_total_s"`
		SD   float64 `json:"sd_total_s"`
	} `json:"equal_jitter"`
	At    []float64 `json:"attempts_at_s"`
	Cases []struct {
		T         float64
		Delivered *float64 `json:"delivered_at"`
	}
}

func backoffCases(t *testing.T) []backoffCase {
	var f struct{ Cases []backoffCase }
	read(t, "backoff.json", &f)
	return f.Cases
}

// Source: worked formulas of testdata/backoff.json (geometric series with a cap).
func TestDelaysFollowTheGeometricSeries(t *testing.T) {
	seen := 0
	for _, c := range backoffCases(t) {
		if c.Kind != "exponential" {
			continue
		}
		seen++
		p := Plan{
			First:  seconds(c.Base),
			Growth: Exponential,
			Factor: c.Factor,
			Cap:    seconds(c.Cap),
			Spread: SpreadNone,
			Tries:  c.N + 1,
			Within: 1e6 * time.Hour,
		}
		for i, want := range c.Delays {
			if got := p.Delay(i + 1); got != seconds(want) {
				t.Errorf("%+v: delay before retry %d is %s, want %gs", c, i+1, got, want)
			}
		}
		tries := p.Schedule(nil)
		if len(tries) != c.N+1 {
			t.Fatalf("%d tries, want %d", len(tries), c.N+1)
		}
		last := tries[c.N]
		if last.Planned != seconds(c.Total) || last.Earliest != last.Planned || last.Latest != last.Planned {
			t.Errorf("last try %+v, want all at %gs", last, c.Total)
		}
	}
	if seen == 0 {
		t.Fatal("no case was run")
	}
}

// Source: mean and standard deviation of sums of uniform variables, as
// testdata/backoff.json gives them; the mean of many runs must lie within four
// standard errors.
func TestSpreadHasItsMeanAndBounds(t *testing.T) {
	const runs = 4000
	for _, c := range backoffCases(t) {
		if c.Kind != "exponential" {
			continue
		}
		for spread, want := range map[string]struct{ mean, sd float64 }{
			SpreadFull: {c.Full.Mean, c.Full.SD}, SpreadEqual: {c.Equal.Mean, c.Equal.SD},
		} {
			p := Plan{
				First:  seconds(c.Base),
				Growth: Exponential,
				Factor: c.Factor,
				Cap:    seconds(c.Cap),
				Spread: spread,
				Tries:  c.N + 1,
				Within: 1e6 * time.Hour,
			}
			sum := 0.0
			for run := range runs {
				seed := fmt.Appendf(nil, "delivery %d", run)
				for n := 1; n <= c.N; n++ {
					w := p.Wait(seed, n)
					low, high := p.Bounds(n)
					if w < low || w > high || low < 0 {
						t.Fatalf("%s: wait %s outside %s–%s", spread, w, low, high)
					}
				}
				s := p.Schedule(seed)
				last := s[len(s)-1]
				if last.Planned < last.Earliest || last.Planned > last.Latest {
					t.Fatalf("planned outside its bounds: %+v", last)
				}
				sum += last.Planned.Seconds()
			}
			if got := sum / runs; math.Abs(got-want.mean) > 4*want.sd/math.Sqrt(runs) {
				t.Errorf("%s: mean total %g, want %g", spread, got, want.mean)
			}
			if got := p.Span().Expected.Seconds(); math.Abs(got-want.mean) > 1e-6 {
				t.Errorf("%s: expected end %g, want %g", spread, got, want.mean)
			}
		}
	}
}

// Source: the outage rows of testdata/backoff.json.
func TestAnOutageEndsAtTheFirstTryAfterIt(t *testing.T) {
	for _, c := range backoffCases(t) {
		if c.Kind != "outage" {
			continue
		}
		p := Plan{
			First:  time.Second,
			Growth: Exponential,
			Factor: 2,
			Cap:    time.Minute,
			Spread: SpreadNone,
			Tries:  len(c.At),
			Within: time.Hour,
		}
		for _, o := range c.Cases {
			var at time.Duration
			var ended bool
			for n := 1; at < seconds(o.T); n++ {
				next, ok, _ := p.Next(nil, n, at, 0)
				if !ok {
					ended = true
					break
				}
				at = next
			}
			if ended != (o.Delivered == nil) || !ended && at != seconds(*o.Delivered) {
				t.Errorf("outage of %gs: at %s, ended %v, want %v", o.T, at, ended, o.Delivered)
			}
		}
	}
}

func TestGrowth(t *testing.T) {
	p := Plan{First: 3 * time.Second, Cap: 10 * time.Second, Factor: 2}
	for _, row := range []struct {
		growth string
		want   []time.Duration
	}{
		{Constant, []time.Duration{3, 3, 3, 3}},
		{Linear, []time.Duration{3, 6, 9, 10}},
		{Exponential, []time.Duration{3, 6, 10, 10}},
	} {
		p.Growth = row.growth
		for i, want := range row.want {
			if got := p.Delay(i + 1); got != want*time.Second {
				t.Errorf("%s, n=%d: %s", row.growth, i+1, got)
			}
		}
	}
	p.Growth = Exponential
	if got := p.Delay(100_000); got != p.Cap {
		t.Errorf("an infinite power gives %s", got)
	}
}

func TestEveryPlanEnds(t *testing.T) {
	p := Default()
	p.Spread = SpreadNone
	p.Within = 40 * time.Second // 0, 5, 15, 35; then 75 would be too late
	if got := len(p.Schedule(nil)); got != 4 {
		t.Errorf("%d tries within 40s, want 4", got)
	}
	if _, ok, why := p.Next(nil, 4, 35*time.Second, 0); ok || why == "" {
		t.Error("the fifth try should be refused with a reason")
	}
	p = Default()
	if _, ok, _ := p.Next(nil, p.Tries, time.Second, 0); ok {
		t.Error("a try after the last is allowed")
	}
	// Common practice: a plan of five repeats makes six tries and then gives up.
	if got := len(p.Schedule([]byte("x"))); got != 6 {
		t.Errorf("%d tries, want 6", got)
	}
}

// Retry-After moves a try later, never earlier, never past the plan's end.
func TestNextHonoursRetryAfter(t *testing.T) {
	p := Plan{
		First:  10 * time.Second,
		Growth: Constant,
		Cap:    10 * time.Second,
		Spread: SpreadNone,
		Tries:  5,
		Within: time.Minute,
	}
	for _, row := range []struct{ elapsed, asked, want time.Duration }{
		{0, 0, 10}, {0, 5, 10}, {0, 25, 25}, {2, 25, 27}, {0, 600, 60}, {-50, 0, 10},
	} {
		at, ok, _ := p.Next(nil, 1, row.elapsed*time.Second, row.asked*time.Second)
		if !ok || at != row.want*time.Second {
			t.Errorf("%+v: %s %v", row, at, ok)
		}
	}
}

// Source: RFC 9110, 6585 and 8470, testdata/status-codes.json; null means that
// the standards leave it open and Classify documents a choice.
func TestStatusTable(t *testing.T) {
	var f struct {
		Cases []struct {
			Status int
			Retry  *bool
		}
	}
	read(t, "status-codes.json", &f)
	p := Default()
	for _, c := range f.Cases {
		if c.Retry != nil && (p.Classify(c.Status) == Again) != *c.Retry {
			t.Errorf("%d is %s", c.Status, p.Classify(c.Status))
		}
	}
	for want, codes := range map[Outcome][]int{
		Delivered: {200, 201, 202, 204, 299},
		Again:     {408, 425, 429, 500, 502, 503, 504, 507, 599},
		Never:     {101, 301, 302, 304, 400, 401, 403, 404, 405, 409, 410, 413, 422, 501, 505},
	} {
		for _, code := range codes {
			if got := p.Classify(code); got != want {
				t.Errorf("%d is %s, want %s", code, got, want)
			}
		}
	}
	p.Again, p.Never, p.Delivered = []int{404}, []int{503}, []int{409}
	if p.Classify(404) != Again || p.Classify(503) != Never || p.Classify(409) != Delivered {
		t.Error("a flow's own lists do not count")
	}
}

// Source: RFC 9110 sections 5.5, 5.6.7 and 10.2.3, testdata/retry-after.json.
func TestRetryAfter(t *testing.T) {
	var f struct {
		Cases []struct {
			Now    time.Time
			Header string
			Wait   *float64 `json:"wait_s"`
			Valid  bool
			Date   string `json:"http_date"`
			Unix   int64
		}
	}
	read(t, "retry-after.json", &f)
	for _, c := range f.Cases {
		if c.Date != "" {
			now := time.Unix(c.Unix-90, 0)
			if got, ok := RetryAfter(c.Date, now); !ok || got != 90*time.Second {
				t.Errorf("%q: %s %v", c.Date, got, ok)
			}
			continue
		}
		got, ok := RetryAfter(c.Header, c.Now)
		if ok != c.Valid || ok && got != seconds(*c.Wait) {
			t.Errorf("%q: %s %v", c.Header, got, ok)
		}
	}
	if got, ok := RetryAfter("99999999999999999999999", time.Now()); !ok || got != maxRetryAfter {
		t.Errorf("a huge value gives %s", got)
	}
}

func TestCheckNamesWhatIsWrong(t *testing.T) {
	if err := Default().Check(); err != nil {
		t.Fatal(err)
	}
	for name, spoil := range map[string]func(*Plan){
		"first": func(p *Plan) { p.First = 0 }, "growth": func(p *Plan) { p.Growth = "wild" },
		"factor": func(p *Plan) { p.Factor = math.NaN() }, "cap": func(p *Plan) { p.Cap = 1 },
		"spread": func(p *Plan) { p.Spread = "" }, "tries": func(p *Plan) { p.Tries = 0 },
		"within": func(p *Plan) { p.Within = 0 },
	} {
		p := Default()
		spoil(&p)
		if err := p.Check(); err == nil || len(err.Error()) < len(name) || err.Error()[:len(name)] != name {
			t.Errorf("%s: %v", name, err)
		}
	}
}

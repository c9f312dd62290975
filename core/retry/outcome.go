package retry

import (
	"slices"
	"strconv"
	"strings"
	"time"
)

// Outcome is what a try came to.
type Outcome string

// The outcomes of a try.
const (
	Delivered Outcome = "delivered" // done; the answer is recorded
	Again     Outcome = "again"     // next time on the plan
	Never     Outcome = "never"     // trying again would not help: dead letter at once
)

// Classify gives the outcome of an HTTP status code. 2xx is delivered. 408,
// 425, 429 and server errors are worth another try, but for 501 and 505, by
// which a server says that it cannot do this at all (RFC 9110, 15.6.2 and
// 15.6.6). Everything else will not get better by itself. The plan's own
// lists come first.
func (p Plan) Classify(status int) Outcome {
	switch {
	case slices.Contains(p.Delivered, status):
		return Delivered
	case slices.Contains(p.Again, status):
		return Again
	case slices.Contains(p.Never, status):
		return Never
	case status >= 200 && status <= 299:
		return Delivered
	case status == 408, status == 425, status == 429:
		return Again
	case status >= 500 && status <= 599 && status != 501 && status != 505:
		return Again
	}
	return Never
}

// maxRetryAfter keeps a senseless header from overflowing a duration.
const maxRetryAfter = 366 * 24 * time.Hour

// The three forms of an HTTP-date, RFC 9110 section 5.6.7.
var httpDates = []string{
	"Mon, 02 Jan 2006 15:04:05 GMT",
	"Monday, 02-Jan-06 15:04:05 GMT",
	"Mon Jan _2 15:04:05 2006",
}

// RetryAfter reads the header of that name (RFC 9110, 10.2.3): seconds or an
// HTTP-date. A date in the past means now, 0. ok is false when the value is
// neither, and then it counts for nothing.
func RetryAfter(value string, now time.Time) (wait time.Duration, ok bool) {
	value = strings.Trim(value, " \t")
	if value == "" {
		return 0, false
	}
	if strings.Trim(value, "0123456789") == "" {
		seconds, err := strconv.ParseInt(value, 10, 64)
		if err != nil || seconds > int64(maxRetryAfter/time.Second) {
			return maxRetryAfter, true
		}
		return time.Duration(seconds) * time.Second, true
	}
	for _, layout := range httpDates {
		t, err := time.Parse(layout, value)
		if err != nil {
			continue
		}
		if strings.Contains(layout, "-06") && t.After(now.AddDate(50, 0, 0)) {
			t = t.AddDate(-100, 0, 0) // RFC 9110, 5.6.7: two digits of a year lie at most 50 years ahead
		}
		return min(max(t.Sub(now), 0), maxRetryAfter), true
	}
	return 0, false
}

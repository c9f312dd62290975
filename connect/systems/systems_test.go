package systems

import (
	"strings"
	"testing"
	"time"

	"readyferry/connect"
	jsonfmt "readyferry/core/format/json"
)

func registry(t *testing.T) *connect.Registry {
	t.Helper()
	r, err := All(Surroundings{})
	if err != nil {
		t.Fatal(err)
	}
	return r
}

func TestRead(t *testing.T) {
	d, findings := registry(t).Read([]byte(`
readyferry: connection/1
name: printer
kind: http
address: https://printer.invalid/base/
sign-in: {kind: api-key, secret: s3cret}
time-limit: 3s
limits: {in-flight: 2, per-second: 0.5}
retry: {first: 1s, tries: 3}
breaker: {trip: 4, probe: 1m}
`))
	if d == nil {
		t.Fatal(findings)
	}
	c := d.Connection
	if c.Address != "https://printer.invalid/base" || c.SignIn.Header != "x-api-key" || c.TimeLimit != 3*time.Second ||
		c.InFlight != 2 ||
		c.PerSecond != 0.5 ||
		c.Trip != 4 ||
		c.Probe != time.Minute ||
		c.Retry.Tries != 3 {
		t.Errorf("%+v", c)
	}
	if len(d.Secrets) != 1 || strings.Contains(string(jsonfmt.Encode(d.Tree)), "s3cret") || len(c.SignIn.Secrets) != 0 {
		t.Errorf("the secret stays in the document: %s", jsonfmt.Encode(d.Tree))
	}
}

func TestReadSaysWhatIsWrong(t *testing.T) {
	const head = "readyferry: connection/1\nname: c\nkind: http\n"
	for src, want := range map[string]string{
		"":                                     "line 1, column 1: the document is empty",
		head:                                   "address is required",
		head + "address: nowhere\n":            `line 4, column 10: "nowhere" is no address that can be called`,
		head + "address: ftp://x.invalid":      "is no address that can be called",
		head + "address: http://u:p@x.invalid": "holds a user or password",
		head + "address: http://x.invalid?q=1": "must not hold a query",
		head + "address: http://x.invalid\nadress: y":                    "line 5, column 9: adress is not expected here",
		head + "address: http://x.invalid\ntime-limit: soon":             `"soon" is no span of time`,
		head + "address: http://x.invalid\nsign-in: {kind: basic}":       "needs a user",
		head + "address: http://x.invalid\nretry: {first: 10s, cap: 1s}": "cap (1s) must not be shorter",
		"readyferry: connection/1\nname: c\nkind: pigeon\n":              "kind",
	} {
		d, findings := registry(t).Read([]byte(src))
		var all []string
		for _, f := range findings {
			all = append(all, f.Error())
		}
		if d != nil || !strings.Contains(strings.Join(all, "\n"), want) {
			t.Errorf("%q:\n%s\nwant %s", src, strings.Join(all, "\n"), want)
		}
	}
}

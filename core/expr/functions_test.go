package expr

import (
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"readyferry/core/format"
	"readyferry/core/message"
)

func suite(t *testing.T, name string, into any) {
	t.Helper()
	b, err := os.ReadFile("testdata/" + name + ".json")
	if err != nil {
		t.Fatal(err)
	}
	if err := json.Unmarshal(b, into); err != nil {
		t.Fatal(err)
	}
}

// Source: RFC 3339, ISO 8601 and HL7 v2.5.1 (from memory), testdata/dates.json.
func TestDates(t *testing.T) {
	var s struct {
		Cases []struct {
			Input, Format, ISO string
			Valid              bool
			UnixMS             *int64 `json:"unix_ms"`
			Seconds            float64
		}
	}
	suite(t, "dates", &s)
	e := env(t)
	for _, c := range s.Cases {
		call := map[string]string{"rfc3339": "isoTime", "hl7-ts": "hl7Time", "iso8601-duration": "isoDuration"}[c.Format]
		if call == "" {
			t.Errorf("nothing reads %s", c.Format)
			continue
		}
		p, err := e.Compile(fmt.Sprintf("%s(%q)", call, c.Input))
		if err != nil {
			t.Fatal(err)
		}
		v, err := p.EvalRaw(scope(t, ""))
		if (err == nil) != c.Valid {
			t.Errorf("%s %q: %v %v", c.Format, c.Input, v, err)
			continue
		}
		if err != nil {
			continue
		}
		switch x := v.Value().(type) {
		case time.Time:
			if c.UnixMS != nil && x.UnixMilli() != *c.UnixMS {
				t.Errorf("%s: %d, want %d", c.Input, x.UnixMilli(), *c.UnixMS)
			}
		case time.Duration:
			if x.Seconds() != c.Seconds {
				t.Errorf("%s: %s", c.Input, x)
			}
		case string:
			if x != c.ISO {
				t.Errorf("%s: %s, want %s", c.Input, x, c.ISO)
			}
		}
	}
}

func TestNameStyles(t *testing.T) {
	var s struct {
		Cases []struct{ Input, Camel, Pascal, Snake, Kebab, Constant string }
	}
	suite(t, "name-casing", &s)
	for _, c := range s.Cases {
		for style, want := range map[string]string{"camel": c.Camel, "pascal": c.Pascal, "snake": c.Snake, "kebab": c.Kebab,
			"constant": c.Constant} {
			if got, err := identifier(c.Input, style); err != nil || got != want {
				t.Errorf("%q, %s: %q %v, want %q", c.Input, style, got, err, want)
			}
		}
	}
	for in, want := range map[string]string{"HTTPServer2Go": "http_server2_go", "aB": "a_b",
		"ÄpfelBirnen": "äpfel_birnen", "x-y_z": "x_y_z"} {
		if got, _ := identifier(in, "snake"); got != want {
			t.Errorf("%s: %s, want %s", in, got, want)
		}
	}
}

// Common practice.
func TestNamesOfPeople(t *testing.T) {
	for in, want := range map[string]string{
		"o'neil, maud": "O'Neil, Maud", "ADEYEMI, TUNDE": "Adeyemi, Tunde", "jean-luc": "Jean-Luc",
		"vincent VAN gogh": "Vincent van Gogh", "van den berg, ilse": "Van den Berg, Ilse", "mcdonald": "McDonald",
		"élodie": "Élodie", "": "", "d'arcy": "D'Arcy", "john  smith ii": "John  Smith Ii",
	} {
		if got := personName(in); got != want {
			t.Errorf("%q: %q, want %q", in, got, want)
		}
	}
}

func TestFunctionErrorsSayWhatIsWrong(t *testing.T) {
	e := env(t)
	d, err := format.Decode(format.HL7, []byte("MSH|^~\\&|A\rPID|1"), message.Layout{}, format.Limits{})
	if err != nil {
		t.Fatal(err)
	}
	for source, want := range map[string]string{
		`hl7(body, "PV1-2")`: "is missing: the message has no PV1; it has MSH, PID",
		`hl7(body, "x")`:     "write it as PID-5.1", `xpath(body, "//a[")`: "XPath, position 5",
		`xpath("x", "a")`:                    "a string is no element",
		`strftime(now(), "%Y", "Mars/Base")`: "no zone of the time zone database",
		`strptime("x", "%Y")`:                `"x" does not fit "%Y"`, `hash("x", "crc")`: "there are sha256",
		`padStart("x", 3, "ab")`: "one character to fill with", `padStart("x", 99999999, "a")`: "up to 1048576",
		`decimal("x")`: "no decimal number", `decimal("1") / 0`: "division by zero",
		`decimal("1e99999")`: "more than 1000 digits", `round(1, -1)`: "between 0 and 100", `nameCase("x", "y")`: "no style",
		`hl7Ack(body, "ZZ")`: "no code of an acknowledgement", `isoDuration("P1Y")`: "no span of time",
		`hl7Groups("x", "OBR")`: "a string is no HL7 message",
	} {
		p, err := e.Compile(source)
		if err != nil {
			t.Errorf("%s: %v", source, err)
			continue
		}
		s := scope(t, "")
		s.Body = d.Root
		if v, err := p.Eval(s); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v %v, want %s", source, v, err, want)
		}
	}
}

// A decimal of a path keeps digits that a double has not; of a loop's variable
// it has those of the shortest double.
func TestDecimalsAreExact(t *testing.T) {
	e := env(t)
	const body = `{"p": 0.10, "big": 12345678901234567890.123456789, "l": [{"p": 1.10}, {"p": 2.20}], "n": 3}`
	for source, want := range map[string]string{
		"decimal(body.p) + body.n": "3.1", "decimal(body.big)": "12345678901234567890.123456789",
		"decimal(body.l[0].p) * 3": "3.3", `decimal(body["p"]) == decimal("0.1")`: "true",
		"fixed(body.l.map(x, decimal(x.p)).sum(), 2)": "", `body.l.map(x, decimal(x.p) * 10)`: "[11,22]",
		`-decimal("1.50") < 0`: "true", `string(decimal("1.50"))`: `"1.5"`, `int(decimal("7.9"))`: "7",
		"round(body.big, 3)": "12345678901234567000", `fixed(decimal(body.big), 3)`: `"12345678901234567890.123"`,
	} {
		got := eval(t, e, source, body)
		if want != "" && got != want {
			t.Errorf("%s: %s, want %s", source, got, want)
		}
	}
}

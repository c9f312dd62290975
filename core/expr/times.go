package expr

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"
	_ "time/tzdata" // zones are the same on every machine

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"github.com/ncruces/go-strftime"
)

// timeFunctions read and write times.
var timeFunctions = []Function{
	{
		Name: "strftime", Signature: `strftime(t, "%Y-%m-%d"[, zone]) → string`,
		Text: "A time in words and digits, by the directives of POSIX strftime; zone is a name such as Europe/Dublin, " +
			"UTC by default. t is a timestamp, or a text as RFC 3339 writes it.",
		Examples: []Example{
			{
				Expression: `strftime(timestamp("2026-03-29T01:30:00Z"), "%d.%m.%Y %H:%M", "Europe/Dublin")`,
				Value:      `"29.03.2026 02:30"`,
			},
			{Expression: `strftime("2026-03-17T09:41:07Z", "%a %e %b %Y")`, Value: `"Tue 17 Mar 2026"`},
		},
		options: []cel.EnvOption{cel.Function(
			"strftime",
			cel.Overload(
				"strftime_utc",
				[]*cel.Type{cel.DynType, cel.StringType},
				cel.StringType,
				cel.BinaryBinding(func(t, f ref.Val) ref.Val { return formatTime(t, f, types.String("UTC")) }),
			),
			cel.Overload(
				"strftime_zone",
				[]*cel.Type{cel.DynType, cel.StringType, cel.StringType},
				cel.StringType,
				cel.FunctionBinding(func(a ...ref.Val) ref.Val { return formatTime(a[0], a[1], a[2]) }),
			),
		)},
	},
	{
		Name: "strptime", Signature: `strptime(string, "%d/%m/%Y"[, zone]) → timestamp`,
		Text: "Reads a time by the same directives; without %z it is a time of the zone, UTC by default. A text that does not fit is an error.",
		Examples: []Example{
			{
				Expression: `strptime("17/03/2026 09:41", "%d/%m/%Y %H:%M", "Europe/Dublin")`,
				Value:      `"2026-03-17T09:41:00Z"`,
			},
			{Expression: `strptime("20260317094107", "%Y%m%d%H%M%S")`, Value: `"2026-03-17T09:41:07Z"`},
		},
		options: []cel.EnvOption{cel.Function(
			"strptime",
			cel.Overload(
				"strptime_utc",
				[]*cel.Type{cel.StringType, cel.StringType},
				cel.TimestampType,
				cel.BinaryBinding(func(s, f ref.Val) ref.Val { return parseTime(s, f, types.String("UTC")) }),
			),
			cel.Overload(
				"strptime_zone",
				[]*cel.Type{cel.StringType, cel.StringType, cel.StringType},
				cel.TimestampType,
				cel.FunctionBinding(func(a ...ref.Val) ref.Val { return parseTime(a[0], a[1], a[2]) }),
			),
		)},
	},
	{
		Name: "isoTime", Signature: "isoTime(string) → timestamp",
		Text: "Reads a time as RFC 3339 writes it, strictly, with a leap second taken as the second after it. " +
			"timestamp() reads the same but for leap seconds.",
		Examples: []Example{{Expression: `isoTime("1990-12-31T15:59:60-08:00")`, Value: `"1991-01-01T00:00:00Z"`}},
		options: []cel.EnvOption{
			cel.Function(
				"isoTime",
				cel.Overload(
					"iso_time",
					[]*cel.Type{cel.StringType},
					cel.TimestampType,
					cel.UnaryBinding(func(v ref.Val) ref.Val {
						t, err := rfc3339(string(v.(types.String)))
						if err != nil {
							return types.NewErr("isoTime: %v", err)
						}
						return types.Timestamp{Time: t}
					}),
				),
			),
		},
	},
	{
		Name: "isoDuration", Signature: `isoDuration("P1DT12H") → duration`,
		Text: "Reads a span of time as ISO 8601 writes it, in weeks, or in days, hours, minutes and seconds. Years " +
			"and months have no fixed length and are an error.",
		Examples: []Example{
			{Expression: `isoDuration("P1DT12H") == duration("36h")`, Value: "true"},
			{Expression: `isoDuration("P1W")`, Value: `"604800s"`},
		},
		options: []cel.EnvOption{
			cel.Function(
				"isoDuration",
				cel.Overload(
					"iso_duration",
					[]*cel.Type{cel.StringType},
					cel.DurationType,
					cel.UnaryBinding(func(v ref.Val) ref.Val {
						d, err := iso8601(string(v.(types.String)))
						if err != nil {
							return types.NewErr("isoDuration: %v", err)
						}
						return types.Duration{Duration: d}
					}),
				),
			),
		},
	},
}

func zone(v ref.Val) (*time.Location, error) {
	name := string(v.(types.String))
	l, err := time.LoadLocation(name)
	if err != nil || name == "Local" || name == "" {
		return nil, fmt.Errorf("%q is no zone of the time zone database, such as Europe/Dublin or UTC", name)
	}
	return l, nil
}

func formatTime(v, format, in ref.Val) ref.Val {
	l, err := zone(in)
	if err != nil {
		return types.NewErr("strftime: %v", err)
	}
	var t time.Time
	switch x := v.(type) {
	case types.Timestamp:
		t = x.Time
	case types.String:
		if t, err = rfc3339(string(x)); err != nil {
			return types.NewErr("strftime: %v", err)
		}
	default:
		return types.NewErr("strftime: a time is expected, not a %s", v.Type().TypeName())
	}
	return types.String(strftime.Format(string(format.(types.String)), t.In(l)))
}

func parseTime(v, format, in ref.Val) ref.Val {
	l, err := zone(in)
	if err != nil {
		return types.NewErr("strptime: %v", err)
	}
	layout, err := strftime.Layout(string(format.(types.String)))
	if err != nil {
		return types.NewErr("strptime: the directives %q cannot be read back: %v", format.Value(), err)
	}
	t, err := time.ParseInLocation(layout, string(v.(types.String)), l)
	if err != nil {
		return types.NewErr("strptime: %q does not fit %q", v.Value(), format.Value())
	}
	return types.Timestamp{Time: t.UTC()}
}

var rfc3339Form = regexp.MustCompile(`^\d{4}-\d{2}-\d{2}[Tt ]\d{2}:\d{2}:(\d{2})(\.\d+)?([Zz]|[+-]\d{2}:\d{2})$`)

// rfc3339 reads a time (RFC 3339, 5.6). A leap second is the second after it
// (5.7), and stands only at the end of a UTC day.
func rfc3339(s string) (time.Time, error) {
	bad := fmt.Errorf("%q is no time as RFC 3339 writes it, such as 2026-03-17T09:41:07Z", s)
	m := rfc3339Form.FindStringSubmatchIndex(s)
	if m == nil {
		return time.Time{}, bad
	}
	plain := strings.ToUpper(s[:10] + "T" + s[11:])
	leap := s[m[2]:m[3]] == "60"
	if leap {
		plain = plain[:m[2]] + "59" + plain[m[3]:]
	}
	t, err := time.Parse(time.RFC3339Nano, plain)
	if err != nil {
		return time.Time{}, bad
	}
	t = t.UTC()
	if leap {
		if t.Hour() != 23 || t.Minute() != 59 {
			return time.Time{}, bad
		}
		t = t.Truncate(time.Second).Add(time.Second)
	}
	return t, nil
}

var isoDurationForm = regexp.MustCompile(
	`^(-)?P(?:(\d+)W|(?:(\d+)D)?(?:T(?:(\d+)H)?(?:(\d+)M)?(?:(\d+)(?:[.,](\d{1,9}))?S)?)?)$`,
)

func iso8601(s string) (time.Duration, error) {
	m := isoDurationForm.FindStringSubmatch(s)
	if m == nil || strings.HasSuffix(s, "P") || strings.HasSuffix(s, "T") {
		return 0, fmt.Errorf("%q is no span of time as ISO 8601 writes it, such as P1DT12H", s)
	}
	total := 0.0
	var d time.Duration
	for i, unit := range []time.Duration{7 * 24 * time.Hour, 24 * time.Hour, time.Hour, time.Minute, time.Second} {
		if m[i+2] == "" {
			continue
		}
		n, err := strconv.ParseInt(m[i+2], 10, 64)
		if total += float64(n) * float64(unit); err != nil || total > 9e18 {
			return 0, fmt.Errorf("%q is longer than 292 years", s)
		}
		d += time.Duration(n) * unit
	}
	if m[7] != "" {
		n, _ := strconv.Atoi((m[7] + "000000000")[:9])
		d += time.Duration(n)
	}
	if m[1] != "" {
		d = -d
	}
	return d, nil
}

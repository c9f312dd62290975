package avro

import (
	"fmt"
	"math/big"
	"strconv"
	"strings"
	"time"

	"github.com/hamba/avro/v2"
	"github.com/shopspring/decimal"

	"readyferry/core/message"
)

// How dates and times are written, by what a number of their unit is in nanoseconds.
var times = map[avro.LogicalType]struct {
	unit   time.Duration
	layout string
}{
	avro.Date:                 {24 * time.Hour, "2006-01-02"},
	avro.TimeMillis:           {time.Millisecond, "15:04:05.000"},
	avro.TimeMicros:           {time.Microsecond, "15:04:05.000000"},
	avro.TimestampMillis:      {time.Millisecond, "2006-01-02T15:04:05.000Z07:00"},
	avro.TimestampMicros:      {time.Microsecond, "2006-01-02T15:04:05.000000Z07:00"},
	avro.LocalTimestampMillis: {time.Millisecond, "2006-01-02T15:04:05.000"},
	avro.LocalTimestampMicros: {time.Microsecond, "2006-01-02T15:04:05.000000"},
}

// timeOf gives a number as the date or time that it means.
func timeOf(l avro.LogicalType, v int64) *message.Node {
	plain := message.NewNumber(strconv.FormatInt(v, 10))
	how, is := times[l]
	if !is {
		return plain
	}
	perSecond := int64(time.Second / how.unit)
	var t time.Time
	switch {
	case l == avro.Date:
		if v < -4_000_000 || v > 4_000_000 {
			return plain
		}
		t = time.Unix(v*86400, 0).UTC()
	case v < 0 && strings.HasPrefix(string(l), "time-"), strings.HasPrefix(string(l), "time-") && v >= 86400*perSecond:
		return plain
	case perSecond == 1000:
		t = time.UnixMilli(v).UTC()
	default:
		t = time.UnixMicro(v).UTC()
	}
	if y := t.Year(); y < 1 || y > 9999 {
		return plain
	}
	return message.NewString(t.Format(how.layout))
}

// timeFrom reads a date or time back; more digits of a second than the type has are an error.
func timeFrom(l avro.LogicalType, text string) (int64, error) {
	how := times[l]
	layout := strings.TrimRight(strings.TrimSuffix(how.layout, "Z07:00"), "0") // any digits of the second
	layout = strings.TrimSuffix(layout, ".")
	if strings.HasSuffix(how.layout, "Z07:00") {
		layout += "Z07:00"
	}
	t, err := time.Parse(layout, text)
	if err != nil {
		return 0, fmt.Errorf("%q is no %s; it looks like %s", text, l, how.layout)
	}
	switch {
	case l == avro.Date:
		return t.Unix() / 86400, nil // midnight of UTC, so it divides without a rest
	case strings.HasPrefix(string(l), "time-"):
		t = time.Unix(0, 0).UTC().Add(time.Duration(t.Hour())*time.Hour + time.Duration(t.Minute())*time.Minute +
			time.Duration(t.Second())*time.Second + time.Duration(t.Nanosecond()))
	}
	if t.Nanosecond()%int(how.unit) != 0 {
		return 0, fmt.Errorf("%q has more digits of a second than %s", text, l)
	}
	if how.unit == time.Millisecond {
		return t.UnixMilli(), nil
	}
	return t.UnixMicro(), nil
}

// decimalOf reads a decimal: a whole number in two's complement, the highest byte first.
func decimalOf(b []byte, scale int) *message.Node {
	v := new(big.Int).SetBytes(b)
	if len(b) > 0 && b[0] >= 0x80 {
		v.Sub(v, new(big.Int).Lsh(big.NewInt(1), uint(len(b))*8))
	}
	return message.NewNumber(decimal.NewFromBigInt(v, int32(-scale)).StringFixed(int32(scale)))
}

// decimalFrom writes a decimal as few bytes as hold it, or in just so many (size > 0).
func decimalFrom(text string, d *avro.DecimalLogicalSchema, size int) ([]byte, error) {
	v, err := decimal.NewFromString(text)
	if err != nil || len(text) > 200 {
		return nil, fmt.Errorf("%q is no decimal", text)
	}
	if v.Exponent() < -400 || v.Exponent() > 400 {
		return nil, fmt.Errorf("%s has more digits than the decimal", text)
	}
	whole := v.Shift(int32(d.Scale()))
	if !whole.IsInteger() {
		return nil, fmt.Errorf("%s has more than %d digits behind the point", text, d.Scale())
	}
	i := whole.BigInt()
	if digits := len(new(big.Int).Abs(i).String()); digits > d.Precision() {
		return nil, fmt.Errorf("%s has more than the %d digits of the decimal", text, d.Precision())
	}
	n := i.BitLen()/8 + 1 // with its sign
	if i.Sign() < 0 {
		n = new(big.Int).Not(i).BitLen()/8 + 1
	}
	if size > 0 && n > size {
		return nil, fmt.Errorf("%s needs %d bytes, and the decimal has %d", text, n, size)
	}
	n = max(n, size)
	if i.Sign() < 0 {
		i = new(big.Int).Add(i, new(big.Int).Lsh(big.NewInt(1), uint(n)*8))
	}
	return i.FillBytes(make([]byte, n)), nil
}

package table

import (
	"fmt"
	"strings"

	"github.com/shopspring/decimal"

	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
)

// Place is where a row stands in one key: rows with the same Key and, in a
// table with a range, overlapping spans clash.
type Place struct {
	Key    string // the values of the key's columns
	Lo, Hi string // sort keys of the ends; "" in Hi: open
}

// Places gives a row's place in each key. A row without a value in a column of
// a key has no place in it, and stands under "" — only the first key must be whole.
func (d *Definition) Places(row *message.Node) ([]Place, error) {
	out := make([]Place, len(d.Keys))
	for i, columns := range d.Keys {
		values := make([]string, len(columns))
		for j, c := range columns {
			v := row.Get(c)
			text, ok := "", false
			if v != nil && v.Kind != message.Null {
				text, ok = v.Scalar()
			}
			switch {
			case v != nil && v.Kind != message.Null && !ok:
				return nil, fmt.Errorf("the column %s holds a %s, not a text or number", c, v.Kind)
			case text == "" && i == 0:
				return nil, fmt.Errorf("the column %s of the key is empty", c)
			case text == "" && d.Cross:
				return nil, fmt.Errorf("the column %s of the pair is empty", c)
			case text == "":
				values = nil
			}
			if values == nil {
				break
			}
			values[j] = text
		}
		if values != nil {
			out[i].Key = EncodeKey(values)
		}
		if i > 0 || d.Range == nil {
			continue
		}
		var err error
		if out[0].Lo, err = end(row.Get(d.Range.From)); err != nil {
			return nil, fmt.Errorf("the column %s: %w", d.Range.From, err)
		}
		if out[0].Hi, err = end(row.Get(d.Range.To)); err != nil {
			return nil, fmt.Errorf("the column %s: %w", d.Range.To, err)
		}
		if p := out[0]; p.Hi != "" && (p.Lo > p.Hi || p.Lo == p.Hi && d.Range.Excluded) {
			return nil, fmt.Errorf(
				"the range ends (%s) before it begins (%s)",
				shown(row.Get(d.Range.To)),
				shown(row.Get(d.Range.From)),
			)
		}
	}
	return out, nil
}

func end(n *message.Node) (string, error) {
	if n == nil || n.Kind == message.Null {
		return "", nil
	}
	text, ok := n.Scalar()
	if !ok {
		return "", fmt.Errorf("it holds a %s, not a text or number", n.Kind)
	}
	if text == "" {
		return "", nil
	}
	return SortKey(text), nil
}

func shown(n *message.Node) string {
	if n == nil {
		return "nothing"
	}
	if t, ok := n.Scalar(); ok {
		return t
	}
	return string(jsonfmt.Encode(n))
}

// EncodeKey makes one text of the values of a key; different values give
// different texts.
func EncodeKey(values []string) string {
	if len(values) == 1 {
		return values[0]
	}
	var b strings.Builder
	for _, v := range values {
		fmt.Fprintf(&b, "%d:%s", len(v), v)
	}
	return b.String()
}

// Covers tells whether a value, as its sort key, lies in a place's range.
func (d *Definition) Covers(p Place, at string) bool {
	if at < p.Lo {
		return false
	}
	return p.Hi == "" || at < p.Hi || at == p.Hi && !d.Range.Excluded
}

// overlap tells whether the ranges of two places share a value.
func (d *Definition) overlap(a, b Place) bool {
	if a.Lo > b.Lo {
		a, b = b, a
	}
	return a.Hi == "" || b.Lo < a.Hi || b.Lo == a.Hi && !d.Range.Excluded
}

// Clash tells whether two places of the key with number k may not both be.
func (d *Definition) Clash(k int, a, b Place) bool {
	if a.Key != b.Key || a.Key == "" && len(d.Keys[k]) > 0 {
		return false
	}
	return k > 0 || d.Range == nil || d.overlap(a, b)
}

// SortKey gives a text that sorts as the value does: numbers by their exact
// value and before all texts, texts by their bytes.
func SortKey(text string) string {
	n, err := decimal.NewFromString(text)
	if err != nil || len(text) > 100 || strings.ContainsAny(text, "xX_") {
		return "2" + text
	}
	if n.IsZero() {
		return "1"
	}
	digits := strings.TrimRight(n.Coefficient().String(), "0")
	digits = strings.TrimPrefix(digits, "-")
	// The value is 0.digits · 10^exponent.
	exponent := len(strings.TrimPrefix(n.Coefficient().String(), "-")) + int(n.Exponent())
	if n.IsPositive() {
		return fmt.Sprintf("1p%07d%s", exponent+1_000_000, digits)
	}
	var flipped strings.Builder
	fmt.Fprintf(&flipped, "0%07d", 8_999_999-exponent)
	for _, c := range digits {
		flipped.WriteByte(byte('0' + '9' - c))
	}
	return flipped.String() + "~" // of two with the same beginning the longer is the smaller
}

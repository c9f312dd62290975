package message

import (
	"math"
	"strconv"
)

// Floats that no number is are texts, as the JSON mapping of Protocol Buffers has them.
var notNumbers = map[string]float64{"NaN": math.NaN(), "Infinity": math.Inf(1), "-Infinity": math.Inf(-1)}

// NewFloat gives a float of 32 or 64 bits with the fewest digits that mean it.
func NewFloat(f float64, bits int) *Node {
	switch {
	case math.IsNaN(f):
		return NewString("NaN")
	case math.IsInf(f, 1):
		return NewString("Infinity")
	case math.IsInf(f, -1):
		return NewString("-Infinity")
	}
	return NewNumber(strconv.FormatFloat(f, 'g', -1, bits))
}

// Float reads what NewFloat gives. false: it is no number, or one too large for the bits.
func (n *Node) Float(bits int) (float64, bool) {
	switch n.Kind {
	case Number:
		f, err := strconv.ParseFloat(n.Text, bits)
		return f, err == nil
	case String:
		f, ok := notNumbers[n.Text]
		return f, ok
	}
	return 0, false
}

package design

import (
	"fmt"
	"slices"
	"strings"

	"readyferry/core/message"
)

// common finds what sets the messages of a group apart: a value that all of them have at a
// place and none of the rest has there. It is a hint for people, so it is bounded: a message
// gives its first values, and after so many different ones no new ones are counted.
type common struct{ all map[string]int }

const (
	mostValues    = 60     // of one message
	mostDifferent = 20_000 // of all messages
	longestValue  = 40     // letters
)

func newCommon() *common { return &common{all: map[string]int{}} }

func (c *common) add(values []string) {
	for _, v := range values {
		if _, known := c.all[v]; known || len(c.all) < mostDifferent {
			c.all[v]++
		}
	}
}

// of says what a group has in common that the rest has not; shared counts its values.
func (c *common) of(shared map[string]int, count int) string {
	if count < 2 {
		return ""
	}
	var out []string
	for v, n := range shared {
		if n == count && c.all[v] == count {
			out = append(out, v)
		}
	}
	if len(out) == 0 {
		return ""
	}
	slices.SortFunc(out, func(a, b string) int { return len(a)*1000 - len(b)*1000 + strings.Compare(a, b) })
	return fmt.Sprintf("%s in all of them, in none of the rest", out[0])
}

// valuesOf gives what a body holds as sentences: format is audio.
func valuesOf(body *message.Node) (out []string) {
	var walk func(at string, n *message.Node)
	walk = func(at string, n *message.Node) {
		switch {
		case n == nil || len(out) >= mostValues:
		case n.Kind == message.Map:
			for _, m := range n.Members {
				walk(strings.TrimPrefix(at+"."+m.Name, "."), m.Value)
			}
		case n.Kind == message.List:
			for _, item := range n.Items[:min(3, len(n.Items))] {
				walk(at+"[]", item)
			}
		default:
			text, ok := n.Scalar()
			if v := at + " is " + text; ok && at != "" && len([]rune(text)) <= longestValue && !slices.Contains(out, v) {
				out = append(out, v)
			}
		}
	}
	walk("", body)
	return out
}

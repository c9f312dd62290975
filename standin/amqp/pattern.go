package amqp

import "strings"

// Matches tells whether a routing key fits the pattern of a topic exchange (AMQP 0-9-1,
// 3.1.3.3): words between dots, * stands for one word and # for any number of them.
func Matches(pattern, key string) bool {
	var words []string
	if key != "" {
		words = strings.Split(key, ".")
	}
	var wants []string
	if pattern != "" {
		wants = strings.Split(pattern, ".")
	}
	// at[i] tells whether what was read of the pattern fits the first i words.
	at := make([]bool, len(words)+1)
	at[0] = true
	for _, want := range wants {
		next := make([]bool, len(at))
		for i := range at {
			switch {
			case want == "#":
				next[i] = at[i] || i > 0 && next[i-1]
			case i > 0:
				next[i] = at[i-1] && (want == "*" || want == words[i-1])
			}
		}
		at = next
	}
	return at[len(words)]
}

package mqtt

import (
	"errors"
	"fmt"
	"strings"
	"unicode/utf8"
)

// The rules of topics are those of MQTT 5.0 (OASIS), 4.7 and 4.8.2: levels stand
// between slashes and may be empty; + is one level, # is all that follow and the level
// above them; what begins with $ is met by no filter that begins with + or #.

const maxTopic = 65_535 // bytes, 4.7.3

// checkTopic says what is wrong with a topic that a message is published to.
func checkTopic(topic string) error {
	if strings.ContainsAny(topic, "+#") {
		return fmt.Errorf("the topic %q holds + or #, which only filters may", topic)
	}
	return checkText("topic", topic)
}

// checkFilter says what is wrong with a filter of topics, which may be one of a shared
// subscription, $share/group/filter.
func checkFilter(filter string) error {
	if rest, shared := strings.CutPrefix(filter, "$share/"); shared {
		group, of, found := strings.Cut(rest, "/")
		if group == "" || !found || of == "" || strings.ContainsAny(group, "+#") {
			return fmt.Errorf("%q is no shared subscription; write it as $share/group/filter", filter)
		}
		filter = of
	}
	levels := strings.Split(filter, "/")
	for i, level := range levels {
		switch {
		case strings.Contains(level, "#") && (level != "#" || i != len(levels)-1):
			return fmt.Errorf("in %q the # must be the whole of the last level", filter)
		case strings.Contains(level, "+") && level != "+":
			return fmt.Errorf("in %q a + must be the whole of its level", filter)
		}
	}
	return checkText("filter", filter)
}

// checkText applies the rules that topics and filters have in common.
func checkText(what, text string) error {
	switch {
	case text == "":
		return errors.New("a " + what + " has at least one character")
	case len(text) > maxTopic:
		return fmt.Errorf("a %s has at most %d bytes, not %d", what, maxTopic, len(text))
	case strings.ContainsRune(text, 0) || !utf8.ValidString(text):
		return fmt.Errorf("a %s is UTF-8 without the character U+0000", what)
	}
	return nil
}

// matches tells whether a topic is one of those that a filter means.
func matches(filter, topic string) bool {
	if rest, shared := strings.CutPrefix(filter, "$share/"); shared {
		_, filter, _ = strings.Cut(rest, "/")
	}
	if strings.HasPrefix(topic, "$") && !strings.HasPrefix(filter, "$") {
		return false
	}
	want, have := strings.Split(filter, "/"), strings.Split(topic, "/")
	for i, level := range want {
		switch {
		case level == "#":
			return true
		case i >= len(have), level != "+" && level != have[i]:
			return false
		}
	}
	return len(want) == len(have)
}

package shape

import (
	"fmt"
	"strings"

	"readyferry/core/format/hl7/dictionary"
)

// HL7Sample makes up a message of a kind, written as ORU^R01 or ORU_R01, in a version of the
// standard: all segments that it must have, and in each what must stand there. Repeating
// parts stand once. The error says that there is no such message.
func HL7Sample(kind, version string) (string, error) {
	v := dictionary.Of(version)
	parts := append(strings.FieldsFunc(strings.ToUpper(kind), func(r rune) bool { return r == '^' || r == '_' }), "", "")
	msg := v.Message(parts[0], parts[1], strings.TrimSuffix(parts[0]+"_"+parts[1], "_"))
	if msg == nil {
		return "", fmt.Errorf("HL7 %s has no message %q; write it as ORU^R01", v.Name, kind)
	}
	var segments []string
	var walk func(list []dictionary.Item)
	walk = func(list []dictionary.Item) {
		for _, one := range list {
			switch {
			case one.Optional && one.First() != "PID": // hardly a message is looked at without it
			case one.Items != nil:
				walk(one.Items)
			default:
				segments = append(segments, segmentOf(v, one.Segment, parts))
			}
		}
	}
	walk(msg.Tree)
	return strings.Join(segments, "\r") + "\r", nil
}

// segmentOf fills a segment with what must stand in it.
func segmentOf(v *dictionary.Version, name string, kind []string) string {
	if name == "MSH" {
		return `MSH|^~\&|SENDER|PLACE|RECEIVER|PLACE|20260317094107||` + kind[0] + "^" + kind[1] + "|MSG0001|P|" + v.Name
	}
	s := v.Segment(name)
	if s == nil {
		return name + "|1"
	}
	fields := []string{name}
	last := 0
	for i := range s.Parts {
		value := ""
		if p := &s.Parts[i]; p.Required {
			value = valueOf(v, p)
			last = i + 1
		}
		fields = append(fields, value)
	}
	if last == 0 {
		return name + "|1"
	}
	return strings.Join(fields[:last+1], "|")
}

// valueOf makes up a value of a type.
func valueOf(v *dictionary.Version, p *dictionary.Part) string {
	switch p.Type {
	case "SI", "NM":
		return "1"
	case "DT":
		return "20260317"
	case "TS", "DTM":
		return "20260317094107"
	case "TM":
		return "0941"
	case "XPN", "PN":
		return "ONEIL^MAUD"
	case "CX", "EI":
		return "1001"
	case "ID", "IS":
		return "A"
	}
	if v.Type(p.Type) != nil {
		return "X^" + strings.ToLower(strings.Map(letters, p.Within()))
	}
	return strings.ToLower(strings.Map(letters, p.Within()))
}

func letters(r rune) rune {
	if r == ' ' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' {
		return r
	}
	return -1
}

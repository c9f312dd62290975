package flow

// Rules is the number of the rules that a version was published under. What the
// settings of a step mean may be mended; a version that is published keeps the
// meaning that it was published with, in what it still does and wherever it is
// looked at. Drafts have the newest rules, and a finding says where these let a
// flow do something else than its live version does.
type Rules int

// The rules so far. Each says what was mended with it.
const (
	// Rules1 are those of every version published before there were numbers: the
	// message goes on behind the steps of an else, message.id in a split is that of
	// the whole message, a whole whose parts are all turned away counts as delivered,
	// and an optional access through null or through a value without members finds
	// nothing.
	Rules1 Rules = 1
	// Rules2: the message ends behind the steps of an else unless they say then: go
	// on; message.id in a split is that of the part, message.parent that of the whole;
	// a whole whose parts are all turned away is turned away; such an access fails.
	Rules2 Rules = 2

	// RulesNow are those that a draft is read under.
	RulesNow = Rules2
)

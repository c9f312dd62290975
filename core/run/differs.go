package run

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
	"readyferry/core/want"
)

// The kinds of Difference.
const (
	OtherEnd    = "state"   // it ends in another state, or for another reason
	OtherTarget = "target"  // what it is handed to is another
	OtherSent   = "sent"    // the same gets something else
	OtherWay    = "way"     // a route that both have takes it another way
	OtherAnswer = "answer"  // its caller hears something else
	OtherResult = "result"  // the flow that called gets something else
	NotKnown    = "unknown" // it comes to a question whose answer is not known
)

// Difference is one thing in which a message goes another way, or comes out different.
type Difference struct {
	Kind string `json:"kind"`
	Step string `json:"step,omitempty"` // of a way and of an unknown
	// Was and Is are the state, the ways, the status, or what it is handed to: a connection,
	// "the queue holds".
	Was string `json:"was,omitempty"`
	Is  string `json:"is,omitempty"`
	// Reason is why it ends as it would.
	Reason string `json:"reason,omitempty"`
	// Parts of what is sent that are other: members by path, method, path, headers.
	Parts []string `json:"parts,omitempty"`
}

// Text says a difference so that it can follow a number of messages.
func (d *Difference) Text() string {
	switch d.Kind {
	case OtherEnd:
		switch {
		case d.Was == d.Is:
			return InSentence(d.Is) + " for another reason: " + d.Reason
		case d.Reason != "":
			return InSentence(d.Is) + ", not " + InSentence(d.Was) + ": " + d.Reason
		}
		return InSentence(d.Is) + ", not " + InSentence(d.Was)
	case OtherTarget:
		switch {
		case d.Was == "":
			return "to " + d.Is + " as well"
		case d.Is == "":
			return "no longer to " + d.Was
		}
		return "to " + d.Is + ", not to " + d.Was
	case OtherSent:
		return "something else to " + d.Is + ": " + strings.Join(d.Parts, ", ")
	case OtherWay:
		return "at " + d.Step + " " + orNone(d.Is) + ", not " + orNone(d.Was)
	case OtherAnswer:
		if d.Was == d.Is {
			return "the caller is answered " + d.Is + " with something else: " + strings.Join(d.Parts, ", ")
		}
		return "the caller is answered " + orNone(d.Is) + ", not " + orNone(d.Was)
	case OtherResult:
		return "the flow that calls gets something else: " + strings.Join(d.Parts, ", ")
	}
	return "what " + d.Is + " answers to " + d.Step + " is not known"
}

func orNone(s string) string {
	if s == "" {
		return "none"
	}
	return s
}

// InSentence gives a state as it stands in a sentence.
func InSentence(state string) string {
	if state == DeadLetter {
		return "a dead letter"
	}
	return state
}

// Differences tells how a message goes another way or comes out different; nothing where it
// ends as it did. Steps that neither send nor end anything may do what they like.
func (r *Retraced) Differences() (out []Difference) {
	var unknown []Difference
	for _, u := range r.Is.Unknown {
		if !slices.ContainsFunc(r.Was.Unknown, func(o Unknown) bool { return o.Step == u.Step && o.Target == u.Target }) {
			unknown = append(unknown, Difference{Kind: NotKnown, Step: u.Step, Is: u.Target})
		}
	}
	ways := otherWays(&r.Was, &r.Is)
	if len(unknown) > 0 { // what would come behind it cannot be told
		out = otherTargets(r.leftOut(), r.is)
		return unique(append(append(out, ways...), unknown...))
	}
	if r.Was.State != r.Is.State || said(r.Was.Reason) != said(r.Is.Reason) {
		out = append(out, Difference{Kind: OtherEnd, Was: r.Was.State, Is: r.Is.State, Reason: said(r.Is.Reason)})
	}
	out = append(out, otherTargets(r.was, r.is)...)
	if d := otherAnswer(r.Was.Answer, r.Is.Answer); d != nil {
		out = append(out, *d)
	}
	out = append(out, ways...)
	if a, b := r.Was.final, r.Is.final; r.Called && a != nil && b != nil {
		if parts := otherMembers(a.Body, b.Body); len(parts) > 0 {
			out = append(out, Difference{Kind: OtherResult, Parts: parts})
		}
	}
	return unique(out)
}

// said gives what a pointer holds.
func said(s *string) string {
	if s == nil {
		return ""
	}
	return *s
}

func unique(all []Difference) (out []Difference) {
	for _, d := range all {
		if !slices.ContainsFunc(out, func(o Difference) bool { return o.Text() == d.Text() }) {
			out = append(out, d)
		}
	}
	return out
}

// otherWays compares the routes that stand in both walks.
func otherWays(was, is *Rehearsal) (out []Difference) {
	taken := map[string]string{}
	for i := range was.Trace {
		if e := &was.Trace[i]; e.Ways != nil && e.Kind == "route" {
			taken[e.Path] = strings.Join(e.Ways, ", ")
		}
	}
	for i := range is.Trace {
		e := &is.Trace[i]
		if before, both := taken[e.Path]; both && e.Kind == "route" {
			if now := strings.Join(e.Ways, ", "); now != before {
				out = append(out, Difference{Kind: OtherWay, Step: e.Step, Was: before, Is: now})
			}
		}
	}
	return out
}

// leftOut gives what was asked of the world, without what stands in no way that the message
// would not take any more: there the new walk may only not have come yet.
func (r *Retraced) leftOut() (out []heard) {
	var left []string
	for i := range r.Is.Trace {
		now := &r.Is.Trace[i]
		for j := range r.Was.Trace {
			was := &r.Was.Trace[j]
			for _, way := range was.Ways {
				if was.Path == now.Path && was.Kind == "route" && !slices.Contains(now.Ways, way) {
					left = append(left, was.Path+"."+way+"/")
				}
			}
		}
	}
	for _, h := range r.was {
		if slices.ContainsFunc(r.is, func(o heard) bool { return o.Path == h.Path }) ||
			slices.ContainsFunc(left, func(way string) bool { return strings.HasPrefix(h.Path, way) }) {
			out = append(out, h)
		}
	}
	return out
}

// sent is what a walk hands over: to whom, and what.
type sent struct {
	to   string
	what *want.Request
	item *message.Node // of a member of a group
}

func sentBy(all []heard) (out []sent) {
	for i := range all {
		switch w := all[i].Want.(type) {
		case want.Handed:
			_, _, r := w.Handed()
			out = append(out, sent{to: takes(w), what: r})
		case *want.Join:
			out = append(out, sent{to: "the group " + w.Key + " of " + all[i].Step, item: w.Item})
		}
	}
	return out
}

// takes names what takes a want: a connection by its name alone.
func takes(w want.Handed) string {
	kind, name, _ := w.Handed()
	switch w.Kind() {
	case want.KindSend:
		return name
	case want.KindQuestion:
		return "the queue " + name
	}
	return "the " + kind + " " + name
}

// otherTargets pairs what both walks hand over, in order by whom it is for.
func otherTargets(was, is []heard) (out []Difference) {
	before := sentBy(was)
	var gone, come []string
	for _, now := range sentBy(is) {
		i := slices.IndexFunc(before, func(s sent) bool { return s.to == now.to })
		if i < 0 {
			come = append(come, now.to)
			continue
		}
		if parts := otherParts(&before[i], &now); len(parts) > 0 {
			out = append(out, Difference{Kind: OtherSent, Is: now.to, Parts: parts})
		}
		before = slices.Delete(before, i, i+1)
	}
	for _, s := range before {
		gone = append(gone, s.to)
	}
	var targets []Difference
	for i := range max(len(gone), len(come)) {
		d := Difference{Kind: OtherTarget}
		if i < len(gone) {
			d.Was = gone[i]
		}
		if i < len(come) {
			d.Is = come[i]
		}
		targets = append(targets, d)
	}
	return append(targets, out...)
}

// otherParts names what differs in two requests to the same.
func otherParts(a, b *sent) (out []string) {
	if a.item != nil || b.item != nil {
		return otherMembers(a.item, b.item)
	}
	x, y := a.what, b.what
	if x.Method != y.Method {
		out = append(out, "method")
	}
	if x.Path != y.Path {
		out = append(out, "address")
	}
	if !slices.Equal(x.Headers, y.Headers) {
		out = append(out, "headers")
	}
	if string(x.Settings) != string(y.Settings) {
		out = append(out, "settings")
	}
	if one, other := asJSON(x.Query), asJSON(y.Query); one != other {
		out = append(out, "statement")
	}
	if x.Format != y.Format {
		return append(out, "format")
	}
	return append(out, otherBytes(x.Body, y.Body)...)
}

func asJSON(v any) string {
	b, _ := json.Marshal(v)
	return string(b)
}

// otherBytes names the members that differ in two documents of JSON, or says that the
// bytes do.
func otherBytes(a, b []byte) []string {
	if string(a) == string(b) {
		return nil
	}
	x, errX := jsonfmt.Decode(a)
	y, errY := jsonfmt.Decode(b)
	if errX != nil || errY != nil {
		return []string{"content"}
	}
	if parts := otherMembers(x.Root, y.Root); len(parts) > 0 {
		return parts
	}
	return []string{"content"} // the same written otherwise
}

// mostParts is how many members of a message are named that differ.
const mostParts = 5

// otherMembers names the members in which two trees differ, the items of lists together.
func otherMembers(a, b *message.Node) []string {
	seen := map[string]bool{}
	var walk func(at string, a, b *message.Node)
	walk = func(at string, a, b *message.Node) {
		switch {
		case a == nil && b == nil:
		case a == nil || b == nil || a.Kind != b.Kind:
			seen[at] = true
		case a.Kind == message.Map:
			for _, m := range a.Members {
				walk(at+"."+m.Name, m.Value, b.Get(m.Name))
			}
			for _, m := range b.Members {
				if a.Get(m.Name) == nil {
					seen[at+"."+m.Name] = true
				}
			}
		case a.Kind == message.List:
			if len(a.Items) != len(b.Items) {
				seen[at+"[]"] = true
				return
			}
			for i := range a.Items {
				walk(at+"[]", a.Items[i], b.Items[i])
			}
		default:
			if string(jsonfmt.Encode(a)) != string(jsonfmt.Encode(b)) {
				seen[at] = true
			}
		}
	}
	walk("body", a, b)
	out := slices.Sorted(maps.Keys(seen))
	if more := len(out) - mostParts; more > 0 {
		out = append(out[:mostParts], fmt.Sprintf("and %d more", more))
	}
	return out
}

// otherAnswer compares what callers hear; nil where it is the same, or nobody waits.
func otherAnswer(a, b *ShownAnswer) *Difference {
	d := &Difference{Kind: OtherAnswer}
	if a != nil {
		d.Was = fmt.Sprint(a.Status)
	}
	if b != nil {
		d.Is = fmt.Sprint(b.Status)
	}
	switch {
	case a == nil && b == nil:
		return nil
	case d.Was != d.Is:
		return d
	}
	if !maps.Equal(a.Headers, b.Headers) {
		d.Parts = append(d.Parts, "headers")
	}
	if d.Parts = append(d.Parts, otherBytes([]byte(a.Body), []byte(b.Body))...); len(d.Parts) == 0 {
		return nil
	}
	return d
}

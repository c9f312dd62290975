// Package access decides who may do what.
//
// A person has roles, each given for an area or for everywhere. An area is a label of
// flows, connections, tables, queues and topics: a team sees and does only its own. A
// program has a key with rights on things that it names. Either is a Who, which answers
// one question: may it do this to that?
//
// Rights do not follow from one another. A role is a set of them, and every role holds
// See: whoever may do something to a thing may know that it is there.
package access

import (
	"context"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"
)

// Right is something that one may be permitted.
type Right string

// The rights.
const (
	See     Right = "see"     // that things are there, how they are, and transactions without bodies
	Samples Right = "samples" // the messages that are kept with flows, and what flows make of them
	Bodies  Right = "bodies"  // the contents of messages
	Test    Right = "test"    // ask outside systems what they offer, and whether they answer
	Operate Right = "operate" // resend, repair, discard, pause, try now, rewind, move, purge
	Design  Right = "design"  // drafts, samples, stand-ins
	Publish Right = "publish" // publish, connections, secrets, tables
	Own     Right = "own"     // people, keys, roles, settings, backup
	Unmask  Right = "unmask"  // the values of masked fields
)

// Rights lists them.
func Rights() []Right {
	return []Right{See, Samples, Bodies, Test, Operate, Design, Publish, Own, Unmask}
}

// Role is what a person is in an area.
type Role string

// The roles.
const (
	Reader    Role = "reader"
	Operator  Role = "operator"
	Designer  Role = "designer"
	Publisher Role = "publisher"
	Owner     Role = "owner"
	Unmasker  Role = "unmask"
)

// Roles lists them, in the order in which people are offered them.
func Roles() []Role { return []Role{Reader, Operator, Designer, Publisher, Owner, Unmasker} }

// Holds gives the rights of a role.
func (r Role) Holds() []Right {
	switch r {
	case Reader:
		return []Right{See}
	case Operator:
		return []Right{See, Samples, Bodies, Test, Operate}
	case Designer:
		return []Right{See, Samples, Test, Design}
	case Publisher:
		return []Right{See, Test, Publish}
	case Owner:
		return []Right{See, Own}
	case Unmasker:
		return []Right{See, Unmask}
	}
	return nil
}

// Everywhere is the area of a role that is given for all of them, and for what has none.
const Everywhere = "*"

var areaName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,59}$`)

// CheckArea says what is wrong with the name of an area, or nil.
func CheckArea(name string) error {
	if name != "" && !areaName.MatchString(name) {
		return fmt.Errorf("%q is no area: small letters, digits and hyphens, up to 60", name)
	}
	return nil
}

// Grant is a role in an area.
type Grant struct {
	Role Role   `json:"role"`
	Area string `json:"area"` // Everywhere, or the name of one
}

// Check says what is wrong with a grant, or nil.
func (g Grant) Check() error {
	switch {
	case g.Role.Holds() == nil:
		return fmt.Errorf("%q is no role; there are reader, operator, designer, publisher, owner and unmask", g.Role)
	case g.Area == "":
		return fmt.Errorf("the role %s needs an area, or * for everywhere", g.Role)
	case g.Role == Owner && g.Area != Everywhere:
		return fmt.Errorf("an owner is one everywhere: give the role with the area *, not %s", g.Area)
	case g.Area == Everywhere:
		return nil
	}
	return CheckArea(g.Area)
}

// Thing is what a right is asked for.
type Thing struct {
	Kind string // flow, queue, topic, connection, table
	Name string
	Area string // "" for none
}

// The kinds of thing.
const (
	Flow       = "flow"
	Queue      = "queue"
	Topic      = "topic"
	Connection = "connection"
	Table      = "table"
	Runner     = "runner"
)

// What a key may do with what it names.
const (
	MaySend   = "send"   // call a webhook, put into a queue, publish to a topic
	MayTake   = "take"   // take from a queue and say what became of it
	MayRead   = "read"   // look, and take nothing
	MayManage = "manage" // all that operators, designers and publishers do
	MayRun    = "run"    // be the runner of a name, and do what its connections need
)

// KeyRight is what a key may do, and with what.
type KeyRight struct {
	May []string `json:"may"`
	On  []string `json:"on"` // kind:name, area:name; a * at the end stands for any rest, and alone for everything
}

// Check says what is wrong with it, or nil.
func (r KeyRight) Check() error {
	if len(r.May) == 0 || len(r.On) == 0 || len(r.On) > 100 {
		return fmt.Errorf("a right says what one may, and on what: 1 to 100 things")
	}
	for _, m := range r.May {
		if !slices.Contains([]string{MaySend, MayTake, MayRead, MayManage, MayRun}, m) {
			return fmt.Errorf("%q is no right; there are send, take, read, manage and run", m)
		}
	}
	for _, on := range r.On {
		kind, name, named := strings.Cut(on, ":")
		if on != "*" && (!named || name == "" || !slices.Contains([]string{Flow, Queue, Topic, Connection, Table, Runner,
			"area"}, kind)) {
			return fmt.Errorf("%q names nothing; write flow:name, queue:name, topic:name, connection:name, table:name, "+
				"runner:name or area:name, with * for any", on)
		}
	}
	return nil
}

// Covers tells whether a thing is among those that it names.
func (r KeyRight) Covers(t Thing) bool {
	return slices.ContainsFunc(r.On, func(pattern string) bool {
		if pattern == "*" {
			return true
		}
		kind, name, _ := strings.Cut(pattern, ":")
		is := t.Name
		switch {
		case kind == "area" && t.Area != "":
			is = t.Area
		case kind != t.Kind:
			return false
		}
		begin, any := strings.CutSuffix(name, "*")
		return name == is || any && strings.HasPrefix(is, begin)
	})
}

// holds are the rights that a key's words stand for.
var holds = map[string][]Right{
	MayRead:   {See, Samples, Bodies},
	MayManage: {See, Samples, Test, Operate, Design, Publish},
}

// Kind tells who a Who is.
type Kind string

// The kinds of Who.
const (
	Person  Kind = "person"
	Key     Kind = "key"
	Machine Kind = "command line"
	Visitor Kind = "visitor" // of the demo
)

// Who is somebody who does something.
type Who struct {
	Kind    Kind
	Name    string
	Title   string     // as people call them
	Grants  []Grant    // of a person
	Rights  []KeyRight // of a key
	From    string     // the address that it came from
	Session string     // by which a person is signed in
	// Changed is when a person's way to sign in was last changed, if that was since they had
	// signed in the time before.
	Changed time.Time
}

// String gives who it is, as it is written down.
func (w *Who) String() string {
	switch {
	case w == nil:
		return ""
	case w.Kind == Key:
		return "key " + w.Name
	}
	return w.Name
}

// May tells whether somebody has a right to a thing.
func (w *Who) May(r Right, t Thing) bool {
	return w.any(r, func(g Grant) bool { return g.Area == Everywhere || t.Area != "" && g.Area == t.Area },
		func(k KeyRight) bool { return k.Covers(t) })
}

// Everywhere tells whether somebody has a right to all things, whatever they are.
func (w *Who) Everywhere(r Right) bool {
	return w.any(r, func(g Grant) bool { return g.Area == Everywhere },
		func(k KeyRight) bool { return slices.Contains(k.On, "*") })
}

// Anywhere tells whether somebody has a right to something.
func (w *Who) Anywhere(r Right) bool {
	return w.any(r, func(Grant) bool { return true }, func(KeyRight) bool { return true })
}

func (w *Who) any(r Right, grant func(Grant) bool, key func(KeyRight) bool) bool {
	if w == nil {
		return false
	}
	return slices.ContainsFunc(w.Grants, func(g Grant) bool { return grant(g) && slices.Contains(g.Role.Holds(), r) }) ||
		slices.ContainsFunc(w.Rights, func(k KeyRight) bool {
			return key(k) && slices.ContainsFunc(k.May, func(m string) bool { return slices.Contains(holds[m], r) })
		})
}

// Areas gives the areas in which a person has a right, sorted; Everywhere alone where that
// is one of them.
func (w *Who) Areas(r Right) (out []string) {
	if w == nil {
		return nil
	}
	for _, g := range w.Grants {
		if slices.Contains(g.Role.Holds(), r) {
			if g.Area == Everywhere {
				return []string{Everywhere}
			}
			out = append(out, g.Area)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// All are the roles of somebody who may do everything.
func All() (out []Grant) {
	for _, r := range Roles() {
		out = append(out, Grant{r, Everywhere})
	}
	return out
}

type key struct{}

// With gives a context in which somebody does something.
func With(ctx context.Context, w *Who) context.Context { return context.WithValue(ctx, key{}, w) }

// Of gives who does it; nil where nobody said so: the application itself.
func Of(ctx context.Context) *Who {
	w, _ := ctx.Value(key{}).(*Who)
	return w
}

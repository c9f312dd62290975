package run

import (
	"fmt"
	"regexp"
	"sort"
	"strings"
	"time"

	jsonfmt "readyferry/core/format/json"
	"readyferry/core/group"
	"readyferry/core/message"
	"readyferry/core/plan"
	"readyferry/core/step"
	"readyferry/core/want"
)

// Groups keeps the groups of a rehearsal in memory, over one message or
// several that come one after the other. Time passes as the messages say;
// behind the last one it passes until nothing waits for it any more.
type Groups struct {
	plan   *plan.Plan
	open   []*openGroup
	closed map[string]time.Time // when the last group of a key closed
	now    time.Time
	n      int
	lines  map[string]*line
	meet   map[string]meeting // what brings about the wants at which messages meet
	next   []func()           // what happens once the member's own step is told
	later  []func()           // what happens once its whole walk is
}

// NewGroups makes the groups of a rehearsal.
func NewGroups(p *plan.Plan) *Groups {
	return &Groups{plan: p, closed: map[string]time.Time{}, lines: map[string]*line{}, meet: map[string]meeting{
		want.KindJoin: (*walker).join, want.KindTurn: (*walker).turn,
	}}
}

// meeting brings about a want at which the messages of a rehearsal meet.
type meeting func(w *walker, s *step.Compiled, call *step.Call, res step.Result, asked want.Asked) (step.Result, error)

type openGroup struct {
	group.Group
	bytes   int64  // of its items
	path    string // of the aggregate, without numbers of parts
	id      string // path, scope and key
	rules   *group.Rules
	unique  map[string]bool
	members []member
	scope   string // the split whose parts it gathers, or ""
}

// member is the place in a rehearsal at which a message joined.
type member struct {
	w     *walker
	entry int
}

var partNumbers = regexp.MustCompile(`\[\d+\]`)

// GroupPath gives the path of an aggregate that the parts of a split share.
func GroupPath(path string) string { return partNumbers.ReplaceAllString(path, "") }

// join makes a message a member, where nothing is real.
func (w *walker) join(s *step.Compiled, call *step.Call, _ step.Result, asked want.Asked) (step.Result, error) {
	j := asked.Want.(*want.Join)
	g, now := w.in.Groups, w.in.Message.ReceivedAt
	g.tick(now)
	g.passTime(now)
	rules, path := j.Rules, GroupPath(asked.Path)
	scope := ""
	if rules.Parts != "" {
		scope = w.in.Message.ID + "\x00" + SplitOf(asked.Path)
	}
	id := path + "\x00" + scope + "\x00" + j.Key
	refuse := func(reason string) (step.Result, error) {
		call.Effect = &want.Effect{Refused: reason}
		return s.Runner.Run(call)
	}
	o := g.find(id)
	if o == nil {
		if at, was := g.closed[id]; was && rules.Late != group.NewGroup && g.now.Before(at.Add(rules.LateFor)) {
			if rules.Late == group.TurnAway {
				return refuse(LateReason(j.Key, at))
			}
			late := &step.Closed{
				Key:      j.Key,
				Items:    []*message.Node{j.Item},
				OpenedAt: g.now,
				ClosedAt: g.now,
				Why:      "an addition",
				Late:     true,
			}
			g.next = append(g.next, func() { w.inGroup(path, late) })
			call.Effect = &want.Effect{Said: "added to the closed group " + j.Key}
			return s.Runner.Run(call)
		}
		o = &openGroup{
			Group:  group.Group{Key: j.Key, OpenedAt: g.now, Awaited: -1},
			path:   path,
			id:     id,
			rules:  rules,
			unique: map[string]bool{},
			scope:  scope,
		}
		g.open = append(g.open, o)
	}
	if u := j.Unique; u != nil {
		if o.unique[*u] {
			return refuse(fmt.Sprintf("the group %s has a member %s already", o.Key, *u))
		}
		o.unique[*u] = true
	}
	size := int64(len(jsonfmt.Encode(j.Item)))
	if full := rules.Full(o.Count, o.bytes, size); full != "" {
		return step.Result{}, FullGroup(o.Key, full)
	}
	o.Count++
	o.bytes += size
	o.LastAt, o.Newest = g.now, j.Item
	o.Items = append(o.Items, j.Item)
	o.members = append(o.members, member{w, len(w.result.Trace)})
	why, err := rules.Closes(&o.Group)
	if err != nil {
		return step.Result{}, &step.Failure{Phase: "close/when", Class: step.Data, Reason: err.Error()}
	}
	call.Effect = &want.Effect{Said: fmt.Sprintf("member %d of %s", o.Count, o.Key)}
	if why != "" {
		call.Effect.Said += ", which closes " + why
	}
	res, err := s.Runner.Run(call)
	if why != "" && err == nil {
		at := g.now
		g.next = append(g.next, func() { g.close(o, at, why) })
	}
	return res, err
}

// SplitOf gives the path of the split around a step of a part, or "".
func SplitOf(path string) string { return path[:max(0, strings.LastIndexByte(path, '['))] }

// settle does what a member has set going at once.
func (g *Groups) settle() {
	for len(g.next) > 0 {
		do := g.next[0]
		g.next = g.next[1:]
		do()
	}
}

// settleAll does what a walk that has ended has set going.
func (g *Groups) settleAll() {
	for g.settle(); len(g.later) > 0; g.settle() {
		do := g.later[0]
		g.later = g.later[1:]
		do()
	}
}

// LateReason says why a late member is turned away.
func LateReason(key string, closed time.Time) string {
	return fmt.Sprintf("it is late: the group %s closed at %s", key, closed.UTC().Format(time.RFC3339))
}

// FullGroup is the failure of a member for which its group has no room.
func FullGroup(key, why string) *step.Failure {
	return &step.Failure{Phase: "limit", Class: step.Data, Reason: "the group " + key + " is full: " + why}
}

func (g *Groups) find(id string) *openGroup {
	for _, o := range g.open {
		if o.id == id {
			return o
		}
	}
	return nil
}

// tick closes what time has closed until now, in the order of its deadlines.
func (g *Groups) tick(now time.Time) {
	for {
		var first *openGroup
		var at time.Time
		var why string
		for _, o := range g.open {
			if d, w := o.rules.Deadline(o.OpenedAt, o.LastAt); !d.IsZero() && !d.After(now) &&
				(first == nil || d.Before(at)) {
				first, at, why = o, d, w
			}
		}
		held := g.overdue(now)
		switch {
		case held != nil && (first == nil || held.until.Before(at)):
			g.passTime(held.until)
			held.overdue()
		case first != nil:
			g.close(first, at, why)
		default:
			return
		}
		g.settleAll()
	}
}

// passTime moves the clock of the rehearsal on.
func (g *Groups) passTime(at time.Time) {
	if at.After(g.now) {
		g.now = at
	}
}

// end lets time pass until no group waits for it, and says of those that wait
// for something else that they do.
func (g *Groups) end() {
	g.tick(time.Unix(1<<40, 0))
	for _, o := range g.open {
		for _, m := range o.members {
			m.w.waits = fmt.Sprintf("waits in the group %s, which has %s", o.Key, counted(o.Count, "member"))
			missing := o.rules.Missing(&o.Group)
			if o.rules.Parts != "" {
				missing = append(missing, "the other parts of "+o.rules.Parts)
			}
			if len(missing) > 0 {
				m.w.waits += ": " + strings.Join(missing, ", ")
			}
			if m.entry < len(m.w.result.Trace) {
				m.w.result.Trace[m.entry].State = Waiting
			}
		}
	}
}

func counted(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

// allParts closes the groups of a split all of whose parts have come or gone.
func (g *Groups) allParts(scope string, alive int) {
	var ready []*openGroup
	for _, o := range g.open {
		if o.scope == scope && o.rules.Complete(alive) {
			ready = append(ready, o)
		}
	}
	sort.SliceStable(ready, func(i, j int) bool { return ready[i].OpenedAt.Before(ready[j].OpenedAt) })
	for _, o := range ready {
		g.close(o, g.now, "all parts are here")
	}
}

func (g *Groups) close(o *openGroup, at time.Time, why string) {
	for i, other := range g.open {
		if other == o {
			g.open = append(g.open[:i:i], g.open[i+1:]...)
			break
		}
	}
	g.closed[o.id] = at
	g.passTime(at)
	o.members[len(o.members)-1].w.inGroup(
		o.path,
		&step.Closed{Key: o.Key, Items: o.Items, OpenedAt: o.OpenedAt, ClosedAt: at, Why: why},
	)
}

// inGroup walks a closed group in the rehearsal of the member that closed it.
func (w *walker) inGroup(path string, c *step.Closed) {
	g := w.in.Groups
	g.n++
	reason, awaited, origin, resume, m, suffix := w.reason, w.awaited, w.in.Origin, w.in.Resume, w.in.Message, w.suffix
	w.suffix = fmt.Sprintf("[%d]", w.groups)
	w.groups++
	id := DeliveryID(m.ID, fmt.Sprintf("group %s %s %d", path, c.Key, g.n))
	w.awaited, w.in.Origin, w.in.Resume = false, nil, &Resume{Path: path, Message: GroupMessage(id, c), Group: c}
	w.in.Message = w.in.Resume.Message
	w.resume(g.plan, w.in.Resume)
	w.reason, w.awaited, w.in.Origin, w.in.Resume, w.in.Message, w.suffix = reason, awaited, origin, resume, m, suffix
}

// GroupMessage gives the message with which a group goes on; its body is the
// list of items until the step has made its result.
func GroupMessage(id string, c *step.Closed) message.Message {
	none := message.NewMap()
	return message.Message{
		ID: id, ReceivedAt: c.ClosedAt, Reference: c.Key, Format: "json", Body: message.NewList(c.Items...),
		Headers: none, Params: none, Query: none,
	}
}

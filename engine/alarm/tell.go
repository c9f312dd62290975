package alarm

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	core "readyferry/core/alarm"
	"readyferry/engine/journal"
	"readyferry/store"
)

// The kinds of what is told of an alarm.
const (
	Rings    = "rings"
	Still    = "still" // it rings, and was told before
	Resolved = "resolved"
)

// Told is what a notice says, as receivers get it in JSON.
type Told struct {
	ID     string      `json:"id"` // of the notice; the same on every try
	At     time.Time   `json:"at"`
	Title  string      `json:"title"` // all of it in one line
	Alarms []ToldAlarm `json:"alarms"`
	Page   string      `json:"page"` // of this application, where one sees more
}

// ToldAlarm is one alarm of a notice.
type ToldAlarm struct {
	ID     string     `json:"id"`
	What   string     `json:"what"` // rings, still or resolved
	Rule   string     `json:"rule"`
	Title  string     `json:"title"`
	Kind   string     `json:"kind"`
	About  string     `json:"about"` // the name of the flow, queue, connection
	Words  string     `json:"words"` // what the rule watches
	Value  float64    `json:"value"`
	Unit   string     `json:"unit"`
	Since  time.Time  `json:"since"`
	Ended  *time.Time `json:"ended"`
	Urgent bool       `json:"urgent"`
	Advice string     `json:"advice"`
}

// toldAfter is for how long behind its end an alarm may still be told as over, as when times are
// quiet.
const toldAfter = 48 * time.Hour

// outgoing gathers what one receiver is to be told.
type outgoing struct {
	to       core.Receiver
	due      bool // it waits for no more
	tellings []store.Telling
	alarms   []ToldAlarm
}

// tell makes notices of what receivers do not know yet.
func (a *Alarms) tell(now time.Time) error {
	rings, told, err := a.untold(now)
	if err != nil || len(rings) == 0 {
		return err
	}
	var out []*outgoing
	for i := range rings {
		ring := &rings[i]
		rule := a.rules[ring.Rule]
		if rule == nil || rule.Off {
			continue
		}
		for place, to := range rule.Tell {
			what, ready, due := a.ready(rule, ring, place, told, now)
			if !ready {
				continue
			}
			o := receiverOf(&out, to)
			o.due = o.due || due
			o.tellings = append(o.tellings, store.Telling{Ring: ring.ID, To: place, Kind: what, At: now})
			o.alarms = append(o.alarms, toldAlarm(rule, ring, what))
		}
	}
	out = slices.DeleteFunc(out, func(o *outgoing) bool { return !o.due })
	if len(out) == 0 {
		return nil
	}
	return a.Write(a.context(), func(tx *store.Tx, n *journal.Notice) error {
		n.Events[journal.EventAlarms] = true
		for _, o := range out {
			notice, err := o.notice(now)
			if err != nil {
				return err
			}
			if err := tx.SaveNotice(notice); err != nil {
				return err
			}
			if err := tx.SaveTellings(o.tellings); err != nil {
				return err
			}
		}
		return nil
	})
}

type tellingKey struct {
	ring store.ID
	to   int
	kind string
}

// untold gives what rings and what is over since not long, with what was told of it.
func (a *Alarms) untold(now time.Time) ([]store.Ring, map[tellingKey]time.Time, error) {
	rings, err := a.Store.OpenRings()
	if err != nil {
		return nil, nil, err
	}
	over, err := a.Store.RecentlyEnded(now.Add(-toldAfter))
	if err != nil {
		return nil, nil, err
	}
	rings = append(rings, over...)
	ids := make([]store.ID, len(rings))
	for i := range rings {
		ids[i] = rings[i].ID
	}
	told := map[tellingKey]time.Time{}
	for some := range slices.Chunk(ids, 500) {
		rows, err := a.Store.Tellings(some)
		if err != nil {
			return nil, nil, err
		}
		for _, t := range rows {
			told[tellingKey{t.Ring, t.To, t.Kind}] = t.At
		}
	}
	return rings, told, nil
}

// ready tells what a receiver does not know of a ring yet: whether it is to be told now, and
// whether that waits for no others to be told with it.
func (a *Alarms) ready(rule *Rule, ring *store.Ring, place int, told map[tellingKey]time.Time, now time.Time) (
	what string, ready, due bool,
) {
	if quiet := a.hours(rule.Quiet); quiet != nil && !rule.Urgent && quiet.Covers(now) {
		return "", false, false
	}
	first, was := told[tellingKey{ring.ID, place, Rings}]
	if ring.Ended != nil {
		_, knows := told[tellingKey{ring.ID, place, Resolved}]
		return Resolved, was && !knows && !rule.Silent, true
	}
	if ring.AckedAt != nil {
		return "", false, false
	}
	if !was {
		at := ring.Began.Add(time.Duration(rule.Tell[place].After))
		group := time.Duration(rule.Group)
		if group == 0 {
			group = core.DefaultGroup
		}
		if rule.Urgent {
			group = 0
		}
		return Rings, !now.Before(at), !now.Before(at.Add(group))
	}
	last := first
	if at, again := told[tellingKey{ring.ID, place, Still}]; again {
		last = at
	}
	late := rule.Again > 0 && now.Sub(last) >= time.Duration(rule.Again)
	return Still, late, late
}

func receiverOf(out *[]*outgoing, to core.Receiver) *outgoing {
	to.After = 0
	key, _ := json.Marshal(to)
	for _, o := range *out {
		if other, _ := json.Marshal(o.to); string(other) == string(key) {
			return o
		}
	}
	*out = append(*out, &outgoing{to: to})
	return (*out)[len(*out)-1]
}

func toldAlarm(rule *Rule, ring *store.Ring, what string) ToldAlarm {
	k := core.Find(rule.Watch)
	return ToldAlarm{
		ID: ring.ID.String(), What: what, Rule: rule.Name, Title: rule.Title, Kind: k.Name, About: ring.Subject,
		Words: rule.Words(), Value: ring.Value, Unit: k.Unit, Since: ring.Began, Ended: ring.Ended, Urgent: rule.Urgent,
		Advice: rule.Says(),
	}
}

func (o *outgoing) notice(now time.Time) (*store.Notice, error) {
	id := store.NewID()
	body, err := json.Marshal(Told{ID: id.String(), At: now, Title: o.title(), Alarms: o.alarms, Page: "/alarms"})
	if err != nil {
		return nil, err
	}
	to, err := json.Marshal(o.to)
	return &store.Notice{ID: id, To: to, Body: body, At: now, Next: &now}, err
}

// title says all of a notice in one line.
func (o *outgoing) title() string {
	first := o.alarms[0]
	text := first.Title
	if first.About != "" {
		text += ": " + first.About
	}
	if first.What == Resolved {
		text = "Over: " + text
	}
	if more := len(o.alarms) - 1; more > 0 {
		text += fmt.Sprintf(" and %d more", more)
	}
	return text
}

// Text writes a notice for people.
func (t *Told) Text() string {
	var b strings.Builder
	for i, a := range t.Alarms {
		if i > 0 {
			b.WriteString("\n")
		}
		title := a.Title
		if a.About != "" {
			title += ": " + a.About
		}
		at := a.Since.UTC().Format("2006-01-02 15:04 UTC")
		switch a.What {
		case Resolved:
			fmt.Fprintf(&b, "Over: %s\n  It rang from %s to %s.\n", title, at, a.Ended.UTC().Format("15:04 UTC"))
			continue
		case Still:
			fmt.Fprintf(&b, "Still: %s\n", title)
		default:
			fmt.Fprintf(&b, "%s\n", title)
		}
		fmt.Fprintf(&b, "  %s %s now, since %s (%s).\n  %s\n", core.Number(a.Value), a.Unit, at, a.Words, a.Advice)
	}
	fmt.Fprintf(&b, "\nSee %s, and say there who has it in hand.\n", t.Page)
	return b.String()
}

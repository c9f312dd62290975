// Package alarm judges whether something is to be told to people: a rule says what is watched,
// from which value on, for how long, and in which hours. Judging is a fold over values in time, so
// that the same judge says what rings now and what would have rung last week.
//
// A rule begins to ring when its value has been out of bounds, without a break, for as long as
// the rule says, within the hours of its calendar. It goes on until the value has been in bounds
// for Calm. So one that swings about its limit rings once. What is not known is in bounds: a rule
// never rings for want of figures.
package alarm

import (
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Of is what a kind of measure is taken of.
type Of string

// What there is to measure.
const (
	OfFlow         Of = "flow"
	OfQueue        Of = "queue"
	OfSubscription Of = "subscription"
	OfConnection   Of = "connection"
	OfKey          Of = "key"
	OfNothing      Of = "" // the machine itself
)

// Kind is something that can be watched.
type Kind struct {
	Name    string // as rules have it
	Title   string // in words
	Of      Of
	Unit    string // of its value
	Window  bool   // it is counted within a span of time
	Below   bool   // a small value is the bad one
	Limit   float64
	Advice  string // what one does about it, where the rule does not say
	Sampled bool   // what it was in the past is kept by the minute
}

// Kinds lists what can be watched.
var Kinds = []Kind{
	{Name: "received", Title: "messages received", Of: OfFlow, Unit: "messages", Window: true, Limit: 1000,
		Advice: "See who sends so much: look at the flow's transactions and at who calls."},
	{Name: "rate", Title: "messages a minute", Of: OfFlow, Unit: "a minute", Window: true, Limit: 100,
		Advice: "See who sends so much: look at the flow's transactions and at who calls."},
	{Name: "turned-away", Title: "messages turned away", Of: OfFlow, Unit: "messages", Window: true, Limit: 10,
		Advice: "Open one that was turned away: it says why. Tell its sender, or change what the flow accepts."},
	{Name: "dead-letters", Title: "new dead letters", Of: OfFlow, Unit: "letters", Window: true, Limit: 0,
		Advice: "Open the dead letters: they are together by cause. Mend the cause, look at what a repair would do, and repair them all."},
	{Name: "failing-share", Title: "share of messages that failed", Of: OfFlow, Unit: "%", Window: true, Limit: 5,
		Advice: "Open the dead letters and what was turned away: what they have in common is their cause."},
	{
		Name:    "open-letters",
		Title:   "dead letters that nobody has decided about",
		Of:      OfFlow,
		Unit:    "letters",
		Sampled: true,
		Limit:   0,
		Advice:  "Open the dead letters and decide: repair them, or discard them with a reason.",
	},
	{
		Name:    "unfinished",
		Title:   "transactions that have not ended",
		Of:      OfFlow,
		Unit:    "transactions",
		Sampled: true,
		Limit:   1000,
		Advice:  "See what they wait for: the target that is slow or refuses, or messages that come faster than they go.",
	},
	{Name: "age", Title: "age of the oldest that has not ended", Of: OfFlow, Unit: "min", Sampled: true, Limit: 30,
		Advice: "Open the oldest: it says what it waits for, and until when."},
	{Name: "silence", Title: "time without a message", Of: OfFlow, Unit: "min", Limit: 15,
		Advice: "Ask at the sender whether it sends; look at the flow's source, and at calls that were not let in."},
	{Name: "source", Title: "time that a source has failed", Of: OfFlow, Unit: "min", Sampled: true, Limit: 5,
		Advice: "The flow's page says what its source answered. Test the connection."},
	{Name: "depth", Title: "messages in a queue", Of: OfQueue, Unit: "messages", Sampled: true, Limit: 1000,
		Advice: "See whether its readers work: a flow that is paused, or a reader that stopped."},
	{
		Name:    "lag",
		Title:   "messages that a subscription has not read",
		Of:      OfSubscription,
		Unit:    "messages",
		Sampled: true,
		Limit:   1000,
		Advice:  "See whether its readers work: a flow that is paused, or a reader that stopped.",
	},
	{
		Name:    "backlog",
		Title:   "messages that wait at an outside source",
		Of:      OfConnection,
		Unit:    "messages",
		Sampled: true,
		Limit:   1000,
		Advice:  "The flow takes them in more slowly than they come: see what it waits for.",
	},
	{
		Name:    "target",
		Title:   "time that a connection has not worked",
		Of:      OfConnection,
		Unit:    "min",
		Sampled: true,
		Limit:   5,
		Advice:  "Test the connection and ask who runs that system. Nothing is lost: what waits goes out when it answers; hold it while it is mended.",
	},
	{
		Name:    "waiting",
		Title:   "deliveries that wait for a target",
		Of:      OfConnection,
		Unit:    "deliveries",
		Sampled: true,
		Limit:   1000,
		Advice:  "See how fast it answers, and how much it is sent at once.",
	},
	{
		Name:    "certificate",
		Title:   "days until a certificate ends",
		Of:      OfConnection,
		Unit:    "days",
		Below:   true,
		Sampled: true,
		Limit:   21,
		Advice:  "Have a new certificate made, and put it into the connection before this one ends.",
	},
	{Name: "key", Title: "days until a key ends", Of: OfKey, Unit: "days", Below: true, Sampled: true, Limit: 14,
		Advice: "Make a new key, give it to whoever uses this one, and remove this one when it is not used any more."},
	{Name: "secret", Title: "days until the secret of a connection ends", Of: OfConnection, Unit: "days", Below: true,
		Sampled: true,
		Limit:   14, Advice: "Have the system's keeper give a new secret, put it into the connection, and say there until when it is good."},
	{Name: "disk", Title: "free room on the disk", Of: OfNothing, Unit: "MB", Below: true, Sampled: true, Limit: 2000,
		Advice: "Make room, or keep what has ended for a shorter time."},
	{Name: "refused", Title: "sign-ins and requests refused within ten minutes", Of: OfNothing, Unit: "refusals",
		Sampled: true, Limit: 20,
		Advice: "The audit says who, from where and at what: a forgotten password, a program with an old key, or somebody who guesses."},
	{Name: "members", Title: "members of the fleet that are away", Of: OfNothing, Unit: "members", Sampled: true,
		Advice: "Fleet says which, and since when. The others go on as long as a majority of them is there: start it, or a new machine with its folder."},
}

// Find gives a kind by its name; nil for none.
func Find(name string) *Kind {
	if i := slices.IndexFunc(Kinds, func(k Kind) bool { return k.Name == name }); i >= 0 {
		return &Kinds[i]
	}
	return nil
}

// Span is a span of time as documents have it, such as 15m.
type Span time.Duration

// MarshalJSON writes it as 15m.
func (s Span) MarshalJSON() ([]byte, error) { return json.Marshal(s.String()) }

// String gives it without what is zero: 15m, not 15m0s.
func (s Span) String() string {
	text := time.Duration(s).String()
	if strings.HasSuffix(text, "m0s") {
		text = strings.TrimSuffix(text, "0s")
	}
	if strings.HasSuffix(text, "h0m") {
		text = strings.TrimSuffix(text, "0m")
	}
	return text
}

// UnmarshalJSON reads 15m; "" is no time.
func (s *Span) UnmarshalJSON(b []byte) error {
	var text string
	if err := json.Unmarshal(b, &text); err != nil {
		return fmt.Errorf("a span of time is a text such as 15m, not %s", b)
	}
	if text == "" {
		*s = 0
		return nil
	}
	if days, ok := strings.CutSuffix(text, "d"); ok {
		if n, err := strconv.Atoi(days); err == nil {
			text = strconv.Itoa(24*n) + "h"
		}
	}
	d, err := time.ParseDuration(text)
	if err != nil || d < 0 || d > 400*24*time.Hour {
		return fmt.Errorf("%q is no span of time; write it as 30s, 15m, 24h or 2d", text)
	}
	*s = Span(d)
	return nil
}

// Receiver is who is told.
type Receiver struct {
	Connection string `json:"connection,omitempty"` // that the notice goes out by: mail, or whatever takes a message
	Recipients string `json:"recipients,omitempty"` // of a mail
	Path       string `json:"path,omitempty"`       // below the address, for HTTP
	// Settings are those that a delivery to other systems has, as its kind says.
	Settings json.RawMessage `json:"settings,omitempty"`
	Flow     string          `json:"flow,omitempty"`  // in place of a connection: it takes the notice in as a message
	After    Span            `json:"after,omitempty"` // it is told when nobody has it in hand by then
}

// Rule is what somebody wants to be told of.
type Rule struct {
	Title  string     `json:"title"`
	Off    bool       `json:"off"`
	Watch  string     `json:"watch"`  // name of a kind
	Of     string     `json:"of"`     // the flow, queue or connection; "": each by itself
	Within Span       `json:"within"` // what is counted, for kinds that count
	Limit  float64    `json:"limit"`  // it rings beyond it: above, or below where the kind is so
	For    Span       `json:"for"`    // it must be so this long
	During string     `json:"during"` // a calendar: it begins to ring in these times only, and silence counts in them alone
	Urgent bool       `json:"urgent"` // quiet times do not hold it back
	Advice string     `json:"advice"`
	Quiet  string     `json:"quiet"` // a calendar of times at which nobody is told
	Group  Span       `json:"group"` // how long others are waited for, to be told in one notice
	Again  Span       `json:"again"` // told again each so long, until somebody has it in hand; 0: not
	Silent bool       `json:"noEnd"` // nobody is told that it is over
	Tell   []Receiver `json:"tell"`
}

// What rules have that do not say.
const (
	DefaultWithin = 15 * time.Minute
	DefaultGroup  = time.Minute
)

// MostReceivers is how many a rule may tell.
const MostReceivers = 10

// Window is what is counted.
func (r *Rule) Window() time.Duration {
	if r.Within > 0 {
		return time.Duration(r.Within)
	}
	return DefaultWithin
}

// Check finds what is wrong with a rule; each error says where.
func (r *Rule) Check() error {
	k := Find(r.Watch)
	switch {
	case k == nil:
		return fmt.Errorf("watch: there is nothing called %q; see the kinds", r.Watch)
	case strings.TrimSpace(r.Title) == "" || len(r.Title) > 200:
		return fmt.Errorf("title: it needs one of 1 to 200 letters")
	case r.Of != "" && k.Of == OfNothing:
		return fmt.Errorf("of: %s is that of the machine; leave it empty", k.Title)
	case k.Window && r.Window() < time.Minute || r.Window() > 7*24*time.Hour:
		return fmt.Errorf("within: it must be between 1m and 7d")
	case r.Limit < 0:
		return fmt.Errorf("limit: it must not be less than 0")
	case len(r.Tell) > MostReceivers:
		return fmt.Errorf("tell: a rule tells %d at most", MostReceivers)
	case r.Again > 0 && time.Duration(r.Again) < 5*time.Minute:
		return fmt.Errorf("again: the shortest is 5m")
	case len(r.Advice) > 2000:
		return fmt.Errorf("advice: it has 2000 letters at most")
	}
	for i, t := range r.Tell {
		if (t.Connection == "") == (t.Flow == "") {
			return fmt.Errorf("tell/%d: name a connection, or a flow", i)
		}
	}
	return nil
}

// Says gives the advice of a rule, or that of its kind.
func (r *Rule) Says() string {
	if r.Advice != "" {
		return r.Advice
	}
	return Find(r.Watch).Advice
}

// Out tells whether a value is out of bounds.
func (r *Rule) Out(v Value) bool {
	if !v.Known {
		return false
	}
	if Find(r.Watch).Below {
		return v.N < r.Limit
	}
	return v.N > r.Limit
}

// In words what a rule watches, such as: new dead letters above 5 within 15m.
func (r *Rule) Words() string {
	k := Find(r.Watch)
	side := "above"
	if k.Below {
		side = "below"
	}
	text := fmt.Sprintf("%s %s %s %s", k.Title, side, Number(r.Limit), k.Unit)
	if k.Unit == "messages" || k.Unit == "letters" || k.Unit == "transactions" || k.Unit == "deliveries" {
		text = fmt.Sprintf("%s %s %s", k.Title, side, Number(r.Limit))
	}
	if k.Window {
		text += " within " + Span(r.Window()).String()
	}
	if r.For > 0 {
		text += " for " + r.For.String()
	}
	if r.During != "" {
		text += ", in " + r.During
	}
	return text
}

// Number writes a value as people read it, with one place behind the point where it is small.
func Number(n float64) string {
	if n < 100 {
		return strings.TrimSuffix(strconv.FormatFloat(n, 'f', 1, 64), ".0")
	}
	return strconv.FormatFloat(n, 'f', 0, 64)
}

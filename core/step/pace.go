package step

import (
	"fmt"
	"time"

	"readyferry/core/expr"
	"readyferry/core/flow"
	"readyferry/core/group"
	"readyferry/core/want"
)

var paceKind = Kind{
	Name:    "pace",
	Summary: "Lets at most so many messages of a key go on within a time.",
	Reason: "Use it to spare somebody: at most three letters a day for one patron, ten calls a minute for one " +
		"branch. In any span of that length no more go on; the others wait their turn on disk, in order. For the " +
		"limit of an outside system as a whole, its connection has one.",
	Example: `{id: gently, kind: pace, key: body.branch, most: 10, per: 1m}`,
	Properties: `{
		"key": {"type": "string", "description": "expression; each value has a pace of its own; without it all share one"},
		"most": {"examples": [10], "type": "integer", "minimum": 1, "maximum": 1000, "description": "so many go on"},
		"per": {"examples": ["1m"], "type": "string", "description": "within this time, such as 1s, 1m or 24h"},
		"within": {"type": "string", "description": "the longest wait; one that would wait longer fails"}
	}`,
	Required: []string{"most", "per"},
	compile:  compilePace,
}

type paced struct {
	key  *expr.Program
	pace group.Pace
}

func compilePace(c *Compiler, s *flow.Step) Runner {
	r := &paced{}
	if n := s.Settings.Get("key"); n != nil {
		r.key = c.Expression(s.Pointer+"/key", scalar(n))
	}
	_, _ = fmt.Sscan(scalar(s.Settings.Get("most")), &r.pace.Most)
	r.pace.Per = c.span(s.Pointer+"/per", scalar(s.Settings.Get("per")))
	if n := s.Settings.Get("within"); n != nil {
		r.pace.Within = c.span(s.Pointer+"/within", scalar(n))
	}
	c.later(s)
	return r
}

func (r *paced) Run(c *Call) (Result, error) {
	if e := c.Effect; e != nil {
		if e.Failed != "" {
			return Result{Outcome: "too many"}, &Failure{Phase: "within", Class: Target, Reason: e.Failed}
		}
		st := c.State
		st.Answered = st.Answered || e.Over
		return Result{State: st, Outcome: e.Said}, nil
	}
	key := ""
	if r.key != nil {
		var err error
		if key, err = word("key", r.key, c.Scope()); err != nil {
			return Result{}, err
		}
	}
	return Result{State: c.State, Outcome: "waits", Want: &want.Pace{Key: key, Pace: &r.pace}}, nil
}

// TooMany is the failure of a message that would wait longer than it may.
func TooMany(p *want.Pace, wait time.Duration) *Failure {
	who := "this step"
	if p.Key != "" {
		who = p.Key
	}
	return &Failure{
		Phase: "within",
		Class: Target,
		Reason: fmt.Sprintf(
			"at %d per %s, %s has so many messages waiting that this one would wait %s; within allows %s",
			p.Pace.Most,
			p.Pace.Per,
			who,
			wait.Round(time.Second),
			p.Pace.Within,
		),
	}
}

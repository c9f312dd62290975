package run

import (
	"regexp"
	"slices"

	"readyferry/core/plan"
	"readyferry/core/step"
)

// Unreached is a part of a flow that no message came to.
type Unreached struct {
	Kind string `json:"kind"` // step, way, else or outcome
	Path string `json:"path"` // as in a trace, without the numbers of parts
	Step string `json:"step"` // its id, or that of the step whose way it is
	// Way is the name of a way, or what an outcome is: GoesOn or TurnedAway.
	Way string `json:"way,omitempty"`
}

// anyPart is the number of a part, a group or a turn in a path.
var anyPart = regexp.MustCompile(`\[\d+\]`)

// Coverage lists what no message of these rehearsals came to, in the order of the flow. What
// is switched off is left out.
func Coverage(p *plan.Plan, all []Rehearsal) []Unreached {
	c := &covering{reached: map[string]bool{}, ways: map[string]bool{}, caught: map[string]bool{}, passed: map[string]bool{},
		refused: map[string]bool{}}
	for i := range all {
		for j := range all[i].Trace {
			e := &all[i].Trace[j]
			path := anyPart.ReplaceAllString(e.Path, "")
			c.reached[path] = true
			for _, w := range e.Ways {
				c.ways[path+"."+w] = true
			}
			switch {
			case e.Caught != "":
				c.caught[path] = true
			case e.State == TurnedAway:
				c.refused[path] = true
			case e.Error == nil:
				c.passed[path] = true
			}
		}
	}
	c.block(p.Block, "")
	c.block(p.OnDead, DeadPrefix)
	return c.out
}

// ComesTo tells whether a message came to a part of a flow.
func ComesTo(r *Rehearsal, to Unreached) bool {
	for i := range r.Trace {
		e := &r.Trace[i]
		path := anyPart.ReplaceAllString(e.Path, "")
		switch {
		case to.Kind == "step" && path == to.Path,
			to.Kind == "way" && path+"."+to.Way == to.Path && slices.Contains(e.Ways, to.Way),
			to.Kind == "outcome" && path == to.Path && (to.Way == TurnedAway) == (e.State == TurnedAway) && e.Error == nil &&
				e.Caught == "",
			to.Kind == "else" && path+"."+step.ElseWay == to.Path && e.Caught != "":
			return true
		}
	}
	return false
}

type covering struct {
	reached, ways, caught, passed, refused map[string]bool
	out                                    []Unreached
}

func (c *covering) block(b *step.Block, prefix string) {
	if b == nil {
		return
	}
	for _, s := range b.Steps {
		if s.Off {
			continue
		}
		path := prefix + s.ID
		if !c.reached[path] {
			c.out = append(c.out, Unreached{Kind: "step", Path: path, Step: s.ID})
		} else {
			c.outcomes(s, path)
		}
		for _, w := range s.Ways {
			if !c.ways[path+"."+w.Name] {
				c.out = append(c.out, Unreached{Kind: "way", Path: path + "." + w.Name, Step: s.ID, Way: w.Name})
			}
			c.block(w.Block, path+"."+w.Name+"/")
		}
		c.block(s.Inside, path+"/")
		if s.Else != nil && s.Else.Block != nil {
			if !c.caught[path] {
				c.out = append(c.out, Unreached{Kind: "else", Path: path + ".else", Step: s.ID})
			}
			c.block(s.Else.Block, path+".else/")
		}
	}
}

// GoesOn is the outcome of a step that lets a message pass.
const GoesOn = "goes on"

// outcomes lists what a step that decides whether a message goes on has not decided yet. Where
// its else has steps, these tell of the one.
func (c *covering) outcomes(s *step.Compiled, path string) {
	if s.Kind != "filter" && s.Kind != "validate" && s.Kind != "once" {
		return
	}
	if !c.passed[path] {
		c.out = append(c.out, Unreached{Kind: "outcome", Path: path, Step: s.ID, Way: GoesOn})
	}
	if !c.refused[path] && !c.caught[path] && (s.Else == nil || s.Else.Block == nil) {
		c.out = append(c.out, Unreached{Kind: "outcome", Path: path, Step: s.ID, Way: TurnedAway})
	}
}

// InWords names it as people would.
func (u Unreached) InWords() string {
	switch u.Kind {
	case "way":
		return "the way " + u.Way + " of " + u.Step
	case "outcome":
		if u.Way == GoesOn {
			return "what is behind " + u.Step + ", as none goes on there"
		}
		return u.Step + " turning one away"
	case "else":
		return "what happens when " + u.Step + " fails"
	}
	return "the step " + u.Step
}

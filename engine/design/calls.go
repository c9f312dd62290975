package design

import (
	"fmt"
	"strings"

	"readyferry/core/flow"
	"readyferry/core/plan"
	"readyferry/core/step"
)

// calls finds a flow that is not there, or that leads back to this one.
func (g *Designs) calls(name string, u step.Use, add func(level flow.Level, code, stepID, ptr, msg, repair string)) {
	if u.Name == name {
		add(
			flow.Error,
			"cycle",
			u.Step,
			u.Pointer,
			"the flow calls itself",
			"call another flow, or use split or code to repeat something",
		)
		return
	}
	f := g.Catalog.Flow(u.Name)
	if f == nil {
		add(
			flow.Error,
			"unknown-flow",
			u.Step,
			u.Pointer,
			fmt.Sprintf("there is no flow named %q", u.Name),
			"make it, or name another",
		)
		return
	}
	if f.Live == nil {
		add(
			flow.Warning,
			"unpublished-flow",
			u.Step,
			u.Pointer,
			fmt.Sprintf("the flow %s was never published; messages for it become dead letters", u.Name),
			"publish that flow first",
		)
	}
	if way := g.leadsTo(u.Name, name, nil); way != nil {
		add(
			flow.Error,
			"cycle",
			u.Step,
			u.Pointer,
			fmt.Sprintf(
				"the flows call each other in a circle: %s",
				strings.Join(append([]string{name}, way...), " → "),
			),
			"let one of them deliver to a queue instead",
		)
	}
}

// leadsTo gives the way from one flow to another by its subflows, or nil.
func (g *Designs) leadsTo(from, to string, way []string) []string {
	way = append(way[:len(way):len(way)], from)
	f := g.Catalog.Flow(from)
	if f == nil || len(way) > 50 {
		return nil
	}
	for _, p := range []*plan.Plan{f.Live, f.Draft} {
		if p == nil {
			continue
		}
		for _, u := range p.Uses {
			if u.Kind != step.UseFlow {
				continue
			}
			if u.Name == to {
				return append(way, to)
			}
			seen := false
			for _, w := range way {
				seen = seen || w == u.Name
			}
			if !seen {
				if found := g.leadsTo(u.Name, to, way); found != nil {
					return found
				}
			}
		}
	}
	return nil
}

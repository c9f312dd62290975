package design

import (
	"fmt"
	"strings"

	"readyferry/core/flow"
	"readyferry/core/plan"
	"readyferry/core/step"
	"readyferry/engine/catalog"
)

// calls finds a flow that is not there, or that leads back to this one.
func (g *Designs) calls(name string, u step.Use, add func(level flow.Level, code, stepID, ptr, msg,
	repair string)) {
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
	if u.Runner != "" {
		g.callsAcross(u, f, add)
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

// callsAcross finds what a flow that is to run at a runner needs and cannot have there.
func (g *Designs) callsAcross(u step.Use, f *catalog.Flow,
	add func(level flow.Level, code, stepID, ptr, msg, repair string)) {
	wrong := func(reason, repair string) {
		add(flow.Error, "not-there", u.Step, u.Pointer, fmt.Sprintf("the flow %s cannot run at %s: %s", u.Name, u.Runner,
			reason), repair)
	}
	if f.Live == nil {
		return
	}
	if k := f.Live.Document.Intake.Kind; k != "subflow" {
		wrong("it begins with "+k, "call a flow that begins with subflow")
	}
	seen := map[string]bool{}
	var look func(f *catalog.Flow)
	look = func(f *catalog.Flow) {
		if f == nil || f.Live == nil || seen[f.Name] {
			return
		}
		seen[f.Name] = true
		for _, need := range f.Live.Uses {
			if need.Kind == step.UseFlow && need.Runner == "" {
				look(g.Catalog.Flow(need.Name))
			} else {
				g.hadAcross(u.Runner, need, wrong)
			}
		}
	}
	look(f)
}

// hadAcross finds a thing that a flow at a runner needs and cannot have there.
func (g *Designs) hadAcross(runner string, need step.Use, wrong func(reason, repair string)) {
	switch need.Kind {
	case step.UseFlow:
		wrong(fmt.Sprintf("it calls %s at %s itself", need.Name, need.Runner),
			"let it call that flow without at, or call it from here")
	case step.UseConnection:
		if c := g.Catalog.Connection(need.Name); c == nil || c.At != runner {
			wrong(fmt.Sprintf("its connection %s is not at that runner", need.Name), "write at: "+runner+
				" in the connection, or call the system from here")
		}
	case step.UseQueue, step.UseTopic, step.UseReplies:
		wrong(fmt.Sprintf("it uses the %s %s, which is here", strings.Replace(need.Kind, step.UseReplies, "queue", 1),
			need.Name),
			"let it answer, and put the answer there from here")
	case step.UseTable:
		if need.Pairs {
			wrong(fmt.Sprintf("it writes into the table %s, which is here", need.Name),
				"let it answer, and write the pair here")
		}
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

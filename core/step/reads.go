package step

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"readyferry/core/expr"
	"readyferry/core/flow"
	"readyferry/core/pointer"
)

// What expressions read, look up, and would come to under older rules.

// noted keeps what an expression at ptr reads, and where it looks up.
func (c *Compiler) noted(ptr string, p *expr.Program) *expr.Program {
	p.At = ptr
	c.read(ptr, p.Reads)
	c.look(ptr, p.Looks)
	c.differs(ptr, p.Differs)
	return p
}

// look notes in which tables beside the flow the step being compiled looks up.
func (c *Compiler) look(ptr string, looks []expr.Look) {
	for _, l := range looks {
		c.looks = true
		if l.Table != "" {
			use := Use{Kind: UseTable, Name: l.Table, Pointer: ptr, Columns: l.Columns, Called: true}
			if c.step != nil {
				use.Step = c.step.ID
			}
			c.Uses = append(c.Uses, use)
		}
	}
}

// differs says where an expression may come to something else than under older rules.
func (c *Compiler) differs(ptr string, d expr.Differs) {
	if d.Optional != "" {
		c.changed(
			flow.Note,
			ptr,
			"optional-access",
			d.Optional+" is an error now where what stands before .? is null or has no members; in the live version it is absent",
			"write optional.ofNonZeroValue(…) around what may be null",
		)
	}
	if d.Condition {
		c.changed(flow.Note, ptr, "condition",
			"a condition of ? : that is neither true nor false is an error now; in the live version it counts as false",
			"compare it with something")
	}
	if d.MessageID && c.parts != "" {
		c.changed(
			flow.Warning,
			ptr,
			"part-id",
			"message.id is the part's own now; in the live version it is that of the whole",
			"write message.parent for that of the whole",
		)
	}
}

// Intake is the name among bodies of the message as it came in.
const Intake = "intake"

// earlier notes that an expression reads the body behind an earlier step, and checks that there
// is such a step.
func (c *Compiler) earlier(ptr string, p expr.Path) {
	c.Bodies = true
	tokens, err := pointer.Parse(p.Pointer())
	if err != nil || len(tokens) == 0 {
		return
	}
	if c.step == nil {
		c.Find(ptr, flow.Error, "expression", "no step stands before this", "write body")
		return
	}
	name := tokens[0]
	if at, is := c.ids[name]; name == Intake || is && at != c.step.Pointer {
		return
	}
	known := append(slices.Sorted(maps.Keys(c.ids)), Intake)
	known = slices.DeleteFunc(known, func(id string) bool { return id == c.step.ID })
	repair := "it is one of " + strings.Join(known[max(0, len(known)-8):], ", ")
	if near := expr.Nearest(name, known); len(near) > 0 {
		repair = "did you mean " + strings.Join(near, " or ") + "?"
	}
	c.Find(ptr, flow.Error, "expression", fmt.Sprintf("there is no earlier step %q", name), repair)
}

// read notes which parts of the body the step being compiled reads.
func (c *Compiler) read(ptr string, paths []expr.Path) {
	if !c.Env.Local("body") {
		for _, p := range expr.Needed(paths, "body") {
			c.needs = append(c.needs, Need{ptr, p})
		}
	}
	for _, p := range paths {
		if p.Root == "bodies" && !c.Env.Local("bodies") {
			c.earlier(ptr, p)
		}
		if ptr := p.Pointer(); p.Root == "body" && !slices.Contains(c.reads, ptr) {
			c.reads = append(c.reads, ptr)
		}
	}
}

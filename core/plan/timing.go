package plan

import (
	"errors"

	"readyferry/core/expr"
	"readyferry/core/flow"
	"readyferry/core/step"
	"readyferry/core/timing"
)

// Poll is what a poll of an HTTP connection needs, compiled.
type Poll struct {
	Path    *expr.Template
	Headers []PollHeader
	Each    *expr.Program
	Mark    *expr.Program // nil: nothing is remembered
	PerItem bool          // the mark is of items, and the greatest counts
}

// PollHeader is a header that a poll sends.
type PollHeader struct {
	Name  string
	Value *expr.Template
}

// timing reads when a schedule or poll is due.
func (p *Plan) timing(c *step.Compiler, d *flow.Document) {
	in := &d.Intake
	if in.Kind != "schedule" && in.Kind != "poll" && in.Kind != "table" {
		return
	}
	t := in.Timing
	var err error
	switch {
	case t.Cron != "" && t.Every > 0:
		c.Find(
			"/intake/every",
			flow.Error,
			"wrong-value",
			"an intake is due either by cron or by every",
			"remove one of them",
		)
		return
	case t.Cron != "":
		p.Due, err = timing.Cron(t.Cron, t.Zone)
	case t.Every > 0:
		p.Due, err = timing.Every(t.Every)
	case in.Kind == "schedule":
		err = errors.New("a schedule needs cron or every")
	default:
		p.Due, err = timing.Every(flow.DefaultPoll)
	}
	if err != nil {
		ptr := "/intake/cron"
		if t.Every > 0 {
			ptr = "/intake/every"
		} else if t.Cron == "" {
			ptr = "/intake"
		}
		c.Find(ptr, flow.Error, "schedule", err.Error(), "write cron: \"30 8 * * 1-5\" or every: 15m")
		return
	}
	if t.Zone != "" && t.Cron == "" {
		c.Find("/intake/zone", flow.Warning, "no-effect", "zone has no effect without cron", "remove it")
	}
}

// poll compiles what an HTTP poll asks and takes.
func (r *Reader) poll(p *Plan, c *step.Compiler, d *flow.Document) {
	in := &d.Intake
	switch in.Kind {
	case "poll":
		c.Uses = append(
			c.Uses,
			step.Use{Kind: step.UseConnection, Name: in.Of, Pointer: "/intake/of", Poll: true, As: step.AsPoll},
		)
	case "table":
		c.Uses = append(
			c.Uses,
			step.Use{
				Kind:    step.UseConnection,
				Name:    in.Of,
				Pointer: "/intake/of",
				Poll:    true,
				SQL:     true,
				As:      step.AsPoll,
			},
		)
		if in.Deleted && in.Changed == "" {
			c.Find(
				"/intake/deleted",
				flow.Error,
				"wrong-value",
				"rows that are gone are seen only where changes are, too",
				"name the column with the time of the last change under changed",
			)
		}
		return
	default:
		return
	}
	outer := c.Env
	defer func() { c.Env = outer }()
	env, err := outer.With("mark", "item")
	if err != nil {
		c.Find("/intake", flow.Error, "wrong-value", err.Error(), "")
		return
	}
	c.Env = env
	p.Poll = &Poll{Path: c.Template("/intake/path", in.Path, expr.URLPath), Each: c.Expression("/intake/each", in.Each)}
	if in.Mark != "" {
		if p.Poll.Mark = c.Expression("/intake/mark", in.Mark); p.Poll.Mark != nil {
			for _, path := range p.Poll.Mark.Reads {
				p.Poll.PerItem = p.Poll.PerItem || path.Root == "item"
			}
		}
	}
	if h := d.Source.Root.Get("intake").Get("headers"); h != nil {
		for _, m := range h.Members {
			p.Poll.Headers = append(
				p.Poll.Headers,
				PollHeader{m.Name, c.Template("/intake/headers/"+m.Name, m.Value.Text, expr.HeaderValue)},
			)
		}
	}
}

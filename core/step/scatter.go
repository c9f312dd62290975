package step

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"readyferry/core/expr"
	"readyferry/core/flow"
	"readyferry/core/message"
)

var scatterKind = Kind{
	Name:    "scatter",
	Summary: "Sends the message along several ways side by side and gathers their answers.",
	Reason: "Use it to ask several systems the same at once: every partner library, every price list. Each way " +
		"works on its own copy. The step goes on when all have answered, or so many, or one whose answer fits, " +
		"or when its time is over; an answer that is missing is null under replies, with the reason. A way that " +
		"fails is no dead letter: its answer is missing.",
	Example: `{id: partners, kind: scatter, within: 10s, gather: all, ways: [{name: north, steps: [{id: ask-north, ` +
		`kind: deliver, to: north}]}, {name: south, steps: [{id: ask-south, kind: deliver, to: south}]}], ` +
		`fields: [{to: /north, from: replies.north.body}]}`,
	Properties: `{
		"ways": {"type": "array", "minItems": 1, "maxItems": 100, "description":
			"the ways, each on its own copy of the message", "items": {
			"type": "object", "additionalProperties": false, "required": ["name", "steps"],
			"properties": {
				"name": {"type": "string", "pattern": "^[A-Za-z0-9][A-Za-z0-9_-]*$", "description":
					"its answer stands under replies by this name"},
				"note": {"type": "string"},
				"steps": {"$ref": "#/$defs/steps"}
			}}},
		"gather": {"description":
			"all (default), {first: 2} for the first so many answers, or {fits: condition over reply} for the first that fits",
				"if": {"type": "string"}, "then": {"enum": ["all"]},
			"else": {"type": "object", "additionalProperties": false, "minProperties": 1, "maxProperties": 1, "properties": {
				"first": {"type": "integer", "minimum": 1},
				"fits": {"type": "string", "description": "condition; reply is the answer of a way: status, headers, body, way"}}}},
		"within": {"examples": ["10s"], "type": "string", "description": "how long answers are waited for, such as 10s"},
		"as": {"default": "json", "enum": ["json", "xml", "csv", "hl7", "form"], "description":
			"format of the body that the fields make, json by default"},
		"header": {"default": true, "type": "boolean", "description": "CSV: write the names of the columns, true by default"},
		"fields": {"$ref": "#/$defs/map-fields"}
	}`,
	Required: []string{"ways", "within"},
	compile:  compileScatter,
}

// Scatter is what the walk needs of a scatter.
type Scatter struct {
	Within time.Duration
	First  int                            // so many answers are enough; 0: all are waited for
	Fits   func(*WayAnswer) (bool, error) // nil: any will do
	// Gather makes the state behind the step of what the ways came to, in their order.
	Gather func(c *Call, answers []WayAnswer) (Result, error)
}

// WayAnswer is what a way of a scatter came to.
type WayAnswer struct {
	Way     string
	Reply   *message.Node // status, headers and body; nil when it is missing
	Missing string        // why
	Chosen  bool          // it is the one that fits
	Replies *message.Node // of the steps inside
}

type scatter struct {
	blocks  []Way
	rules   Scatter
	mapping *mapping
}

func compileScatter(c *Compiler, s *flow.Step) Runner {
	r := &scatter{}
	var err error
	if r.rules.Within, err = flow.Duration(scalar(s.Settings.Get("within"))); err != nil {
		c.Find(s.Pointer+"/within", flow.Error, "wrong-value", err.Error(), "write it as 30s, 10m or 24h")
	}
	r.rules.Gather = r.gather
	names := map[string]bool{}
	before, scattered := c.outside, c.scatter
	c.scatter = s.ID
	behind := before
	for i, w := range s.Settings.Get("ways").Items {
		ptr, name := fmt.Sprintf("%s/ways/%d", s.Pointer, i), scalar(w.Get("name"))
		if names[name] {
			c.Find(
				ptr+"/name",
				flow.Error,
				"duplicate-way",
				fmt.Sprintf("the way %q stands twice", name),
				"give each way its own name",
			)
		}
		names[name], c.outside = true, before
		r.blocks = append(r.blocks, Way{name, c.Block(flow.Steps(w.Get("steps"), ptr+"/steps"))})
		if c.outside != "" {
			behind = c.outside
		}
	}
	c.outside, c.scatter = behind, scattered
	if n := s.Settings.Get("gather").Get("first"); n != nil {
		_, _ = fmt.Sscan(n.Text, &r.rules.First)
		if r.rules.First > len(r.blocks) {
			c.Find(
				s.Pointer+"/gather/first",
				flow.Error,
				"wrong-value",
				fmt.Sprintf("%d ways never give %d answers", len(r.blocks), r.rules.First),
				"ask for fewer, or write gather: all",
			)
		}
	}
	if n := s.Settings.Get("gather").Get("fits"); n != nil {
		r.fits(c, s, scalar(n))
	}
	if s.Settings.Get("fields") != nil {
		r.mapping = compileMap(c, s).(*mapping)
	} else if s.Settings.Get("as") != nil {
		c.Find(s.Pointer+"/as", flow.Warning, "no-effect", "as has no effect without fields", "add fields, or remove it")
	}
	return r
}

func (r *scatter) fits(c *Compiler, s *flow.Step, source string) {
	outer := c.Env
	defer func() { c.Env = outer }()
	env, err := outer.With("reply")
	if err != nil {
		c.Find(s.Pointer+"/gather/fits", flow.Error, "wrong-value", err.Error(), "")
		return
	}
	c.Env = env.WithKept(false) // no step asks for this, so nobody would look
	p := c.Condition(s.Pointer+"/gather/fits", source)
	if p == nil {
		return
	}
	r.rules.Fits = func(a *WayAnswer) (bool, error) {
		return p.EvalBool(
			&expr.Scope{Locals: map[string]*message.Node{"reply": a.Reply.With("way", message.NewString(a.Way))}},
		)
	}
}

func (r *scatter) Run(c *Call) (Result, error) {
	return Result{State: c.State, Scatter: &r.rules}, nil
}

// gather puts the answers under replies, and makes a body of them where the
// step has fields.
func (r *scatter) gather(c *Call, answers []WayAnswer) (Result, error) {
	res := Result{State: c.State}
	replies := res.State.Replies
	if replies == nil {
		replies = message.NewMap()
	}
	missing, chosen, answered := message.NewMap(), message.NewNull(), 0
	for _, a := range answers {
		for _, m := range members(a.Replies) {
			replies = replies.With(m.Name, m.Value)
		}
		if a.Chosen {
			chosen = message.NewString(a.Way)
		}
		if a.Reply == nil {
			replies = replies.With(a.Way, message.NewNull())
			missing = missing.With(a.Way, message.NewString(a.Missing))
			continue
		}
		answered++
		replies = replies.With(a.Way, a.Reply)
	}
	id := c.Path[strings.LastIndexByte(c.Path, '/')+1:]
	replies = replies.With(id, message.NewMap(
		message.Member{Name: "answered", Value: jsonInt(answered)},
		message.Member{Name: "chosen", Value: chosen},
		message.Member{Name: "missing", Value: missing},
	))
	res.State.Replies, res.State.Answered = replies, true
	res.Outcome = fmt.Sprintf("%d of %d answered", answered, len(answers))
	if i := slices.IndexFunc(answers, func(a WayAnswer) bool { return a.Chosen }); i >= 0 {
		res.Outcome += ", " + answers[i].Way + " fits"
	}
	if r.mapping == nil {
		return res, nil
	}
	call := *c
	call.State = res.State
	made, err := r.mapping.Run(&call)
	made.Outcome = res.Outcome
	return made, err
}

// ReplyOf gives what a way answered: what its last delivery got, or the body that
// a step behind it made. nil when it delivered nothing and made nothing.
func ReplyOf(before, after *State) *message.Node {
	var last *message.Node
	if after.Replies != nil {
		for _, m := range after.Replies.Members {
			if before.Replies == nil || before.Replies.Get(m.Name) != m.Value {
				last = m.Value
			}
		}
	}
	if after.Message.Body != before.Message.Body && after.Replied != after.Message.Body {
		reply := message.NewMap(
			message.Member{Name: "status", Value: message.NewNull()},
			message.Member{Name: "headers", Value: message.NewMap()},
		)
		if last != nil {
			reply = last
		}
		return reply.With("body", after.Message.Body)
	}
	return last
}

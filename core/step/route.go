package step

import (
	"fmt"
	"strings"

	"readyferry/core/expr"
	"readyferry/core/flow"
)

var routeKind = Kind{
	Name:    "route",
	Summary: "Sends the message along the first way whose condition holds, or along every such way.",
	Reason: "Use it when messages of different content need different steps. With first, what the way does to the " +
		"message stays done after the route; with every, each way works on its own copy and the message goes on " +
		"as it was.",
	Example: `{id: by-home, kind: route, take: first, ways: [{name: digital, when: 'body.format == "ebook"', steps: []}], otherwise: {steps: []}}`,
	Properties: `{
		"take": {"default": "first", "enum": ["first", "every"], "description":
			"first (default): the first way that fits; every: all that fit"},
		"ways": {"type": "array", "minItems": 1, "description": "the ways, tried in order", "items": {
			"type": "object", "additionalProperties": false, "required": ["name", "when", "steps"],
			"properties": {
				"name": {"type": "string", "pattern": "^[A-Za-z0-9][A-Za-z0-9-]*$"},
				"when": {"type": ["string", "boolean"], "description": "condition"},
				"note": {"type": "string"},
				"steps": {"$ref": "#/$defs/steps"}
			}}},
		"otherwise": {"type": "object", "additionalProperties": false, "required": ["steps"], "description":
			"steps for a message that no way fits",
			"properties": {"steps": {"$ref": "#/$defs/steps"}, "note": {"type": "string"}}}
	}`,
	Required: []string{"ways"},
	compile:  compileRoute,
}

// Otherwise names the way that is taken when no other fits.
const Otherwise = "otherwise"

type route struct {
	every  bool
	when   []*expr.Program // one per way but the otherwise
	blocks []Way
	other  bool // the last block is the otherwise
}

func compileRoute(c *Compiler, s *flow.Step) Runner {
	r := &route{every: scalar(s.Settings.Get("take")) == "every"}
	names := map[string]bool{}
	before, behind := c.outside, c.outside
	way := func(name string, steps []*flow.Step) {
		c.outside = before // one way knows nothing of another
		r.blocks = append(r.blocks, Way{name, c.Block(steps)})
		if c.outside != "" {
			behind = c.outside
		}
	}
	for i, w := range s.Settings.Get("ways").Items {
		ptr := fmt.Sprintf("%s/ways/%d", s.Pointer, i)
		name := scalar(w.Get("name"))
		if names[name] || name == Otherwise {
			c.Find(
				ptr+"/name",
				flow.Error,
				"duplicate-way",
				fmt.Sprintf("the way %q stands twice", name),
				"give each way its own name; otherwise is taken by the last one",
			)
		}
		names[name] = true
		r.when = append(r.when, c.Condition(ptr+"/when", scalar(w.Get("when"))))
		way(name, flow.Steps(w.Get("steps"), ptr+"/steps"))
	}
	if n := s.Settings.Get("otherwise"); n != nil {
		r.other = true
		way(Otherwise, flow.Steps(n.Get("steps"), s.Pointer+"/otherwise/steps"))
	} else {
		c.Find(s.Pointer, flow.Warning, "no-otherwise", "a message that no way fits goes on without a word",
			"add otherwise, even if its steps only "+
				"turn the message away")
	}
	c.outside = behind
	return r
}

func (r *route) Run(c *Call) (Result, error) {
	scope := c.Scope()
	res := Result{State: c.State}
	var taken []string
	for i, when := range r.when {
		fits, err := when.EvalBool(scope)
		if err != nil {
			return Result{}, fail("ways/"+r.blocks[i].Name, err)
		}
		if fits {
			res.Ways = append(res.Ways, i)
			taken = append(taken, r.blocks[i].Name)
			if !r.every {
				break
			}
		}
	}
	if len(taken) == 0 && r.other {
		res.Ways = append(res.Ways, len(r.blocks)-1)
		taken = append(taken, Otherwise)
	}
	res.Outcome = strings.Join(taken, ", ")
	if len(taken) == 0 {
		res.Outcome = "no way"
	}
	return res, nil
}

package design

import (
	"encoding/json"
	"fmt"
	"strings"
	"sync"

	"readyferry/core/analyse"
	"readyferry/core/expr"
	"readyferry/core/flow"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
	"readyferry/core/plan"
	"readyferry/core/step"
)

// Claim is something that holds of the ways of a route, whatever the samples are.
type Claim struct {
	Step    string       `json:"step"`
	Pointer string       `json:"pointer"` // of the way, or of the route
	Kind    analyse.Kind `json:"kind"`
	Way     string       `json:"way"`
	By      []string     `json:"by"`
	Text    string       `json:"text"`
	Proof   *ClaimProof  `json:"proof"` // null for what is impossible
}

// ClaimProof is a message that shows it, as it is when it comes to the route.
type ClaimProof struct {
	Body    json.RawMessage `json:"body"`
	Headers json.RawMessage `json:"headers,omitempty"`
	Params  json.RawMessage `json:"params,omitempty"`
	Query   json.RawMessage `json:"query,omitempty"`
	Vars    json.RawMessage `json:"vars,omitempty"`
}

// Undecided is a way of which nothing is claimed, and why.
type Undecided struct {
	Step    string `json:"step"`
	Pointer string `json:"pointer"`
	Way     string `json:"way"`
	Why     string `json:"why"`
}

// Analysis is what is known of all routes of a flow.
type Analysis struct {
	Claims    []Claim     `json:"claims"`
	Undecided []Undecided `json:"undecided"`
}

// Analyse says of the routes of a document what no sample may show. One that cannot be
// walked gives its findings.
func (g *Designs) Analyse(name string, document []byte) (Analysis, []flow.Finding, error) {
	files, err := g.Store.Files(name)
	if err != nil {
		return Analysis{}, nil, err
	}
	p, findings := g.Read(name, document, files)
	if p == nil {
		return Analysis{Claims: []Claim{}, Undecided: []Undecided{}}, findings, nil
	}
	return g.analysis(p), findings, nil
}

func (g *Designs) analysis(p *plan.Plan) Analysis {
	a := &analysing{known: &g.routes, lenient: p.Document.Intake.Missing == "otherwise"}
	a.out.Claims, a.out.Undecided = []Claim{}, []Undecided{}
	a.block(p.Block)
	a.block(p.OnDead)
	return a.out
}

// known are results by what the ways of a route say: a keystroke elsewhere changes none.
type knownRoutes struct {
	mu  sync.Mutex
	env *expr.Env
	all map[string]analyse.Result
}

const mostKnown = 500

func (k *knownRoutes) route(ways []analyse.Way, rules analyse.Rules) analyse.Result {
	k.mu.Lock()
	defer k.mu.Unlock()
	key := fmt.Sprintf("%q %v", ways, rules)
	if r, known := k.all[key]; known {
		return r
	}
	if k.env == nil {
		env, err := expr.New()
		if err != nil {
			return analyse.Result{}
		}
		k.env = env
	}
	if k.all == nil || len(k.all) >= mostKnown {
		k.all = map[string]analyse.Result{}
	}
	r := analyse.Route(k.env, ways, rules)
	k.all[key] = r
	return r
}

type analysing struct {
	known   *knownRoutes
	lenient bool
	out     Analysis
}

func (a *analysing) block(b *step.Block) {
	if b == nil {
		return
	}
	for _, s := range b.Steps {
		if s.Off {
			continue
		}
		if s.Kind == "route" {
			a.route(s)
		}
		for _, w := range s.Ways {
			a.block(w.Block)
		}
		a.block(s.Inside)
		if s.Else != nil {
			a.block(s.Else.Block)
		}
	}
}

func (a *analysing) route(s *step.Compiled) {
	var ways []analyse.Way
	for _, w := range s.Settings.Get("ways").Items {
		name, _ := w.Get("name").Scalar()
		when, _ := w.Get("when").Scalar()
		ways = append(ways, analyse.Way{Name: name, When: when})
	}
	r := a.known.route(ways, analyse.Rules{First: !s.Every, Lenient: a.lenient})
	at := func(way string) string {
		for i := range ways {
			if ways[i].Name == way {
				return fmt.Sprintf("%s/ways/%d", s.Pointer, i)
			}
		}
		return s.Pointer
	}
	otherwise := s.Settings.Get("otherwise") != nil
	for _, c := range r.Claims {
		by := c.By
		if by == nil {
			by = []string{}
		}
		a.out.Claims = append(
			a.out.Claims,
			Claim{s.ID, at(c.Way), c.Kind, c.Way, by, inWords(c, otherwise), proofOf(c.Proof)},
		)
	}
	for _, u := range r.Undecided {
		a.out.Undecided = append(a.out.Undecided, Undecided{s.ID, at(u.Way), u.Way, u.Why})
	}
}

// inWords says a claim as people would.
func inWords(c analyse.Claim, otherwise bool) string {
	by := strings.Join(c.By, " and ")
	switch {
	case c.Kind == analyse.Impossible:
		return fmt.Sprintf("the way %s can never be taken: no message fits its condition", c.Way)
	case c.Kind == analyse.Shadowed:
		return fmt.Sprintf("the way %s can never be taken: whatever fits it is taken by %s before", c.Way, by)
	case c.Kind == analyse.Overlap:
		return fmt.Sprintf("what fits both %s and %s goes to %s, which stands first", by, c.Way, by)
	case otherwise:
		return "what fits no way goes to otherwise"
	}
	return "what fits no way goes on as if there were no route"
}

func proofOf(p *analyse.Proof) *ClaimProof {
	if p == nil {
		return nil
	}
	part := func(n *message.Node) json.RawMessage {
		if n == nil || len(n.Members) == 0 {
			return nil
		}
		return jsonfmt.Encode(n)
	}
	return &ClaimProof{jsonfmt.Encode(p.Body), part(p.Headers), part(p.Params), part(p.Query), part(p.Vars)}
}

// neverTaken finds the ways that can never be taken.
func (g *Designs) neverTaken(p *plan.Plan) (out []flow.Finding) {
	for _, c := range g.analysis(p).Claims {
		if c.Kind != analyse.Impossible && c.Kind != analyse.Shadowed {
			continue
		}
		repair := "change its condition, or remove it"
		if c.Kind == analyse.Shadowed {
			repair = "move it up, change its condition, or remove it"
		}
		at := p.Document.Source.Value(c.Pointer + "/when")
		out = append(
			out,
			flow.Finding{Level: flow.Warning, Code: "never-taken", Step: c.Step, Pointer: c.Pointer + "/when",
				Line: at.Line, Column: at.Column, Message: c.Text, Repair: repair},
		)
	}
	return out
}

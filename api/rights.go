package api

import (
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"

	"readyferry/core/access"
	"readyferry/core/flow"
	"readyferry/core/plan"
	"readyferry/engine"
	"readyferry/engine/people"
	"readyferry/engine/watch"
)

// A need is what one must be permitted to call a route: all of some rights, for the thing
// that the route is about. docs/security.md lists them all; a test holds the two together.
type need struct {
	rights []access.Right
	on     string // as docs/security.md names it
	of     func(s *Server, c *gin.Context) ([]access.Thing, error)
}

// The needs that ask for no right.
var (
	open     = need{on: "nobody need sign in"}
	signedIn = need{on: "whoever is signed in"}
	byKey    = need{on: "a key that names it"} // the handler asks which right
	health   = need{rights: []access.Right{access.See}, on: "everywhere, unless opened by --open healthz"}
	measures = need{rights: []access.Right{access.See}, on: "everywhere, unless opened by --open metrics"}
	ofDemo   = need{on: "a visitor of the demo"}
)

// anyThing asks for the rights to something; the answer holds what they are held for.
func anyThing(rights ...access.Right) need { return need{rights: rights, on: "any"} }

// all asks for the rights to everything.
func all(rights ...access.Right) need { return need{rights: rights, on: "everywhere"} }

// ofBody asks for the rights to something; the handler asks for what the body names.
func ofBody(rights ...access.Right) need { return need{rights: rights, on: "what the body names"} }

func named(kind string, rights []access.Right) need {
	return need{rights, "the " + kind, func(s *Server, c *gin.Context) ([]access.Thing, error) {
		return []access.Thing{s.engine.Catalog.Thing(kind, c.Param("name"))}, nil
	}}
}

func ofFlow(rights ...access.Right) need       { return named(access.Flow, rights) }
func ofConnection(rights ...access.Right) need { return named(access.Connection, rights) }
func ofTable(rights ...access.Right) need      { return named(access.Table, rights) }
func ofQueue(rights ...access.Right) need      { return named(access.Queue, rights) }
func ofTopic(rights ...access.Right) need      { return named(access.Topic, rights) }

// ofID asks for the rights to the flow of what an id names.
func ofID(kind string, rights []access.Right, flows func(s *Server, id watch.ID) ([]string, error)) need {
	return need{rights, "the flow of the " + kind, func(s *Server, c *gin.Context) ([]access.Thing, error) {
		which, err := id(c)
		if err != nil {
			return nil, err
		}
		names, err := flows(s, which)
		if err != nil {
			return nil, err
		}
		out := make([]access.Thing, len(names))
		for i, name := range names {
			out[i] = s.engine.Catalog.Thing(access.Flow, name)
		}
		return out, nil
	}}
}

func ofTransaction(rights ...access.Right) need {
	return ofID("transaction", rights, func(s *Server, id watch.ID) ([]string, error) {
		t, err := s.engine.Watch.Transaction(id)
		return []string{t.Flow}, err
	})
}

func ofDelivery(rights ...access.Right) need {
	return ofID("delivery", rights, func(s *Server, id watch.ID) ([]string, error) {
		d, err := s.engine.Watch.Delivery(id)
		return []string{d.Flow}, err
	})
}

func ofLetter(rights ...access.Right) need {
	return ofID("dead letter", rights, func(s *Server, id watch.ID) ([]string, error) {
		l, err := s.engine.Watch.Letter(id)
		return []string{l.Flow}, err
	})
}

func ofLoad(rights ...access.Right) need {
	return ofID("load", rights, func(s *Server, id watch.ID) ([]string, error) {
		l, err := s.engine.Watch.Load(id)
		return []string{l.Flow}, err
	})
}

func ofGroup(rights ...access.Right) need {
	return ofID("group", rights, func(s *Server, id watch.ID) ([]string, error) {
		g, err := s.engine.Watch.Group(id)
		return []string{g.Flow}, err
	})
}

func ofRepair(rights ...access.Right) need {
	return ofID("repair", rights, func(s *Server, id watch.ID) ([]string, error) { return s.engine.Watch.RepairFlows(id) })
}

func ofPreview(rights ...access.Right) need {
	n := need{rights: rights, on: "the flows of the preview"}
	n.of = func(s *Server, c *gin.Context) ([]access.Thing, error) {
		names, err := s.engine.Repair.FlowsOf(c.Param("id"))
		out := make([]access.Thing, len(names))
		for i, name := range names {
			out[i] = s.engine.Catalog.Thing(access.Flow, name)
		}
		return out, err
	}
	return n
}

// ErrNotPermitted is wrapped by the error of somebody who lacks a right.
var errNotPermitted = errors.New("you do not have the right to do this")

// permit lets in who has what a route needs, and keeps in the context who it is.
func (s *Server) permit(c *gin.Context, n need) (err error) {
	if n.on == open.on {
		return nil
	}
	if n.on == byKey.on {
		return nil // mayOut asks
	}
	if n.on == health.on && s.opened("healthz") || n.on == measures.on && s.opened("metrics") {
		return nil
	}
	who, err := s.whoIs(c)
	if err != nil {
		return err
	}
	defer func() {
		if err == nil {
			err = s.notHere(c, n)
		}
	}()
	c.Request = c.Request.WithContext(access.With(c.Request.Context(), who))
	if n.on == ofDemo.on && who.Kind != access.Visitor {
		return errNotPermitted
	}
	for _, r := range n.rights {
		held := who.Anywhere(r)
		if n.everywhere() {
			held = who.Everywhere(r)
		}
		if !held {
			return lacking(r, n.everywhere())
		}
	}
	if n.of == nil {
		return nil
	}
	things, err := n.of(s, c)
	if err != nil {
		return err
	}
	if len(things) == 1 && c.Request.Method == http.MethodPut && s.isNew(things[0]) {
		return nil // in which area it will be, the handler sees
	}
	return s.mayAll(who, things, n.rights...)
}

func (n *need) everywhere() bool { return strings.HasPrefix(n.on, "everywhere") }

// opened tells whether healthz or metrics answer without sign-in.
func (s *Server) opened(name string) bool { return slices.Contains(s.door.Open, name) }

// mayAll asks for rights to things. What somebody may not even see is as if it were not there.
func (s *Server) mayAll(who *access.Who, things []access.Thing, rights ...access.Right) error {
	for _, t := range things {
		if !who.May(access.See, t) {
			return engine.ErrNotFound
		}
		for _, r := range rights {
			if !who.May(r, t) {
				return lacking(r, false)
			}
		}
	}
	return nil
}

// isNew tells of a thing that is not there. What is left of one that was removed, such as the
// transactions of a flow, is in no area.
func (s *Server) isNew(t access.Thing) bool {
	switch t.Kind {
	case access.Flow:
		return s.engine.Catalog.Flow(t.Name) == nil
	case access.Connection:
		_, err := s.engine.Watch.Connection(t.Name)
		return errors.Is(err, engine.ErrNotFound)
	case access.Table:
		_, err := s.engine.Watch.TableInfo(t.Name)
		return errors.Is(err, engine.ErrNotFound)
	}
	return false
}

// whoIs finds out who calls: by a key, by a session, or as the visitor of the demo.
func (s *Server) whoIs(c *gin.Context) (*access.Who, error) {
	if key := presentedKey(c.Request.Header); key != "" {
		return s.engine.Catalog.WhoHas(c.Request.Context(), key, s.address(c), s.now())
	}
	if s.people == nil {
		return &access.Who{Kind: access.Visitor, Name: "visitor", Title: "Visitor", Grants: access.All(),
			From: s.address(c)}, nil
	}
	token := s.session(c)
	if token == "" {
		if s.visiting != nil {
			return s.visiting.visitor(c, s.address(c)), nil
		}
		return nil, people.ErrNotSignedIn
	}
	who, err := s.people.Who(c.Request.Context(), token, s.address(c))
	if errors.Is(err, people.ErrNotSignedIn) && s.visiting != nil {
		return s.visiting.visitor(c, s.address(c)), nil
	}
	if err != nil {
		return nil, err
	}
	return who, s.proven(c)
}

// proven refuses a write with a session that no page of ours sent: a browser says where a
// request is from, and whatever does not has to bring a key.
func (s *Server) proven(c *gin.Context) error {
	if slices.Contains([]string{http.MethodGet, http.MethodHead, http.MethodOptions}, c.Request.Method) {
		return nil
	}
	h := c.Request.Header
	if h.Get("Sec-Fetch-Site") == "same-origin" || h.Get("Origin") == s.reachedBy(c.Request) {
		return nil
	}
	return errNoProof
}

var errNoProof = errors.New("a session alone does not change anything: the request does not say that it comes from a page of " +
	"the application; programs use a key")

func lacking(r access.Right, everywhere bool) error {
	where := ""
	if everywhere {
		where = " everywhere"
	}
	return &lackingError{"it needs the right " + string(r) + where + "; an owner can give you a role that holds it"}
}

type lackingError struct{ detail string }

// Error implements error.
func (e *lackingError) Error() string { return e.detail }

// Unwrap gives errNotPermitted.
func (e *lackingError) Unwrap() error { return errNotPermitted }

// who gives who calls.
func who(c *gin.Context) *access.Who { return access.Of(c.Request.Context()) }

// may tells whether who calls has a right to a thing.
func (s *Server) may(c *gin.Context, r access.Right, kind, name string) bool {
	w := who(c)
	return w.Everywhere(r) || w.May(r, s.engine.Catalog.Thing(kind, name))
}

// sees tells whether who calls may know that a thing is there.
func (s *Server) sees(c *gin.Context, kind, name string) bool {
	return s.may(c, access.See, kind, name)
}

// flowsSeen lists the flows that who calls may see; nil for all.
func (s *Server) flowsSeen(c *gin.Context) []string {
	return s.engine.Catalog.FlowsFor(who(c), access.See)
}

// flowsOf gives the flows that a list is about: the one of the query or all, of those that
// who calls may see.
func (s *Server) flowsOf(c *gin.Context) watch.Of {
	return watch.OfFlow(c.Query("flow")).Within(s.flowsSeen(c))
}

// by gives who does it, as it is written down: who calls. Where nobody signs in, it is what
// they say of themselves.
func (s *Server) by(c *gin.Context, said string) string {
	if w := who(c); w != nil && w.Kind != access.Visitor {
		return w.String()
	}
	return said
}

// mayFlows asks for a right to flows.
func (s *Server) mayFlows(c *gin.Context, r access.Right, flows ...string) error {
	w := who(c)
	if w.Everywhere(r) {
		return nil
	}
	things := make([]access.Thing, len(flows))
	for i, name := range flows {
		things[i] = s.engine.Catalog.Thing(access.Flow, name)
	}
	return s.mayAll(w, things, r)
}

// visible keeps of a list what who calls may see; nothing is copied where that is all.
func visible[T any](s *Server, c *gin.Context, list []T, kind string, name func(*T) string) []T {
	if who(c).Everywhere(access.See) {
		return list
	}
	out := list[:0:0]
	for i := range list {
		if s.sees(c, kind, name(&list[i])) {
			out = append(out, list[i])
		}
	}
	if out == nil {
		return []T{}
	}
	return out
}

// mayArea asks for a right in the area that a document gives the thing that it is of. A
// document that cannot be read is refused by whoever reads it.
func (s *Server) mayArea(c *gin.Context, r access.Right, kind, name string, document []byte) error {
	w := who(c)
	if w.Everywhere(r) {
		return nil
	}
	source, bad := flow.Parse(document)
	if bad != nil {
		return nil
	}
	t := access.Thing{Kind: kind, Name: name}
	if area := source.Root.Get("area"); area != nil {
		t.Area = area.Text
	}
	if w.May(r, t) {
		return nil
	}
	if t.Area == "" {
		return &lackingError{"without an area it is for those who have the right " + string(r) +
			" everywhere; write area: with one of " +
			strings.Join(w.Areas(r), ", ")}
	}
	return &lackingError{fmt.Sprintf("it needs the right %s in the area %s", r, t.Area)}
}

// mayPublish asks for the right to publish in the area that a draft is in, and to see what it
// uses: nobody reaches through a flow what is not theirs.
func (s *Server) mayPublish(c *gin.Context, name string) error {
	w, f := who(c), s.engine.Catalog.Flow(name)
	if f == nil || f.Draft == nil || w.Everywhere(access.Publish) {
		return nil
	}
	area := f.Draft.Document.Area
	if !w.May(access.Publish, access.Thing{Kind: access.Flow, Name: name, Area: area}) {
		return &lackingError{fmt.Sprintf("the draft is in the area %q, in which you may not publish", area)}
	}
	if t := s.engine.Catalog.Beyond(w, f.Draft); t != nil {
		return &lackingError{fmt.Sprintf("the draft uses the %s %s, which is not in your areas", t.Kind, t.Name)}
	}
	return nil
}

// mayWalk refuses to walk messages through a document, or the saved draft where it is nil,
// that looks up in tables which who calls may not read: nobody reads through a flow what is
// not theirs.
func (s *Server) mayWalk(c *gin.Context, document []byte) error {
	w, name := who(c), c.Param("name")
	if w.Everywhere(access.Samples) {
		return nil
	}
	var p *plan.Plan
	if document != nil {
		files, err := s.engine.Watch.Files(name)
		if err != nil {
			return err
		}
		p, _ = s.engine.Catalog.Reader().Read(document, files)
	} else if f := s.engine.Catalog.Flow(name); f != nil {
		p = f.Draft
	}
	if p == nil {
		return nil // it cannot be walked
	}
	if t := s.engine.Catalog.Unread(w, p); t != "" {
		return &lackingError{"the flow looks up in the table " + t + ", which you may not read"}
	}
	return nil
}

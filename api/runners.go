package api

import (
	"slices"
	"time"

	"github.com/gin-gonic/gin"

	"readyferry/core/access"
	"readyferry/core/system"
	"readyferry/engine"
	"readyferry/runner/hub"
)

// runnerLine begins the line of a runner, which stays open.
func (s *Server) runnerLine(c *gin.Context) error {
	if s.runners == nil {
		return engine.ErrNotFound
	}
	name, key, said := c.Request.BasicAuth()
	if !said {
		key = presentedKey(c.Request.Header)
	}
	return s.runners.Begin(c.Writer, c.Request, name, key)
}

// runnerView is a runner, and what is reached by it.
type runnerView struct {
	Name        string           `json:"name"`
	There       bool             `json:"there"`
	Since       *time.Time       `json:"since"` // that it is so; null: since the start
	Version     string           `json:"version"`
	Began       *time.Time       `json:"began"`       // it was started
	Connections []string         `json:"connections"` // that name it
	Flows       []string         `json:"flows"`       // that are called there
	Waiting     int64            `json:"waiting"`     // deliveries that wait for these
	Kept        map[string]int64 `json:"kept"`        // messages that it has received and keeps, by flow
}

// listRunners lists the runners that connections name which one sees, and for who sees everything
// those that have come without one.
func (s *Server) listRunners(c *gin.Context) error {
	out := []*runnerView{}
	at := func(name string) *runnerView {
		if i := slices.IndexFunc(out, func(v *runnerView) bool { return v.Name == name }); i >= 0 {
			return out[i]
		}
		v := &runnerView{Name: name, Connections: []string{}, Flows: []string{}, Kept: map[string]int64{}}
		out = append(out, v)
		return v
	}
	for _, conn := range s.engine.Catalog.Connections() {
		if conn.At == "" || !s.may(c, access.See, access.Connection, conn.Name) {
			continue
		}
		t, err := s.engine.Watch.Target(conn.Name)
		if err != nil {
			return err
		}
		v := at(conn.At)
		v.Connections, v.Waiting = append(v.Connections, conn.Name), v.Waiting+t.Waiting
	}
	for runner, flows := range s.engine.Catalog.CalledAt() {
		flows = visible(s, c, flows, access.Flow, func(n *string) string { return *n })
		if len(flows) == 0 {
			continue
		}
		t, err := s.engine.Watch.Target(system.AtRunner(runner))
		if err != nil {
			return err
		}
		v := at(runner)
		v.Flows, v.Waiting = flows, v.Waiting+t.Waiting
	}
	var known []hub.Runner
	if s.runners != nil {
		known = s.runners.Runners()
	}
	for i := range known {
		r := &known[i]
		if !who(c).Everywhere(access.See) && !slices.ContainsFunc(out,
			func(v *runnerView) bool { return v.Name == r.Name }) {
			continue
		}
		v := at(r.Name)
		v.There, v.Version = r.There, r.Version
		if !r.Since.IsZero() {
			v.Since = &r.Since
		}
		if !r.Began.IsZero() {
			v.Began = &r.Began
		}
		for flow, n := range r.Waiting {
			if s.sees(c, access.Flow, flow) {
				v.Kept[flow] = n
			}
		}
	}
	return reply(c, out)
}

// cutRunner cuts the line of a runner of the demo for a while, so that a visitor sees what happens.
func (s *Server) cutRunner(c *gin.Context) error {
	var in struct {
		Runner  string `json:"runner"`
		Seconds int    `json:"seconds"`
	}
	if err := input(c, &in); err != nil {
		return err
	}
	if in.Seconds < 1 || in.Seconds > 600 {
		return bad("seconds: 1 to 600")
	}
	known := s.runners != nil && slices.ContainsFunc(s.runners.Runners(),
		func(r hub.Runner) bool { return r.Name == in.Runner })
	if !known {
		return bad("there is no runner named %q", in.Runner)
	}
	if err := s.runners.Cut(in.Runner, time.Duration(in.Seconds)*time.Second); err != nil {
		return err
	}
	return done(c)
}

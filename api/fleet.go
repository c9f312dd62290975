package api

import (
	"context"

	"github.com/gin-gonic/gin"

	"readyferry/core/access"
	"readyferry/engine"
	"readyferry/engine/catalog"
	"readyferry/fleet"
)

// Fleet is several instances that are one application.
type Fleet interface {
	Name() string
	Status() fleet.Status
	Missing() int // members that are away
	// Drain tells a member that it is not to lead, or that it may again.
	Drain(ctx context.Context, member string, drained bool) error
}

// fleetView is how a fleet is, and where its flows are worked on.
type fleetView struct {
	fleet.Status
	Flows []fleetFlow `json:"flows"`
}

// fleetFlow is a live flow, and where its messages are worked on.
type fleetFlow struct {
	Name string `json:"name"`
	// Partition is where all of them are; nil: they are spread over all.
	Partition *int   `json:"partition"`
	Why       string `json:"why"` // they are not spread; ""
}

// fleetStatus tells how the members are, and the log that they keep.
func (s *Server) fleetStatus(c *gin.Context) error {
	if s.fleet == nil {
		return engine.ErrNotFound
	}
	out := fleetView{Status: s.fleet.Status(), Flows: []fleetFlow{}}
	if len(out.Partitions) > 1 {
		for _, f := range visible(s, c, s.engine.Catalog.Flows(), access.Flow, func(f **catalog.Flow) string { return (*f).Name }) {
			if f.Live != nil {
				one, at := fleetFlow{Name: f.Name}, s.engine.Intake.PlaceOf(f.Name)
				if one.Why = at.Why; !at.Spread {
					one.Partition = &at.Partition
				}
				out.Flows = append(out.Flows, one)
			}
		}
	}
	return reply(c, out)
}

// drainMember has a member lead no more, or lets it again.
func (s *Server) drainMember(c *gin.Context) error {
	if s.fleet == nil {
		return engine.ErrNotFound
	}
	var in struct {
		Member  string `json:"member"`
		Drained bool   `json:"drained"`
	}
	if err := input(c, &in); err != nil {
		return err
	}
	if err := s.fleet.Drain(c.Request.Context(), in.Member, in.Drained); err != nil {
		return bad("%v", err)
	}
	return done(c)
}

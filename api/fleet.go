package api

import (
	"context"

	"github.com/gin-gonic/gin"

	"readyferry/engine"
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

// fleetStatus tells how the members are, and the log that they keep.
func (s *Server) fleetStatus(c *gin.Context) error {
	if s.fleet == nil {
		return engine.ErrNotFound
	}
	return reply(c, s.fleet.Status())
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

package api

import (
	"encoding/json"
	"time"

	"github.com/gin-gonic/gin"

	"readyferry/core/timing"
)

// clock tells when a schedule or poll is due; null for other flows.
func (s *Server) clock(c *gin.Context) error {
	state, err := s.engine.Watch.ClockOf(c.Param("name"))
	if err != nil {
		return err
	}
	return reply(c, state)
}

// runNow lets a schedule or poll be due now.
func (s *Server) runNow(c *gin.Context) error {
	if err := s.engine.Intake.RunNow(c.Param("name")); err != nil {
		return err
	}
	return done(c)
}

// putMark sets the high-water mark of a poll.
func (s *Server) putMark(c *gin.Context) error {
	var in struct {
		Mark json.RawMessage `json:"mark"`
	}
	if err := input(c, &in); err != nil {
		return err
	}
	switch mark := string(in.Mark); {
	case mark == "", mark == "null", mark[0] == '"', mark[0] == '-', mark[0] >= '0' && mark[0] <= '9':
	default:
		return bad("a mark is a text or number, or null to begin anew")
	}
	if err := s.engine.Intake.SetMark(c.Param("name"), in.Mark); err != nil {
		return err
	}
	return done(c)
}

// times lists when a schedule is due next.
func (s *Server) times(c *gin.Context) error {
	n, err := limit(c, 10, 1000)
	if err != nil {
		return err
	}
	after := time.Now()
	if text := c.Query("after"); text != "" {
		if after, err = time.Parse(time.RFC3339, text); err != nil {
			return bad("after must be a point in time such as 2026-05-04T09:00:00Z, not %q", text)
		}
	}
	due, err := timing.Read(c.Query("cron"), c.Query("zone"), c.Query("every"))
	if err != nil {
		return bad("%w", err)
	}
	out := []string{}
	for _, at := range due.Times(after, n) {
		out = append(out, at.Format(time.RFC3339))
	}
	return reply(c, out)
}

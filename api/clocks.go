package api

import (
	"encoding/json"
	"net/http"
	"time"

	"github.com/gin-gonic/gin"

	"readyferry/core/timing"
)

// clock tells when a schedule or poll is due; null for other flows.
func (s *Server) clock(c *gin.Context) {
	state, err := s.engine.Watch.ClockOf(c.Param("name"))
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, state)
}

// runNow lets a schedule or poll be due now.
func (s *Server) runNow(c *gin.Context) {
	if err := s.engine.Intake.RunNow(c.Param("name")); err != nil {
		s.fail(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}

// putMark sets the high-water mark of a poll.
func (s *Server) putMark(c *gin.Context) {
	var in struct {
		Mark json.RawMessage `json:"mark"`
	}
	if err := input(c, &in); err != nil {
		s.fail(c, err)
		return
	}
	switch mark := string(in.Mark); {
	case mark == "", mark == "null", mark[0] == '"', mark[0] == '-', mark[0] >= '0' && mark[0] <= '9':
	default:
		s.fail(c, bad("a mark is a text or number, or null to begin anew"))
		return
	}
	if err := s.engine.Intake.SetMark(c.Param("name"), in.Mark); err != nil {
		s.fail(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}

// times lists when a schedule is due next.
func (s *Server) times(c *gin.Context) {
	n, err := limit(c, 10, 1000)
	if err != nil {
		s.fail(c, err)
		return
	}
	after := time.Now()
	if text := c.Query("after"); text != "" {
		if after, err = time.Parse(time.RFC3339, text); err != nil {
			s.fail(c, bad("after must be a point in time such as 2026-05-04T09:00:00Z, not %q", text))
			return
		}
	}
	due, err := timing.Read(c.Query("cron"), c.Query("zone"), c.Query("every"))
	if err != nil {
		s.fail(c, bad("%w", err))
		return
	}
	out := []string{}
	for _, at := range due.Times(after, n) {
		out = append(out, at.Format(time.RFC3339))
	}
	c.JSON(http.StatusOK, out)
}

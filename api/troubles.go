package api

import (
	"github.com/gin-gonic/gin"

	"readyferry/core/access"
	"readyferry/engine/intake"
	"readyferry/engine/watch"
)

// troubles lists the sources that fail: polls, schedules, receivers and loads.
func (s *Server) troubles(c *gin.Context) error {
	out, err := s.engine.Watch.Troubles()
	if err != nil {
		return err
	}
	return reply(c, visible(s, c, out, access.Flow, func(t *watch.Trouble) string { return t.Flow }))
}

// refusedCallers lists the calls that were not let in, the newest first.
func (s *Server) refusedCallers(c *gin.Context) error {
	n, err := limit(c, 100, 1000)
	if err != nil {
		return err
	}
	last, counts := s.engine.Intake.Refusals()
	if flow := c.Query("flow"); flow != "" {
		of := last[:0]
		for _, r := range last {
			if r.Flow == flow {
				of = append(of, r)
			}
		}
		last = of
	}
	last = visible(s, c, last, access.Flow, func(r *intake.Refusal) string { return r.Flow })
	if !who(c).Everywhere(access.See) {
		counts = map[string]int64{}
		for _, r := range last {
			counts[r.Why]++
		}
	}
	return reply(c, gin.H{"counts": counts, "calls": append([]intake.Refusal{}, last[:min(n, len(last))]...)})
}

// failing gives what is wrong with the sources of flows, by flow; a flow whose load
// failed takes other messages in all the same.
func (s *Server) failing() (map[string]*troubleView, error) {
	all, err := s.engine.Watch.Troubles()
	out := map[string]*troubleView{}
	for _, t := range all {
		if t.Load == nil {
			out[t.Flow] = &troubleView{t.Since, t.Why, t.Times}
		}
	}
	return out, err
}

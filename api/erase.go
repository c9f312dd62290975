package api

import (
	"net/http"

	"github.com/gin-gonic/gin"
)

// erasure says how the erasure is going.
func (s *Server) erasure(c *gin.Context) error { return reply(c, s.engine.Erase.Now()) }

// eraseValue begins to take a value out of what is kept.
func (s *Server) eraseValue(c *gin.Context) error {
	var in struct {
		Flow    string `json:"flow"`
		Value   string `json:"value"`
		Preview bool   `json:"preview"`
	}
	if err := input(c, &in); err != nil {
		return err
	}
	if err := s.engine.Erase.Begin(c.Request.Context(), in.Flow, in.Value, in.Preview); err != nil {
		return err
	}
	c.JSON(http.StatusAccepted, s.engine.Erase.Now())
	return nil
}

// stopErasure stops it.
func (s *Server) stopErasure(c *gin.Context) error {
	s.engine.Erase.Stop()
	return done(c)
}

package api

import (
	"net/http"

	"github.com/gin-gonic/gin"
)

// erasure says how the erasure is going.
func (s *Server) erasure(c *gin.Context) error {
	return reply(c, s.engine.Erase.NowAll(c.Request.Context()))
}

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
	if err := s.engine.Erase.BeginAll(c.Request.Context(), in.Flow, in.Value, in.Preview); err != nil {
		return err
	}
	c.JSON(http.StatusAccepted, s.engine.Erase.NowAll(c.Request.Context()))
	return nil
}

// stopErasure stops it.
func (s *Server) stopErasure(c *gin.Context) error {
	if err := s.engine.Erase.StopAll(c.Request.Context()); err != nil {
		return err
	}
	return done(c)
}

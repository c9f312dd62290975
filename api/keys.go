package api

import (
	"time"

	"github.com/gin-gonic/gin"

	"readyferry/engine"
	"readyferry/engine/catalog"
)

// keys lists the keys of programs; none is shown.
func (s *Server) keys(c *gin.Context) error {
	all, err := s.engine.Catalog.Keys()
	if err != nil {
		return err
	}
	return reply(c, all)
}

// makeKey makes a key and shows it, once.
func (s *Server) makeKey(c *gin.Context) error {
	var in struct {
		Note   string          `json:"note"`
		Rights []catalog.Right `json:"rights"`
		Until  *time.Time      `json:"until"`
		// What it is good for a second; 0 bounds nothing.
		PerSecond int   `json:"perSecond"`
		Bytes     int64 `json:"bytes"`
	}
	if err := input(c, &in); err != nil {
		return err
	}
	k := catalog.Key{Name: c.Param("name"), Note: in.Note, Rights: in.Rights, Until: in.Until,
		PerSecond: in.PerSecond, Bytes: in.Bytes}
	if err := k.Check(); err != nil {
		return bad("%w", err)
	}
	all, err := s.engine.Catalog.Keys()
	if err != nil {
		return err
	}
	for _, one := range all {
		if one.Name == k.Name {
			return engine.ErrConflict
		}
	}
	secret, err := s.engine.Catalog.MakeKey(c.Request.Context(), k, time.Now().UTC().Truncate(time.Microsecond))
	if err != nil {
		return err
	}
	return reply(c, gin.H{"key": secret})
}

// dropKey ends a key at once.
func (s *Server) dropKey(c *gin.Context) error {
	if err := s.engine.Catalog.DropKey(c.Request.Context(), c.Param("name")); err != nil {
		return err
	}
	return done(c)
}

package api

import (
	"github.com/gin-gonic/gin"

	"readyferry/core/access"
	"readyferry/engine/bundle"
)

// exportAll gives all that can be moved to another instance; people only to an owner.
func (s *Server) exportAll(c *gin.Context) error {
	files, err := s.engine.Bundle.Export()
	if err != nil {
		return err
	}
	if !who(c).Everywhere(access.Own) {
		delete(files, "people.json")
	}
	return reply(c, gin.H{"files": files})
}

// importAll takes what another instance has given, in one transaction, or says what it would do.
func (s *Server) importAll(c *gin.Context) error {
	var in struct {
		Files           bundle.Files `json:"files"`
		Preview         bool         `json:"preview"`
		RemoveOthers    bool         `json:"removeOthers"`
		KeepConnections bool         `json:"keepConnections"`
		Note            string       `json:"note"`
	}
	if err := largeInput(c, bundle.MostBytes*2, &in); err != nil {
		return err
	}
	if in.Files["people.json"] != nil && !who(c).Everywhere(access.Own) {
		return &lackingError{"people.json needs the right own everywhere; leave it out, or let an owner do it"}
	}
	o := bundle.Options{RemoveOthers: in.RemoveOthers, KeepConnections: in.KeepConnections, By: s.by(c, ""), Note: in.Note}
	var out []bundle.Change
	var err error
	if in.Preview {
		out, err = s.engine.Bundle.Preview(in.Files, o)
	} else {
		out, err = s.engine.Bundle.Import(c.Request.Context(), in.Files, o)
	}
	if err != nil {
		return err
	}
	if out == nil {
		out = []bundle.Change{}
	}
	return reply(c, out)
}

package api

import (
	"encoding/json"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"

	"readyferry/core/flow"
	jsonfmt "readyferry/core/format/json"
	"readyferry/engine"
	"readyferry/engine/design"
)

func (s *Server) publish(c *gin.Context) error {
	var in struct {
		By      string    `json:"by"`
		Note    string    `json:"note"`
		Despite string    `json:"despite"`
		At      time.Time `json:"at"`
		Share   int       `json:"share"`
	}
	if err := input(c, &in); err != nil {
		return err
	}
	if err := s.mayPublish(c, c.Param("name")); err != nil {
		return err
	}
	n, findings, err := s.engine.Design.Publish(c.Request.Context(), c.Param("name"),
		design.Word{By: s.by(c, in.By), Note: in.Note, Despite: in.Despite, Sure: sure(c), At: in.At, Share: in.Share})
	if err != nil {
		return err
	}
	return reply(c, gin.H{"version": n, "findings": findings})
}

// sure tells that whoever asks knows that messages are left in a queue.
func sure(c *gin.Context) bool { return c.Query("sure") == "true" }

// goLive puts a published version to work for all messages.
func (s *Server) goLive(c *gin.Context) error {
	var in struct {
		Version int    `json:"version"`
		By      string `json:"by"`
		Note    string `json:"note"`
	}
	if err := input(c, &in); err != nil {
		return err
	}
	err := s.engine.Design.GoLive(c.Request.Context(), c.Param("name"), in.Version,
		design.Word{By: s.by(c, in.By), Note: in.Note, Sure: sure(c)})
	if err != nil {
		return err
	}
	return done(c)
}

// revoke ends what takes a share of messages, or waits for its time.
func (s *Server) revoke(c *gin.Context) error {
	if err := s.engine.Design.Revoke(c.Request.Context(), c.Param("name"), s.by(c, c.Query("by"))); err != nil {
		return err
	}
	return done(c)
}

func (s *Server) sharedOut(c *gin.Context) error {
	out, err := s.engine.Design.SharedOut(c.Param("name"))
	if err != nil {
		return err
	}
	return reply(c, out)
}

// mostEvents is how many lines of what became of versions are given, the latest.
const mostEvents = 200

func (s *Server) versionEvents(c *gin.Context) error {
	if _, err := s.engine.Watch.Flow(c.Param("name")); err != nil {
		return err
	}
	rows, err := s.engine.Watch.VersionEvents(c.Param("name"), mostEvents)
	if err != nil {
		return err
	}
	out := make([]gin.H, 0, len(rows))
	for _, e := range rows {
		out = append(out, gin.H{"version": e.Version, "at": e.At, "by": e.By, "what": e.What, "note": e.Note})
	}
	return reply(c, out)
}

func (s *Server) versions(c *gin.Context) error {
	if _, err := s.engine.Watch.Flow(c.Param("name")); err != nil {
		return err
	}
	rows, err := s.engine.Watch.Versions(c.Param("name"))
	if err != nil {
		return err
	}
	out := make([]gin.H, 0, len(rows))
	for _, v := range rows {
		out = append(
			out,
			gin.H{"version": v.N, "publishedAt": v.PublishedAt, "by": v.By, "note": v.Note, "despite": v.Despite},
		)
	}
	return reply(c, out)
}

func (s *Server) version(c *gin.Context) error {
	n, err := strconv.Atoi(c.Param("n"))
	if err != nil {
		return engine.ErrNotFound
	}
	v, err := s.engine.Watch.Version(c.Param("name"), n)
	if err != nil {
		return err
	}
	document := json.RawMessage("null")
	if source, syntax := flow.Parse([]byte(v.Document)); syntax == nil {
		document = jsonfmt.Encode(source.Root)
	}
	return reply(c, gin.H{"version": v.N, "publishedAt": v.PublishedAt, "document": document, "text": v.Document})
}

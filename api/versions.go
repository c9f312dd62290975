package api

import (
	"encoding/json"
	"errors"
	"net/http"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"

	"readyferry/core/access"
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
		design.Word{By: s.by(c, in.By), Person: s.isPerson(c), Note: in.Note, Despite: in.Despite, Sure: sure(c),
			At: in.At, Share: in.Share})
	var asked *design.AskedError
	if errors.As(err, &asked) {
		c.JSON(http.StatusAccepted, gin.H{"asked": viewAsked(&asked.Asked, true), "findings": findings})
		return nil
	}
	if err != nil {
		return err
	}
	return reply(c, gin.H{"version": n, "findings": findings})
}

// isPerson tells whether somebody is there who calls, not a program.
func (s *Server) isPerson(c *gin.Context) bool {
	w := who(c)
	return w != nil && (w.Kind == access.Person || w.Kind == access.Visitor)
}

// askedView is a draft that waits for a second person.
type askedView struct {
	By    string     `json:"by"`
	At    time.Time  `json:"at"`
	Note  string     `json:"note"`
	Share int        `json:"share,omitempty"`
	Goes  *time.Time `json:"goesLiveAt,omitempty"`
	Same  bool       `json:"same"` // the draft is still what was asked for
}

func viewAsked(a *design.Asked, same bool) *askedView {
	return &askedView{a.By, a.At, a.Note, a.Share, a.LiveAt, same}
}

// takeBack takes back what waits for a second person.
func (s *Server) takeBack(c *gin.Context) error {
	if err := s.engine.Design.TakeBack(c.Request.Context(), c.Param("name")); err != nil {
		return err
	}
	return done(c)
}

// publishing gives the areas in which publishing needs a second person.
func (s *Server) publishing(c *gin.Context) error {
	areas, err := s.engine.Catalog.SecondPerson()
	if err != nil {
		return err
	}
	return reply(c, gin.H{"secondPerson": areas})
}

// putPublishing replaces them.
func (s *Server) putPublishing(c *gin.Context) error {
	var in struct {
		SecondPerson []string `json:"secondPerson"`
	}
	if err := input(c, &in); err != nil {
		return err
	}
	if err := s.engine.Catalog.SetSecondPerson(c.Request.Context(), in.SecondPerson); err != nil {
		return err
	}
	return done(c)
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

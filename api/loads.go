package api

import (
	"fmt"
	"io"
	"net/http"
	"time"

	"github.com/gin-gonic/gin"

	"readyferry/core/access"
	"readyferry/engine/intake"
	"readyferry/engine/watch"
)

type loadView struct {
	ID         watch.ID   `json:"id"`
	Flow       string     `json:"flow"`
	Title      string     `json:"title"`
	Format     string     `json:"format"`
	Filter     string     `json:"filter"`
	State      string     `json:"state"`
	Total      int64      `json:"total"`
	Matching   int64      `json:"matching"`
	Read       int64      `json:"read"`
	Taken      int64      `json:"taken"`
	Skipped    int64      `json:"skipped"`
	Refused    int64      `json:"refused"`
	Error      string     `json:"error"`
	CreatedAt  time.Time  `json:"createdAt"`
	FinishedAt *time.Time `json:"finishedAt"`
	Cron       string     `json:"cron"`
	Zone       string     `json:"zone"`
	NextAt     *time.Time `json:"nextAt"`
}

func viewLoad(l watch.Load) loadView {
	return loadView{
		l.ID,
		l.Flow,
		l.Title,
		l.Format,
		l.Filter,
		string(l.State),
		l.Total,
		l.Matching,
		l.Read,
		l.Taken,
		l.Skipped,
		l.Refused,
		l.Error,
		l.CreatedAt,
		l.FinishedAt,
		l.Cron,
		l.Zone,
		l.NextAt,
	}
}

func (s *Server) loads(c *gin.Context) error {
	n, err := limit(c, 50, 500)
	if err != nil {
		return err
	}
	after, err := idIn(c, "after", "a load")
	if err != nil {
		return err
	}
	rows, err := s.engine.Watch.Loads(s.flowsOf(c), after, n)
	if err != nil {
		return err
	}
	total, err := s.engine.Watch.CountLoads(s.flowsOf(c))
	if err != nil {
		return err
	}
	c.Header("Total-Count", fmt.Sprint(total))
	out := make([]loadView, len(rows))
	for i, r := range rows {
		out[i] = viewLoad(r)
	}
	return reply(c, out)
}

// addLoad keeps a file or query for loading, and counts its records.
func (s *Server) addLoad(c *gin.Context) error {
	n := intake.NewLoad{
		Flow:       c.Query("flow"),
		Title:      c.DefaultQuery("title", "records"),
		Format:     c.Query("format"),
		Filter:     c.Query("filter"),
		Connection: c.Query("connection"),
		Key:        c.Query("key"),
		Cron:       c.Query("cron"),
		Zone:       c.Query("zone"),
	}
	if err := s.mayFlows(c, access.Operate, n.Flow); err != nil {
		return err
	}
	if n.Connection != "" && !s.may(c, access.Test, access.Connection, n.Connection) {
		return lacking(access.Test, false)
	}
	if at := c.Query("at"); at != "" {
		var err error
		if n.At, err = time.Parse(time.RFC3339, at); err != nil {
			return bad("at: %q is no time; write it as 2026-03-17T06:00:00Z", at)
		}
	}
	content := http.MaxBytesReader(c.Writer, c.Request.Body, intake.MaxLoadFile+1)
	if n.Format == "query" {
		sql, err := io.ReadAll(io.LimitReader(content, 1<<20))
		if err != nil {
			return err
		}
		n.SQL = string(sql)
	} else {
		n.File = content
	}
	l, err := s.engine.Intake.AddLoad(c.Request.Context(), n)
	if err != nil {
		return err
	}
	c.JSON(http.StatusCreated, viewLoad(*l))
	return nil
}

func (s *Server) load(c *gin.Context) error {
	id, err := id(c)
	if err != nil {
		return err
	}
	l, err := s.engine.Watch.Load(id)
	if err != nil {
		return err
	}
	return reply(c, viewLoad(l))
}

// setLoad begins, pauses, resumes or stops a load.
func (s *Server) setLoad(do string) handler {
	return func(c *gin.Context) error {
		id, err := id(c)
		if err != nil {
			return err
		}
		if err := s.engine.Intake.SetLoad(c.Request.Context(), id, do); err != nil {
			return err
		}
		return s.load(c)
	}
}

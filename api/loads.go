package api

import (
	"io"
	"net/http"
	"time"

	"github.com/gin-gonic/gin"

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
	}
}

func (s *Server) loads(c *gin.Context) {
	n, err := limit(c, 50, 500)
	if err != nil {
		s.fail(c, err)
		return
	}
	after, err := idIn(c, "after", "a load")
	if err != nil {
		s.fail(c, err)
		return
	}
	rows, err := s.engine.Watch.Loads(c.Query("flow"), after, n)
	if err != nil {
		s.fail(c, err)
		return
	}
	out := make([]loadView, len(rows))
	for i, r := range rows {
		out[i] = viewLoad(r)
	}
	c.JSON(http.StatusOK, out)
}

// addLoad keeps a file or query for loading, and counts its records.
func (s *Server) addLoad(c *gin.Context) {
	n := intake.NewLoad{
		Flow:       c.Query("flow"),
		Title:      c.DefaultQuery("title", "records"),
		Format:     c.Query("format"),
		Filter:     c.Query("filter"),
		Connection: c.Query("connection"),
		Key:        c.Query("key"),
	}
	content := http.MaxBytesReader(c.Writer, c.Request.Body, intake.MaxLoadFile+1)
	if n.Format == "query" {
		sql, err := io.ReadAll(io.LimitReader(content, 1<<20))
		if err != nil {
			s.fail(c, err)
			return
		}
		n.SQL = string(sql)
	} else {
		n.File = content
	}
	l, err := s.engine.Intake.AddLoad(c.Request.Context(), n)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusCreated, viewLoad(*l))
}

func (s *Server) load(c *gin.Context) {
	id, err := id(c)
	if err != nil {
		s.fail(c, err)
		return
	}
	l, err := s.engine.Watch.Load(id)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, viewLoad(l))
}

// setLoad begins, pauses, resumes or stops a load.
func (s *Server) setLoad(do string) gin.HandlerFunc {
	return func(c *gin.Context) {
		id, err := id(c)
		if err != nil {
			s.fail(c, err)
			return
		}
		if err := s.engine.Intake.SetLoad(c.Request.Context(), id, do); err != nil {
			s.fail(c, err)
			return
		}
		s.load(c)
	}
}

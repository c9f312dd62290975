package api

import (
	"strconv"
	"time"

	"github.com/gin-gonic/gin"

	"readyferry/core/access"
	"readyferry/core/run"
	"readyferry/engine/journal"
	"readyferry/engine/watch"
)

// groupView is an open group as people read it.
type groupView struct {
	ID       watch.ID   `json:"id"` // also of the transaction in which it goes on
	Flow     string     `json:"flow"`
	Version  int        `json:"version"`
	Path     string     `json:"path"` // of the step that gathers it
	Key      string     `json:"key"`
	Members  int        `json:"members"`
	Bytes    int64      `json:"bytes"`
	OpenedAt time.Time  `json:"openedAt"`
	LastAt   time.Time  `json:"lastAt"`
	ClosesAt *time.Time `json:"closesAt"` // null: never by time
	Missing  []string   `json:"missing"`  // what else it waits for, in words
	In       int        `json:"inPerMinute"`
}

func viewGroup(g *watch.OpenGroup) groupView {
	return groupView{
		g.ID,
		g.Flow,
		g.Version,
		g.Path,
		g.Key,
		g.Members,
		g.Bytes,
		g.OpenedAt,
		g.LastAt,
		g.CloseAt,
		g.Missing,
		g.In,
	}
}

// groups lists open groups, the oldest first.
func (s *Server) groups(c *gin.Context) error {
	n, err := limit(c, 100, 1000)
	if err != nil {
		return err
	}
	after, err := idIn(c, "after", "a group")
	if err != nil {
		return err
	}
	rows, err := s.engine.Watch.OpenGroups(s.flowsOf(c), after, n)
	if err != nil {
		return err
	}
	out := make([]groupView, len(rows))
	for i := range rows {
		out[i] = viewGroup(&rows[i])
	}
	total, err := s.engine.Watch.CountAllOpenGroups()
	if err != nil {
		return err
	}
	return reply(c, gin.H{"total": total, "groups": out})
}

// groupMembers lists the members of a group in the order in which they came.
func (s *Server) groupMembers(c *gin.Context) error {
	id, err := id(c)
	if err != nil {
		return err
	}
	n, err := limit(c, 50, 500)
	if err != nil {
		return err
	}
	after := 0
	if text := c.Query("after"); text != "" {
		if after, err = strconv.Atoi(text); err != nil {
			return bad("after must be the number of a member, not %q", text)
		}
	}
	g, err := s.engine.Watch.Group(id)
	if err != nil {
		return err
	}
	bodies := s.may(c, access.Bodies, access.Flow, g.Flow)
	rows, err := s.engine.Watch.Members(id, after, n)
	if err != nil {
		return err
	}
	type view struct {
		N           int       `json:"n"`
		Transaction watch.ID  `json:"transaction"`
		Reference   string    `json:"reference"`
		At          time.Time `json:"at"`
		Item        *run.Body `json:"item,omitempty"` // gone once the group has closed: it stands in its transaction
	}
	out := make([]view, len(rows))
	for i, m := range rows {
		out[i] = view{N: m.N, Transaction: m.Tx, At: m.At}
		if t, err := s.engine.Watch.Transaction(m.Tx); err == nil {
			out[i].Reference = t.Reference
		}
		if m.Item != nil && bodies {
			out[i].Item = run.NewBody("json", m.Item)
		}
	}
	return reply(c, out)
}

// closeGroup closes an open group now.
func (s *Server) closeGroup(c *gin.Context) error {
	id, err := id(c)
	if err == nil {
		err = s.engine.Perform.CloseGroup(c.Request.Context(), id)
	}
	if err != nil {
		return err
	}
	return reply(c, gin.H{"transaction": id})
}

// lines lists the keys whose messages wait for a number.
func (s *Server) lines(c *gin.Context) error {
	rows, err := s.engine.Watch.Lines(200)
	if err != nil {
		return err
	}
	type view struct {
		Flow    string    `json:"flow"`
		Path    string    `json:"path"` // of the step
		Key     string    `json:"key"`
		Next    int64     `json:"next"` // the number that is missing
		Waiting int64     `json:"waiting"`
		Until   time.Time `json:"until"`
	}
	out := make([]view, 0, len(rows))
	for _, l := range rows {
		if s.sees(c, access.Flow, l.Flow) {
			out = append(out, view(l))
		}
	}
	return reply(c, out)
}

// skipGap lets a key go on without the number that it waits for.
func (s *Server) skipGap(c *gin.Context) error {
	var in struct {
		Flow string `json:"flow"`
		Path string `json:"path"`
		Key  string `json:"key"`
	}
	err := input(c, &in)
	if err == nil {
		err = s.mayFlows(c, access.Operate, in.Flow)
	}
	if err == nil {
		err = s.engine.Perform.SkipGap(c.Request.Context(), journal.LineKey{Flow: in.Flow, Path: in.Path, Key: in.Key})
	}
	if err != nil {
		return err
	}
	return done(c)
}

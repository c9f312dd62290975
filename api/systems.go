package api

import (
	"encoding/json"
	"net/http"
	"sort"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"

	"readyferry/core/message"
	"readyferry/core/run"
	"readyferry/engine"
	"readyferry/standin"
	"readyferry/store"
)

// connectionView is a connection without its secrets.
type connectionView struct {
	Name      string          `json:"name"`
	Kind      string          `json:"kind"`
	Document  json.RawMessage `json:"document"`
	SecretSet bool            `json:"secretSet"`
	UsedBy    []string        `json:"usedBy"` // live flows
	Waiting   int64           `json:"waiting"`
	UpdatedAt time.Time       `json:"updatedAt"`
}

func (s *Server) viewConnection(row store.Connection) (connectionView, error) {
	n, err := s.store.WaitingFor(row.Name)
	return connectionView{row.Name, row.Kind, row.Document, len(row.Sealed) > 0, s.engine.UsedBy(row.Name), n, row.UpdatedAt}, err
}

func (s *Server) connections(c *gin.Context) {
	rows, err := s.store.Connections()
	if err != nil {
		s.fail(c, err)
		return
	}
	out := make([]connectionView, 0, len(rows))
	for _, r := range rows {
		v, err := s.viewConnection(r)
		if err != nil {
			s.fail(c, err)
			return
		}
		out = append(out, v)
	}
	c.JSON(http.StatusOK, out)
}

func (s *Server) connection(c *gin.Context) {
	row, err := s.store.Connection(c.Param("name"))
	if err != nil {
		s.fail(c, err)
		return
	}
	v, err := s.viewConnection(row)
	if err != nil {
		s.fail(c, err)
		return
	}
	etag(c, row.Revision)
	c.JSON(http.StatusOK, v)
}

func (s *Server) putConnection(c *gin.Context) {
	document, err := body(c, maxDocument)
	if err != nil {
		s.fail(c, err)
		return
	}
	seen, err := revision(c)
	if err != nil {
		s.fail(c, err)
		return
	}
	if _, err := s.engine.SaveConnection(c.Request.Context(), c.Param("name"), document, seen); err != nil {
		s.fail(c, err)
		return
	}
	s.connection(c)
}

func (s *Server) deleteConnection(c *gin.Context) {
	if err := s.engine.DeleteConnection(c.Request.Context(), c.Param("name")); err != nil {
		s.fail(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}

func (s *Server) testConnection(c *gin.Context) {
	t, err := s.engine.TestConnection(c.Request.Context(), c.Param("name"))
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, t)
}

// queues lists every queue that a live flow reads or that holds something.
func (s *Server) queues(c *gin.Context) {
	depths, err := s.store.QueueDepths()
	if err != nil {
		s.fail(c, err)
		return
	}
	type view struct {
		Name     string     `json:"name"`
		Depth    int64      `json:"depth"`
		InFlight int64      `json:"inFlight"`
		OldestAt *time.Time `json:"oldestAt"`
		Readers  []string   `json:"readers"`
		PausedAt *time.Time `json:"pausedAt"`
		In       int        `json:"inPerMinute"`
		Out      int        `json:"outPerMinute"`
	}
	paused, err := s.store.PausedQueues()
	if err != nil {
		s.fail(c, err)
		return
	}
	all := map[string]*view{}
	for name, readers := range s.engine.QueueReaders() {
		all[name] = &view{Name: name, Readers: readers}
	}
	for _, d := range depths {
		v := all[d.Queue]
		if v == nil {
			v = &view{Name: d.Queue, Readers: []string{}}
			all[d.Queue] = v
		}
		v.Depth, v.InFlight, v.OldestAt = d.Depth, d.InFlight, d.Oldest
	}
	for _, p := range paused {
		v := all[p.Queue]
		if v == nil {
			v = &view{Name: p.Queue, Readers: []string{}}
			all[p.Queue] = v
		}
		v.PausedAt = &p.Since
	}
	out := make([]view, 0, len(all))
	for _, v := range all {
		v.In, v.Out = s.engine.QueueRate(v.Name)
		out = append(out, *v)
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Name < out[j].Name })
	c.JSON(http.StatusOK, out)
}

// peek lists messages of a queue without taking them.
func (s *Server) peek(c *gin.Context) {
	n, err := limit(c, 50, 500)
	if err != nil {
		s.fail(c, err)
		return
	}
	after := int64(0)
	if text := c.Query("after"); text != "" {
		if after, err = strconv.ParseInt(text, 10, 64); err != nil {
			s.fail(c, bad("after must be the number of a message, not %q", text))
			return
		}
	}
	rows, err := s.store.Peek(c.Param("name"), after, n)
	if err != nil {
		s.fail(c, err)
		return
	}
	type view struct {
		N         int64            `json:"n"`
		From      store.ID         `json:"from"` // the transaction that put it there
		Reference string           `json:"reference"`
		PutAt     time.Time        `json:"putAt"`
		TakenBy   *store.ID        `json:"takenBy"`
		Priority  int              `json:"priority"`
		ExpiresAt *time.Time       `json:"expiresAt"`
		Headers   []message.Header `json:"headers"`
		Body      *run.Body        `json:"body"`
	}
	out := make([]view, len(rows))
	for i, r := range rows {
		headers := []message.Header{}
		if err := json.Unmarshal(r.Headers, &headers); err != nil {
			s.fail(c, err)
			return
		}
		out[i] = view{r.N, r.From, r.Reference, r.PutAt, r.TakenBy, r.Priority, r.ExpiresAt, headers, run.NewBody("", r.Body)}
	}
	c.JSON(http.StatusOK, out)
}

func (s *Server) pauseQueue(c *gin.Context)  { s.setQueue(c, true) }
func (s *Server) resumeQueue(c *gin.Context) { s.setQueue(c, false) }

func (s *Server) setQueue(c *gin.Context, pause bool) {
	if err := s.engine.PauseQueue(c.Request.Context(), c.Param("name"), pause); err != nil {
		s.fail(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}

// chosen are messages of a queue that a person has decided about.
type chosen struct {
	Messages []int64 `json:"messages"` // by number
	All      bool    `json:"all"`
	To       string  `json:"to"`
	Why      string  `json:"why"`
}

func (s *Server) choose(c *gin.Context) (chosen, error) {
	var in chosen
	if err := input(c, &in); err != nil {
		return in, err
	}
	if in.All == (len(in.Messages) > 0) {
		return in, bad("say which messages: either messages, with their numbers, or all")
	}
	if len(in.Messages) > 1000 {
		return in, bad("at most 1000 messages can be named at once; %d are", len(in.Messages))
	}
	return in, nil
}

// moveMessages moves messages that nobody works on to another queue.
func (s *Server) moveMessages(c *gin.Context) {
	in, err := s.choose(c)
	if err != nil {
		s.fail(c, err)
		return
	}
	n, err := s.engine.MoveMessages(c.Request.Context(), c.Param("name"), in.To, in.Messages)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, gin.H{"count": n})
}

// purgeMessages takes messages that nobody works on out for good.
func (s *Server) purgeMessages(c *gin.Context) {
	in, err := s.choose(c)
	if err != nil {
		s.fail(c, err)
		return
	}
	n, err := s.engine.PurgeMessages(c.Request.Context(), c.Param("name"), in.Messages, in.Why)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, gin.H{"count": n})
}

func (s *Server) standInList(c *gin.Context) { c.JSON(http.StatusOK, s.standIns.List()) }

func (s *Server) standIn(c *gin.Context) {
	v, err := s.standIns.Get(c.Param("name"))
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, v)
}

func (s *Server) behave(c *gin.Context) {
	var b standin.Behaviour
	if err := input(c, &b); err != nil {
		s.fail(c, err)
		return
	}
	if err := b.Check(); err != nil {
		s.fail(c, bad("%w", err))
		return
	}
	if err := s.standIns.Behave(c.Param("name"), b); err != nil {
		s.fail(c, err)
		return
	}
	s.engine.Events.Publish(engine.TopicStandIns)
	s.standIn(c)
}

func (s *Server) forget(c *gin.Context) {
	if err := s.standIns.Forget(c.Param("name")); err != nil {
		s.fail(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}

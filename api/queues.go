package api

import (
	"encoding/json"
	"sort"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"readyferry/core/access"
	"readyferry/core/message"
	"readyferry/core/run"
	"readyferry/core/step"
	"readyferry/engine/perform"
	"readyferry/engine/watch"
)

// queues lists every queue that a live flow reads or that holds something.
func (s *Server) queues(c *gin.Context) error {
	depths, err := s.engine.Watch.QueueDepths()
	if err != nil {
		return err
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
		Limit    int64      `json:"limit"`      // messages that may wait
		Replies  []string   `json:"repliesFor"` // live flows that wait for replies in it
		Takers   []string   `json:"takers"`     // keys of programs outside that may take from it
	}
	paused, err := s.engine.Watch.PausedQueues()
	if err != nil {
		return err
	}
	settings, err := s.engine.Watch.QueueSettings()
	if err != nil {
		return err
	}
	limits := map[string]int64{}
	for _, set := range settings {
		limits[set.Queue] = set.Limit
	}
	all := map[string]*view{}
	for name, readers := range s.engine.Watch.Catalog.QueueReaders() {
		all[name] = &view{Name: name, Readers: readers}
	}
	for name, flows := range s.engine.Watch.Catalog.ReplyQueues() {
		if all[name] == nil {
			all[name] = &view{Name: name, Readers: []string{}}
		}
		all[name].Replies = flows
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
		v.In, v.Out = s.engine.Watch.QueueRate(v.Name)
		on := "queue:" + v.Name
		if topic, _, of := strings.Cut(v.Name, perform.OfTopic("")); of { // of a subscription from outside
			on = "topic:" + topic
		}
		v.Takers = s.engine.Watch.Catalog.Takers(on)
		if v.Limit = watch.UsualQueueLimit; limits[v.Name] > 0 {
			v.Limit = limits[v.Name]
		}
		out = append(out, *v)
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Name < out[j].Name })
	return reply(c, visible(s, c, out, access.Queue, func(v *view) string { return v.Name }))
}

// peek lists messages of a queue without taking them.
func (s *Server) peek(c *gin.Context) error {
	n, err := limit(c, 50, 500)
	if err != nil {
		return err
	}
	after, err := number(c, "after")
	if err != nil {
		return err
	}
	rows, err := s.engine.Watch.Peek(c.Param("name"), after, n)
	if err != nil {
		return err
	}
	out := make([]storedMessage, len(rows))
	for i, r := range rows {
		if out[i], err = showStored(r.N, r.From, r.Reference, r.PutAt, r.Headers, r.Body); err != nil {
			return err
		}
		out[i].queued = &queued{TakenBy: r.TakenBy, Priority: r.Priority, ExpiresAt: r.ExpiresAt}
		if err := s.tried(&rows[i], out[i].queued); err != nil {
			return err
		}
		if r.TakenBy != nil {
			if out[i].LeasedBy, err = s.engine.Watch.LeasedBy(*r.TakenBy); err != nil {
				return err
			}
		}
	}
	return reply(c, out)
}

// storedMessage is a message of a queue or topic as people read it.
type storedMessage struct {
	N         int64            `json:"n"`
	From      *watch.ID        `json:"from"` // the transaction that put it there; null: somebody outside
	Reference string           `json:"reference"`
	PutAt     time.Time        `json:"putAt"`
	Headers   []message.Header `json:"headers"`
	Body      *run.Body        `json:"body"`
	*queued
}

// queued is what only a message of a queue has.
type queued struct {
	TakenBy   *watch.ID  `json:"takenBy"`
	LeasedBy  string     `json:"leasedBy"` // the key of whoever outside works on it
	Priority  int        `json:"priority"`
	ExpiresAt *time.Time `json:"expiresAt"`
	Tries     int        `json:"tries"`     // of the transaction that works on it, or leases that ended without a word
	NextTryAt *time.Time `json:"nextTryAt"` // of that transaction
}

// tried says how often a message of a queue was tried, and when it will be again.
func (s *Server) tried(item *watch.QueueItem, q *queued) (err error) {
	if item.TakenBy == nil {
		q.Tries, err = s.engine.Watch.Lapses(item.N)
		return err
	}
	if t, err := s.engine.Watch.Transaction(*item.TakenBy); err == nil {
		q.Tries, q.NextTryAt = t.Tries, t.NextTryAt
	}
	return nil // somebody outside has it, so there is no transaction
}

func showStored(
	n int64,
	from watch.ID,
	reference string,
	putAt time.Time,
	headers, body []byte,
) (storedMessage, error) {
	m := storedMessage{N: n, Reference: reference, PutAt: putAt, Headers: []message.Header{}}
	if from != (watch.ID{}) {
		m.From = &from
	}
	err := json.Unmarshal(headers, &m.Headers)
	name := step.FormatOf("auto", message.HeaderMap(m.Headers).Get("content-type"), body)
	m.Body = run.NewBody(name, body)
	return m, err
}

func (s *Server) pauseQueue(c *gin.Context) error  { return s.setQueue(c, true) }
func (s *Server) resumeQueue(c *gin.Context) error { return s.setQueue(c, false) }

func (s *Server) setQueue(c *gin.Context, pause bool) error {
	if err := s.engine.Perform.PauseQueue(c.Request.Context(), c.Param("name"), pause); err != nil {
		return err
	}
	return done(c)
}

// putQueue keeps what a person has set for a queue.
func (s *Server) putQueue(c *gin.Context) error {
	var in struct {
		Limit int64 `json:"limit"`
	}
	if err := input(c, &in); err != nil {
		return err
	}
	if err := s.engine.Perform.LimitQueue(c.Request.Context(), c.Param("name"), in.Limit); err != nil {
		return err
	}
	return done(c)
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
func (s *Server) moveMessages(c *gin.Context) error {
	in, err := s.choose(c)
	if err != nil {
		return err
	}
	if !s.may(c, access.Operate, access.Queue, in.To) {
		return lacking(access.Operate, false)
	}
	n, err := s.engine.Perform.MoveMessages(c.Request.Context(), c.Param("name"), in.To, in.Messages)
	if err != nil {
		return err
	}
	return reply(c, gin.H{"count": n})
}

// purgeMessages takes messages that nobody works on out for good.
func (s *Server) purgeMessages(c *gin.Context) error {
	in, err := s.choose(c)
	if err != nil {
		return err
	}
	n, err := s.engine.Perform.PurgeMessages(c.Request.Context(), c.Param("name"), in.Messages, in.Why)
	if err != nil {
		return err
	}
	return reply(c, gin.H{"count": n})
}

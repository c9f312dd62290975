package api

import (
	"time"

	"github.com/gin-gonic/gin"

	"readyferry/core/access"
	"readyferry/engine"
	"readyferry/engine/watch"
)

// targetView is how deliveries to a connection are going.
type targetView struct {
	Name      string     `json:"name"`
	Condition string     `json:"condition"`
	Since     *time.Time `json:"since"`
	Error     string     `json:"error"`
	Good      int64      `json:"good"` // tries of the last hour
	Bad       int64      `json:"bad"`
	P50       float64    `json:"p50"` // milliseconds
	P95       float64    `json:"p95"`
	P99       float64    `json:"p99"`
	InFlight  int        `json:"inFlight"`
	Waiting   int64      `json:"waiting"` // counted to 100,000
	Oldest    *time.Time `json:"oldest"`
	Failures  int        `json:"failures"` // in a row
	ProbeAt   *time.Time `json:"probeAt"`  // while the breaker is open
	Held      *holdView  `json:"held"`
	Away      *awayView  `json:"away"` // the runner by which it is reached; null where that is there, or none is needed
}

type awayView struct {
	Runner string     `json:"runner"`
	Since  *time.Time `json:"since"` // null: it was not there since the start
}

type holdView struct {
	Since    *time.Time `json:"since"`
	By       string     `json:"by"`
	Note     string     `json:"note"`
	Calendar string     `json:"calendar"` // that holds it; "" where a person does
	Until    *time.Time `json:"until"`    // where a calendar does
}

// sources tells how messages come in from a connection.
func (s *Server) sources(c *gin.Context) error {
	out, err := s.engine.Watch.Sources(c.Param("name"))
	if err != nil {
		return err
	}
	return reply(c, out)
}

func (s *Server) viewTarget(name string) (*targetView, error) {
	t, err := s.engine.Watch.Target(name)
	if err != nil {
		return nil, err
	}
	stands := s.engine.Lane.Standing(name)
	v := &targetView{
		Name:      name,
		Condition: string(t.Pulse.Condition),
		Error:     t.Pulse.Error,
		Good:      t.Tries.Good,
		Bad:       t.Tries.Bad,
		P50:       ms(t.Tries.P50),
		P95:       ms(t.Tries.P95),
		P99:       ms(t.Tries.P99),
		InFlight:  stands.InFlight,
		Waiting:   t.Waiting,
		Oldest:    t.Oldest,
		Failures:  stands.Failures,
	}
	if v.Condition == "" {
		v.Condition = "not used since the start"
	}
	if !t.Pulse.Since.IsZero() {
		v.Since = &t.Pulse.Since
	}
	if !stands.ProbeAt.IsZero() {
		v.ProbeAt = &stands.ProbeAt
	}
	if stands.Runner != "" {
		v.Away = &awayView{Runner: stands.Runner}
		if !stands.AwaySince.IsZero() {
			v.Away.Since = &stands.AwaySince
		}
	}
	if h := stands.Held; h != nil {
		v.Held = &holdView{Since: &h.Since, By: h.By, Note: h.Note}
	} else if stands.Calendar != "" {
		v.Held = &holdView{Calendar: stands.Calendar, Until: &stands.Until}
	}
	return v, nil
}

func (s *Server) targets(c *gin.Context) error {
	out := []*targetView{}
	for _, name := range visible(s, c, s.engine.Watch.Targets(), access.Connection, func(n *string) string { return *n }) {
		v, err := s.viewTarget(name)
		if err != nil {
			return err
		}
		out = append(out, v)
	}
	return reply(c, out)
}

func (s *Server) target(c *gin.Context) error {
	v, err := s.viewTarget(c.Param("name"))
	if err != nil {
		return err
	}
	return reply(c, v)
}

// targetWaits lists who waits for a target, since when and why.
func (s *Server) targetWaits(c *gin.Context) error {
	n, err := limit(c, 100, 1000)
	if err != nil {
		return err
	}
	after, err := number(c, "after")
	if err != nil {
		return err
	}
	rows, err := s.engine.Watch.Pending(c.Param("name"), after, n)
	if err != nil {
		return err
	}
	type view struct {
		N           int64      `json:"n"`
		Transaction watch.ID   `json:"transaction"`
		Flow        string     `json:"flow"`
		Since       time.Time  `json:"since"`
		Tries       int        `json:"tries"`
		NextTryAt   *time.Time `json:"nextTryAt"`
		Why         string     `json:"why"`
	}
	out := make([]view, len(rows))
	for i, d := range rows {
		out[i] = view{d.Seq, d.Tx, d.Flow, d.CreatedAt, d.Tries, d.NextAt, d.NextWhy}
	}
	return reply(c, out)
}

type byWhom struct {
	By   string `json:"by"`
	Note string `json:"note"`
}

func (s *Server) holdTarget(c *gin.Context) error {
	var in byWhom
	if err := input(c, &in); err != nil {
		return err
	}
	err := s.engine.Lane.Hold(c.Request.Context(), engine.Hold{Target: c.Param("name"), By: s.by(c, in.By), Note: in.Note})
	if err != nil {
		return err
	}
	return done(c)
}

func (s *Server) releaseTarget(c *gin.Context) error {
	if err := s.engine.Lane.Release(c.Request.Context(), c.Param("name")); err != nil {
		return err
	}
	return done(c)
}

func (s *Server) skipWait(c *gin.Context) error {
	n, err := s.engine.Lane.SkipWait(c.Request.Context(), c.Param("name"))
	if err != nil {
		return err
	}
	return reply(c, gin.H{"moved": n})
}

func (s *Server) giveUp(c *gin.Context) error {
	var in byWhom
	if err := input(c, &in); err != nil {
		return err
	}
	if in.By = s.by(c, in.By); in.By == "" {
		in.By = "a person"
	}
	n, err := s.engine.Lane.GiveUp(c.Request.Context(), c.Param("name"), in.By, in.Note)
	if err != nil {
		return err
	}
	return reply(c, gin.H{"moved": n})
}

package api

import (
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/gin-gonic/gin"

	"readyferry/connect"
	"readyferry/core/access"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
	"readyferry/engine"
	"readyferry/engine/journal"
	"readyferry/engine/watch"
	"readyferry/standin"
)

// systemView is a kind of outside system, with the schemas from which forms and
// help are drawn.
type systemView struct {
	Kind       string            `json:"kind"`
	Title      string            `json:"title"`
	Summary    string            `json:"summary"`
	Sentence   string            `json:"sentence"`
	Reached    bool              `json:"reached"` // we call it; else it calls us
	Connection json.RawMessage   `json:"connection"`
	Intake     json.RawMessage   `json:"intake"` // null: nothing comes from it
	Deliver    json.RawMessage   `json:"deliver"`
	Ask        json.RawMessage   `json:"ask"`
	Outcomes   []connect.Meaning `json:"outcomes"`
	Notes      []string          `json:"notes"`
}

// systems lists the kinds of outside system.
func (s *Server) systems(c *gin.Context) error {
	registry := s.engine.Catalog.Systems()
	raw := func(n *message.Node) json.RawMessage {
		if n == nil {
			return json.RawMessage("null")
		}
		return jsonfmt.Encode(n)
	}
	out := []systemView{}
	for _, k := range registry.All() {
		out = append(
			out,
			systemView{
				k.Name,
				k.Title,
				k.Summary,
				k.Sentence,
				k.Open != nil,
				raw(registry.Schema(k.Name)),
				raw(k.Intake),
				raw(k.Deliver),
				raw(k.Ask),
				append([]connect.Meaning{}, k.Outcomes...),
				append([]string{}, k.Notes...),
			},
		)
	}
	return reply(c, out)
}

// connectionView is a connection without its secrets.
type connectionView struct {
	Name      string          `json:"name"`
	Kind      string          `json:"kind"`
	Document  json.RawMessage `json:"document"`
	SecretSet bool            `json:"secretSet"`
	UsedBy    []string        `json:"usedBy"` // live flows
	Waiting   int64           `json:"waiting"`
	UpdatedAt time.Time       `json:"updatedAt"`
	By        string          `json:"by"` // who saved it last
	Condition connectionState `json:"condition"`
}

// connectionState is how a connection is, since the application began.
type connectionState struct {
	Is      connect.Condition `json:"is"`
	Since   *time.Time        `json:"since"`
	Error   string            `json:"error"` // the last one
	ErrorAt *time.Time        `json:"errorAt"`
	In      int               `json:"in"`  // messages in the last minute
	Out     int               `json:"out"` // the same
	Lately  []connect.Event   `json:"lately"`
	Backlog map[string]int64  `json:"backlog"` // at the source, by flow
}

func stateOf(p connect.Pulse) connectionState {
	at := func(t time.Time) *time.Time {
		if t.IsZero() {
			return nil
		}
		return &t
	}
	out := connectionState{p.Condition, at(p.Since), p.Error, at(p.ErrorAt), p.In, p.Out, p.Lately, p.Backlog}
	if out.Lately == nil {
		out.Lately = []connect.Event{}
	}
	if out.Backlog == nil {
		out.Backlog = map[string]int64{}
	}
	return out
}

func (s *Server) viewConnection(row watch.Connection) (connectionView, error) {
	n, err := s.engine.Watch.WaitingFor(row.Name)
	return connectionView{
		row.Name,
		row.Kind,
		row.Document,
		len(row.Sealed) > 0,
		s.engine.Watch.Catalog.UsedBy(row.Name),
		n,
		row.UpdatedAt,
		row.By,
		stateOf(s.engine.Watch.Pulse(row.Name)),
	}, err
}

func (s *Server) connections(c *gin.Context) error {
	rows, err := s.engine.Watch.Connections()
	if err != nil {
		return err
	}
	rows = visible(s, c, rows, access.Connection, func(r *watch.Connection) string { return r.Name })
	out := make([]connectionView, 0, len(rows))
	for _, r := range rows {
		v, err := s.viewConnection(r)
		if err != nil {
			return err
		}
		out = append(out, v)
	}
	return reply(c, out)
}

func (s *Server) connection(c *gin.Context) error {
	row, err := s.engine.Watch.Connection(c.Param("name"))
	if err != nil {
		return err
	}
	v, err := s.viewConnection(row)
	if err != nil {
		return err
	}
	etag(c, row.Revision)
	return reply(c, v)
}

func (s *Server) putConnection(c *gin.Context) error {
	document, seen, err := change(c)
	if err != nil {
		return err
	}
	if err := s.mayArea(c, access.Publish, access.Connection, c.Param("name"), document); err != nil {
		return err
	}
	if err := s.onlySecret(c.Param("name"), document); err != nil {
		return err
	}
	if _, err := s.engine.Design.SaveConnection(c.Request.Context(), c.Param("name"), document, seen); err != nil {
		return err
	}
	return s.connection(c)
}

func (s *Server) deleteConnection(c *gin.Context) error {
	if err := s.engine.Design.DeleteConnection(c.Request.Context(), c.Param("name")); err != nil {
		return err
	}
	return done(c)
}

func (s *Server) testConnection(c *gin.Context) error {
	t, err := s.engine.Design.TestConnection(c.Request.Context(), c.Param("name"))
	if err != nil {
		return err
	}
	return reply(c, t)
}

func (s *Server) offers(c *gin.Context) error {
	list, err := s.engine.Design.Offers(c.Request.Context(), c.Param("name"), c.Query("what"))
	if err != nil {
		return err
	}
	return reply(c, list)
}

// describe tells how a table of a connection is made.
func (s *Server) describe(c *gin.Context) error {
	t, err := s.engine.Design.Describe(c.Request.Context(), c.Param("name"), c.Param("table"))
	if err != nil {
		return err
	}
	return reply(c, t)
}

// writeQuery writes the statement of a selection.
func (s *Server) writeQuery(c *gin.Context) error {
	var in connect.Selection
	if err := input(c, &in); err != nil {
		return err
	}
	text, params, err := s.engine.Design.Query(c.Request.Context(), c.Param("name"), &in)
	if err != nil {
		return err
	}
	return reply(c, gin.H{"sql": text, "params": append([]string{}, params...)})
}

func (s *Server) standInList(c *gin.Context) error { return reply(c, s.standIns.List()) }

func (s *Server) standIn(c *gin.Context) error {
	v, err := s.standIns.Get(c.Param("name"))
	if err != nil {
		return err
	}
	return reply(c, v)
}

// putStandIn makes a stand-in, or says anew what one does.
func (s *Server) putStandIn(c *gin.Context) error {
	var d standin.Definition
	if err := input(c, &d); err != nil {
		return err
	}
	switch name := c.Param("name"); {
	case d.Name == "":
		d.Name = name
	case d.Name != name:
		return bad("the stand-in is named %q, but it stands under %q", d.Name, name)
	}
	if err := d.Check(); err != nil {
		return bad("%w", err)
	}
	if c.GetHeader("If-None-Match") == "*" {
		if _, err := s.standIns.Get(d.Name); err == nil {
			return fmt.Errorf("%w: there is a stand-in of this name", engine.ErrConflict)
		}
	}
	if err := s.standIns.Define(d); err != nil {
		return bad("%w", err)
	}
	if err := s.engine.Design.SaveStandIn(c.Request.Context(), d); err != nil {
		return err
	}
	return s.standIn(c)
}

func (s *Server) deleteStandIn(c *gin.Context) error {
	name := c.Param("name")
	if _, err := s.standIns.Get(name); err != nil {
		return err
	}
	err := s.engine.Design.DeleteStandIn(c.Request.Context(), name, sure(c))
	if err != nil && !errors.Is(err, engine.ErrNotFound) {
		return err
	}
	if err := s.standIns.Remove(name); err != nil {
		return err
	}
	return done(c)
}

func (s *Server) behave(c *gin.Context) error {
	var b standin.Behaviour
	if err := input(c, &b); err != nil {
		return err
	}
	if err := b.Check(); err != nil {
		return bad("%w", err)
	}
	if err := s.standIns.Behave(c.Param("name"), b); err != nil {
		return err
	}
	s.engine.Watch.Events.Publish(journal.EventStandIns)
	return s.standIn(c)
}

// sendFrom lets a stand-in send a message, as the system that it stands for would.
func (s *Server) sendFrom(c *gin.Context) error {
	var m standin.Message
	if err := input(c, &m); err != nil {
		return err
	}
	if err := s.standIns.Send(c.Param("name"), m); err != nil {
		if errors.Is(err, standin.ErrNotFound) {
			return err
		}
		return bad("%w", err)
	}
	return done(c)
}

func (s *Server) forget(c *gin.Context) error {
	if err := s.standIns.Forget(c.Param("name")); err != nil {
		return err
	}
	return done(c)
}

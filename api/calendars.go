package api

import (
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"readyferry/core/hours"
	"readyferry/engine/alarm"
	"readyferry/engine/catalog"
)

// calendarView is a calendar with what it comes to.
type calendarView struct {
	Name     string         `json:"name"`
	Title    string         `json:"title"`
	Zone     string         `json:"zone"`
	Except   []string       `json:"except"`
	Text     string         `json:"text"`
	Revision int64          `json:"revision"`
	Covers   bool           `json:"covers"` // now
	Next     *time.Time     `json:"next"`   // when that changes
	Uses     []string       `json:"uses"`
	Spans    []spanView     `json:"spans"` // of the next four weeks
	Events   []happenedView `json:"events"`
}

type spanView struct {
	From time.Time `json:"from"`
	To   time.Time `json:"to"`
}

type happenedView struct {
	spanView
	Summary string `json:"summary"`
}

// Of a calendar, so much is told.
const (
	lookAhead   = 28 * 24 * time.Hour
	shownEvents = 200
)

func (s *Server) viewCalendar(row *alarm.Calendar, c *hours.Calendar) (*calendarView, error) {
	v := &calendarView{
		Name:     row.Name,
		Title:    row.Title,
		Zone:     row.Zone,
		Except:   strings.Fields(row.Except),
		Text:     row.Text,
		Revision: row.Revision,
		Spans:    []spanView{},
		Events:   []happenedView{},
		Uses:     []string{},
	}
	if c == nil {
		return v, nil
	}
	now := s.engine.Watch.Now()
	v.Covers = c.Covers(now)
	if v.Covers {
		v.Next = optional(c.NextEnd(now))
	} else {
		v.Next = optional(c.NextStart(now))
	}
	for _, span := range c.Spans(now, now.Add(lookAhead)) {
		v.Spans = append(v.Spans, spanView{span.From, span.To})
	}
	for _, h := range c.Happenings(now, now.Add(lookAhead)) {
		if len(v.Events) < shownEvents {
			v.Events = append(v.Events, happenedView{spanView{h.From, h.To}, h.Summary})
		}
	}
	uses, err := s.engine.Alarm.CalendarUses(row.Name)
	v.Uses = append(v.Uses, uses...)
	return v, err
}

func (s *Server) calendars(c *gin.Context) error {
	rows, err := s.engine.Alarm.Calendars()
	if err != nil {
		return err
	}
	out := make([]*calendarView, len(rows))
	for i := range rows {
		if out[i], err = s.viewCalendar(&rows[i], s.engine.Catalog.Calendar(rows[i].Name)); err != nil {
			return err
		}
	}
	return reply(c, out)
}

type calendarIn struct {
	Title  string   `json:"title"`
	Zone   string   `json:"zone"`
	Except []string `json:"except"`
	Text   string   `json:"text"`
}

func (in *calendarIn) row(name string) *alarm.Calendar {
	return &alarm.Calendar{
		Name:   name,
		Title:  in.Title,
		Zone:   in.Zone,
		Except: strings.Join(in.Except, " "),
		Text:   in.Text,
	}
}

func (s *Server) putCalendar(c *gin.Context) error {
	seen, err := revision(c)
	if err != nil {
		return err
	}
	var in calendarIn
	if err := input(c, &in); err != nil {
		return err
	}
	row := in.row(c.Param("name"))
	if _, err := s.engine.Alarm.SaveCalendar(c.Request.Context(), row, seen); err != nil {
		return err
	}
	v, err := s.viewCalendar(row, s.engine.Catalog.Calendar(row.Name))
	if err != nil {
		return err
	}
	return reply(c, v)
}

func (s *Server) deleteCalendar(c *gin.Context) error {
	if err := s.engine.Alarm.DropCalendar(c.Request.Context(), c.Param("name")); err != nil {
		return err
	}
	return done(c)
}

// previewCalendar shows what a calendar comes to that is not saved.
func (s *Server) previewCalendar(c *gin.Context) error {
	var in calendarIn
	if err := input(c, &in); err != nil {
		return err
	}
	rows, err := s.engine.Alarm.Calendars()
	if err != nil {
		return err
	}
	row := in.row(" ") // a name that no saved one has
	read, failed := catalog.CalendarsOf(append(rows, *row))
	if err := failed[row.Name]; err != nil {
		return bad("%w", err)
	}
	v, err := s.viewCalendar(row, read[row.Name])
	if err != nil {
		return err
	}
	v.Name = ""
	return reply(c, v)
}

package api

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"readyferry/core/access"
	"readyferry/core/flow"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/run"
	"readyferry/engine/catalog"
	"readyferry/engine/design"
	"readyferry/engine/watch"
)

// flowView is a flow in the list.
type flowView struct {
	Name      string        `json:"name"`
	Title     string        `json:"title"`
	Live      int           `json:"live"` // version in use, 0: none
	Paused    bool          `json:"paused"`
	Edits     int           `json:"edits"`   // changes of the draft since the live version
	Trial     *trialView    `json:"trial"`   // null where all messages go through the live version
	Planned   *plannedView  `json:"planned"` // null where none waits for its time
	UpdatedAt time.Time     `json:"updatedAt"`
	Intake    intakeView    `json:"intake"`
	Today     int64         `json:"today"`
	Waiting   int64         `json:"waiting"`
	Dead      int64         `json:"deadLetters"`
	LastHour  []minuteCount `json:"lastHour"` // the minutes that had something
	// Trouble is why nothing comes in; null when its source works.
	Trouble *troubleView `json:"trouble"`
}

// trialView is a version that takes one message in Of.
type trialView struct {
	Version int       `json:"version"`
	Of      int       `json:"of"`
	Since   time.Time `json:"since"`
}

type plannedView struct {
	Version int       `json:"version"`
	At      time.Time `json:"at"`
}

type troubleView struct {
	Since time.Time `json:"since"`
	Why   string    `json:"why"`
	Times int       `json:"times"` // failures in a row
}

type intakeView struct {
	Kind    string   `json:"kind"`
	Where   string   `json:"where"` // path, queue or topic
	Methods []string `json:"methods"`
}

type minuteCount struct {
	Minute      time.Time `json:"minute"`
	UnderWay    int64     `json:"underWay"`
	Waiting     int64     `json:"waiting"`
	Delivered   int64     `json:"delivered"`
	TurnedAway  int64     `json:"turnedAway"`
	DeadLetters int64     `json:"deadLetters"`
}

func (m *minuteCount) add(state watch.State, n int64) {
	switch state {
	case watch.UnderWay:
		m.UnderWay += n
	case watch.Waiting:
		m.Waiting += n
	case watch.Delivered:
		m.Delivered += n
	case watch.TurnedAway:
		m.TurnedAway += n
	case watch.DeadLetter:
		m.DeadLetters += n
	}
}

func byMinute(counts []watch.Count) []minuteCount {
	out := []minuteCount{}
	for _, c := range counts {
		if len(out) == 0 || !out[len(out)-1].Minute.Equal(c.Minute) {
			out = append(out, minuteCount{Minute: c.Minute})
		}
		out[len(out)-1].add(c.State, c.N)
	}
	return out
}

func (s *Server) flows(c *gin.Context) error {
	rows, err := s.engine.Watch.Flows()
	if err != nil {
		return err
	}
	rows = visible(s, c, rows, access.Flow, func(f *watch.Flow) string { return f.Name })
	now := time.Now().UTC()
	today := now.Truncate(24 * time.Hour)
	if from, err := time.Parse(time.RFC3339, c.Query("today")); err == nil && from.After(now.Add(-25*time.Hour)) {
		today = from // midnight where the reader is
	}
	counts, err := s.engine.Watch.Counts(s.flowsSeen(c), today, now)
	if err != nil {
		return err
	}
	totals, err := s.engine.Watch.Totals()
	if err != nil {
		return err
	}
	hour := map[string][]watch.Count{}
	recent, err := s.engine.Watch.Counts(s.flowsSeen(c), now.Add(-59*time.Minute), now)
	if err != nil {
		return err
	}
	for _, n := range recent {
		hour[n.Flow] = append(hour[n.Flow], n)
	}
	failing, err := s.failing()
	if err != nil {
		return err
	}
	out := make([]flowView, 0, len(rows))
	for _, f := range rows {
		v := s.flowView(f)
		v.Trouble = failing[f.Name]
		for _, n := range counts {
			if n.Flow == f.Name {
				v.Today += n.N
			}
		}
		for _, n := range totals {
			if n.Flow == f.Name {
				switch n.State {
				case watch.Waiting:
					v.Waiting += n.N
				case watch.DeadLetter:
					v.Dead += n.N
				}
			}
		}
		v.LastHour = byMinute(hour[f.Name])
		out = append(out, v)
	}
	return reply(c, out)
}

func (s *Server) flowView(f watch.Flow) flowView {
	v := flowView{
		Name:      f.Name,
		Title:     f.Title,
		Live:      f.Live,
		Paused:    f.Paused,
		Edits:     f.Edits,
		UpdatedAt: f.UpdatedAt,
		LastHour:  []minuteCount{},
	}
	if f.Trial > 0 && f.TrialAt != nil {
		v.Trial = &trialView{f.Trial, f.TrialOf, *f.TrialAt}
	}
	if f.Planned > 0 && f.PlannedAt != nil {
		v.Planned = &plannedView{f.Planned, *f.PlannedAt}
	}
	v.Intake.Methods = []string{}
	if in := s.engine.Watch.IntakeOf(f.Name); in != nil {
		v.Intake = intakeView{Kind: in.Kind, Where: in.Path, Methods: in.Methods}
		switch in.Kind {
		case "queue":
			v.Intake.Where, v.Intake.Methods = in.Queue, []string{}
		case "topic":
			v.Intake.Where, v.Intake.Methods = in.Topic, []string{}
		case "schedule":
			v.Intake.Where, v.Intake.Methods = due(in), []string{}
		case "poll", "table":
			v.Intake.Where, v.Intake.Methods = in.Of+" "+in.Table+due(in), []string{}
		case "webhook":
		case "subflow", "load":
			v.Intake.Methods = []string{}
		default:
			v.Intake.Where, v.Intake.Methods = strings.TrimSpace(in.Of+" "+s.placeOf(in)), []string{}
		}
	}
	return v
}

// placeOf gives the first setting that an intake of an outside system must have: its
// topic, queue, stream or filter.
func (s *Server) placeOf(in *flow.Intake) string {
	system := s.engine.Catalog.Systems().Find(in.Kind)
	if system == nil || system.Intake == nil || system.Intake.Get("required") == nil {
		return ""
	}
	for _, name := range system.Intake.Get("required").Items {
		if n := in.Settings.Get(name.Text); n != nil {
			return n.Text
		}
	}
	return ""
}

// due says in a few words when an intake is due.
func due(in *flow.Intake) string {
	switch t := in.Timing; {
	case t.Cron != "" && t.Zone != "":
		return t.Cron + ", " + t.Zone
	case t.Cron != "":
		return t.Cron + ", UTC"
	case t.Every > 0:
		return " every " + run.Span(t.Every)
	}
	return " every " + run.Span(flow.DefaultPoll)
}

// draftView is a flow with its draft.
type draftView struct {
	flowView
	Revision int64           `json:"revision"`
	Document json.RawMessage `json:"document"`
	Text     string          `json:"text"` // the same as YAML, as it was written
	Findings []flow.Finding  `json:"findings"`
	KeepsAll bool            `json:"keepsAll"`        // where it does not say how long
	Asked    *askedView      `json:"asked,omitempty"` // waits for a second person
}

func (s *Server) flow(c *gin.Context) error {
	f, err := s.engine.Watch.Flow(c.Param("name"))
	if err != nil {
		return err
	}
	etag(c, f.Revision)
	if c.NegotiateFormat("application/json", "application/yaml", "text/yaml") != "application/json" {
		c.Data(http.StatusOK, "application/yaml; charset=utf-8", []byte(f.Draft))
		return nil
	}
	return s.draft(c, f)
}

func (s *Server) draft(c *gin.Context, f watch.Flow) error {
	files, err := s.engine.Watch.Files(f.Name)
	if err != nil {
		return err
	}
	failing, err := s.failing()
	if err != nil {
		return err
	}
	source, syntax := flow.Parse([]byte(f.Draft))
	v := draftView{flowView: s.flowView(f), Revision: f.Revision, Text: f.Draft, Document: json.RawMessage("null"),
		KeepsAll: f.KeepsAll}
	v.Trouble = failing[f.Name]
	if syntax == nil {
		v.Document = jsonfmt.Encode(source.Root)
	}
	_, v.Findings = s.engine.Design.Read(f.Name, []byte(f.Draft), files)
	asked, same, err := s.engine.Design.AskedFor(f, files)
	if err != nil {
		return err
	}
	if asked != nil {
		v.Asked = viewAsked(asked, same)
	}
	return reply(c, v)
}

func (s *Server) putFlow(c *gin.Context) error {
	document, err := body(c, flow.MaxSize)
	if err != nil {
		return err
	}
	seen, err := revision(c)
	if err == nil {
		err = s.mayArea(c, access.Design, access.Flow, c.Param("name"), document)
	}
	if err != nil {
		return err
	}
	next, _, err := s.engine.Design.SaveDraft(c.Request.Context(), c.Param("name"), document, seen)
	if err != nil {
		return err
	}
	etag(c, next)
	f, err := s.engine.Watch.Flow(c.Param("name"))
	if err != nil {
		return err
	}
	return s.draft(c, f)
}

func (s *Server) deleteFlow(c *gin.Context) error {
	if err := s.engine.Design.Delete(c.Request.Context(), c.Param("name"), sure(c)); err != nil {
		return err
	}
	return done(c)
}

// checked is a document in both of its forms, with what is wrong in it.
type checked struct {
	Document json.RawMessage `json:"document"` // null when it cannot be read
	Text     string          `json:"text"`
	Findings []flow.Finding  `json:"findings"`
}

func (s *Server) checkFlow(c *gin.Context) error {
	document, err := body(c, flow.MaxSize)
	if err != nil {
		return err
	}
	files, err := s.engine.Watch.Files(c.Param("name"))
	if err != nil {
		return err
	}
	out, err := read(document)
	if err != nil {
		return err
	}
	_, out.Findings = s.engine.Design.Read(c.Param("name"), []byte(out.Text), files)
	return reply(c, out)
}

// read gives a document as a map and as text, as far as it can be read.
func read(document []byte) (checked, error) {
	out := checked{Document: json.RawMessage("null"), Text: string(document)}
	source, syntax := flow.Parse(document)
	if syntax != nil {
		return out, nil // the findings say so
	}
	out.Document = jsonfmt.Encode(source.Root)
	if strings.HasPrefix(strings.TrimSpace(string(document)), "{") {
		text, err := flow.Write(source.Root)
		if err != nil {
			return out, err
		}
		out.Text = string(text)
	}
	return out, nil
}

func (s *Server) pause(paused bool) handler {
	return func(c *gin.Context) error {
		if err := s.engine.Design.Pause(c.Request.Context(), c.Param("name"), paused, sure(c)); err != nil {
			return err
		}
		f, err := s.engine.Watch.Flow(c.Param("name"))
		if err != nil {
			return err
		}
		failing, err := s.failing()
		if err != nil {
			return err
		}
		v := s.flowView(f)
		v.Trouble = failing[f.Name]
		return reply(c, v)
	}
}

// documentIn gives a document that stands in an input as a map, or as a string of YAML; nil for none.
func documentIn(b json.RawMessage) []byte {
	if len(b) == 0 || string(b) == "null" {
		return nil
	}
	var text string
	if json.Unmarshal(b, &text) == nil {
		return []byte(text)
	}
	return b
}

func (s *Server) rehearse(c *gin.Context) error {
	var in struct {
		Document json.RawMessage  `json:"document"` // a map, or a string of YAML
		Samples  []catalog.Sample `json:"samples"`
	}
	if err := input(c, &in); err != nil {
		return err
	}
	if err := s.mayWalk(c, documentIn(in.Document)); err != nil {
		return err
	}
	out, findings, err := s.engine.Design.RehearseSamples(c.Param("name"), documentIn(in.Document), in.Samples)
	if err != nil {
		return err
	}
	if len(out) == 0 && flow.HasErrors(findings) {
		return &design.FindingsError{What: "the document cannot be rehearsed", Findings: findings}
	}
	for i := range out {
		out[i].Findings = findings
	}
	return reply(c, out)
}

func (s *Server) demo(c *gin.Context) error {
	if s.loadDemo == nil {
		return errors.New("this build has no demo")
	}
	if err := s.loadDemo(); err != nil {
		return fmt.Errorf("loading the demo: %w", err)
	}
	return done(c)
}

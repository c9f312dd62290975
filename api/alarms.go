package api

import (
	"encoding/json"
	"slices"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"readyferry/core/access"
	core "readyferry/core/alarm"
	"readyferry/engine/alarm"
	"readyferry/engine/watch"
)

// alarmView is one time that a rule found something.
type alarmView struct {
	ID     watch.ID   `json:"id"`
	Rule   string     `json:"rule"`
	Title  string     `json:"title"`
	Kind   string     `json:"kind"`
	Of     string     `json:"of"`    // what the thing is: a flow, a queue, a connection; "" for the machine
	About  string     `json:"about"` // its name
	Words  string     `json:"words"`
	Value  float64    `json:"value"`
	Worst  float64    `json:"worst"`
	Unit   string     `json:"unit"`
	Since  time.Time  `json:"since"`
	Ended  *time.Time `json:"ended"`
	Urgent bool       `json:"urgent"`
	Advice string     `json:"advice"`
	Taken  *takenView `json:"taken"` // who has it in hand
}

type takenView struct {
	At   time.Time `json:"at"`
	By   string    `json:"by"`
	Note string    `json:"note"`
}

func (s *Server) viewAlarm(r *alarm.Ring) alarmView {
	v := alarmView{ID: r.ID, Rule: r.Rule, Title: r.Rule, About: r.Subject, Value: r.Value, Worst: r.Worst,
		Since: r.Began, Ended: r.Ended}
	if rule, err := s.engine.Alarm.Rule(r.Rule); err == nil {
		k := core.Find(rule.Watch)
		v.Title, v.Kind, v.Of, v.Unit, v.Urgent = rule.Title, k.Name, string(k.Of), k.Unit, rule.Urgent
		v.Words, v.Advice = rule.Words(), rule.Says()
	}
	if r.AckedAt != nil {
		v.Taken = &takenView{*r.AckedAt, r.AckedBy, r.Note}
	}
	return v
}

// alarms lists what rings now, or with state=all what rang as well, the newest first.
// ringsSeen keeps those alarms that are about what who calls may see.
func (s *Server) ringsSeen(c *gin.Context, rows []alarm.Ring) []alarm.Ring {
	if who(c).Everywhere(access.See) {
		return rows
	}
	return slices.DeleteFunc(rows, func(r alarm.Ring) bool { return !s.subjectSeen(c, r.Subject) })
}

// subjectSeen tells whether what an alarm is about may be seen: a flow, a queue or a
// connection, of which it has the name alone.
func (s *Server) subjectSeen(c *gin.Context, name string) bool {
	first, _, _ := strings.Cut(name, "/")
	seen, there := true, false
	for _, kind := range []string{access.Flow, access.Connection, access.Queue, access.Topic} {
		if t := s.engine.Catalog.Thing(kind, first); t.Area != "" || kind == access.Flow && s.engine.Catalog.Flow(first) != nil ||
			kind == access.Connection && s.engine.Catalog.Connection(first) != nil {
			there, seen = true, seen && who(c).May(access.See, t)
		}
	}
	return there && seen
}

func (s *Server) alarms(c *gin.Context) error {
	n, err := limit(c, 100, 1000)
	if err != nil {
		return err
	}
	var rows []alarm.Ring
	switch c.DefaultQuery("state", "now") {
	case "now":
		rows, err = s.engine.Watch.OpenRings()
	case "all":
		var after *watch.ID
		if text := c.Query("after"); text != "" {
			id, bad := watch.ParseID(text)
			if bad != nil {
				return bad
			}
			after = &id
		}
		rows, err = s.engine.Watch.Rings(c.Query("rule"), after, n)
	default:
		return bad("state must be now or all, not %q", c.Query("state"))
	}
	if err != nil {
		return err
	}
	rows = s.ringsSeen(c, rows)
	out := make([]alarmView, len(rows))
	for i := range rows {
		out[i] = s.viewAlarm(&rows[i])
	}
	return reply(c, out)
}

// takeAlarm notes who has an alarm in hand, and leaveAlarm that nobody has any more.
func (s *Server) takeAlarm(c *gin.Context) error {
	var in byWhom
	if err := input(c, &in); err != nil {
		return err
	}
	if in.By = s.by(c, in.By); strings.TrimSpace(in.By) == "" {
		in.By = "a person"
	}
	return s.taken(c, in, true)
}

func (s *Server) leaveAlarm(c *gin.Context) error { return s.taken(c, byWhom{}, false) }

func (s *Server) taken(c *gin.Context, in byWhom, taken bool) error {
	one, err := id(c)
	if err != nil {
		return err
	}
	if err := s.engine.Alarm.Acknowledge(c.Request.Context(), one, in.By, in.Note, taken); err != nil {
		return err
	}
	return done(c)
}

// alarmKinds lists what can be watched.
func (s *Server) alarmKinds(c *gin.Context) error {
	type view struct {
		Name   string  `json:"name"`
		Title  string  `json:"title"`
		Of     string  `json:"of"`
		Unit   string  `json:"unit"`
		Counts bool    `json:"counts"`
		Below  bool    `json:"below"`
		Limit  float64 `json:"limit"`
		Advice string  `json:"advice"`
	}
	out := make([]view, len(core.Kinds))
	for i, k := range core.Kinds {
		out[i] = view{k.Name, k.Title, string(k.Of), k.Unit, k.Window, k.Below, k.Limit, k.Advice}
	}
	return reply(c, out)
}

type ruleView struct {
	Name     string    `json:"name"`
	Words    string    `json:"words"`
	Ringing  int       `json:"ringing"`
	Revision int64     `json:"revision"`
	By       string    `json:"by"` // who saved it last
	Rule     core.Rule `json:"rule"`
}

func (s *Server) alarmRules(c *gin.Context) error {
	open, err := s.engine.Watch.OpenRings()
	if err != nil {
		return err
	}
	ringing := map[string]int{}
	for _, r := range open {
		ringing[r.Rule]++
	}
	rules := s.engine.Alarm.Rules()
	if !who(c).Everywhere(access.See) {
		rules = slices.DeleteFunc(slices.Clone(rules), func(r *alarm.Rule) bool { return r.Of != "" && !s.subjectSeen(c, r.Of) })
	}
	out := make([]ruleView, len(rules))
	for i, r := range rules {
		out[i] = viewRule(r, ringing[r.Name])
	}
	return reply(c, out)
}

func viewRule(r *alarm.Rule, ringing int) ruleView {
	rule := r.Rule
	if rule.Tell == nil {
		rule.Tell = []core.Receiver{}
	}
	return ruleView{r.Name, rule.Words(), ringing, r.Revision, r.By, rule}
}

func (s *Server) putAlarmRule(c *gin.Context) error {
	seen, err := revision(c)
	if err != nil {
		return err
	}
	var in core.Rule
	if err := input(c, &in); err != nil {
		return err
	}
	if _, err := s.engine.Alarm.SaveRule(c.Request.Context(), c.Param("name"), &in, seen); err != nil {
		return err
	}
	r, err := s.engine.Alarm.Rule(c.Param("name"))
	if err != nil {
		return err
	}
	return reply(c, viewRule(r, 0))
}

func (s *Server) deleteAlarmRule(c *gin.Context) error {
	if err := s.engine.Alarm.DropRule(c.Request.Context(), c.Param("name")); err != nil {
		return err
	}
	return done(c)
}

// tryAlarmRule tells when a rule would have rung in the past.
func (s *Server) tryAlarmRule(c *gin.Context) error {
	var in struct {
		Rule core.Rule `json:"rule"`
		Days int       `json:"days"`
	}
	if err := input(c, &in); err != nil {
		return err
	}
	if in.Days == 0 {
		in.Days = 7
	}
	if in.Days < 1 || in.Days > 35 {
		return bad("days must be between 1 and 35, not %d", in.Days)
	}
	past, err := s.engine.Alarm.Try(&in.Rule, time.Duration(in.Days)*24*time.Hour)
	if err != nil {
		return err
	}
	type ring struct {
		Of    string     `json:"about"`
		Began time.Time  `json:"began"`
		Ended *time.Time `json:"ended"`
		Worst float64    `json:"worst"`
	}
	rings := make([]ring, len(past.Rings))
	for i, r := range past.Rings {
		rings[i] = ring{r.Of, r.Began, optional(r.Ended), r.Worst}
	}
	out := gin.H{"from": past.From, "to": past.To, "total": past.Total, "rings": rings, "known": optional(past.Known),
		"worst": nil, "worstOf": past.Of}
	if past.Any {
		out["worst"] = past.Most
	}
	return reply(c, out)
}

// optional gives a moment, nil where it is none.
func optional(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	return &t
}

// alarmNotices lists what was told to whom, and what could not be.
func (s *Server) alarmNotices(c *gin.Context) error {
	n, err := limit(c, 100, 1000)
	if err != nil {
		return err
	}
	if !who(c).Everywhere(access.See) {
		return reply(c, []any{}) // a notice is about all that rang
	}
	rows, err := s.engine.Alarm.Notices(n)
	if err != nil {
		return err
	}
	type view struct {
		ID     watch.ID      `json:"id"`
		At     time.Time     `json:"at"`
		To     core.Receiver `json:"to"`
		Title  string        `json:"title"`
		Alarms int           `json:"alarms"`
		State  string        `json:"state"`
		Tries  int           `json:"tries"`
		NextAt *time.Time    `json:"nextTryAt"`
		Error  string        `json:"error"`
	}
	out := make([]view, len(rows))
	for i, r := range rows {
		v := view{ID: r.ID, At: r.At, State: "failed", Tries: r.Tries, NextAt: r.Next, Error: r.Error}
		switch {
		case r.Done:
			v.State = "taken"
		case r.Next != nil:
			v.State = "on its way"
		}
		var told alarm.Told
		if err := json.Unmarshal(r.To, &v.To); err != nil {
			return err
		}
		if err := json.Unmarshal(r.Body, &told); err != nil {
			return err
		}
		v.Title, v.Alarms = told.Title, len(told.Alarms)
		out[i] = v
	}
	return reply(c, out)
}

package api

import (
	"encoding/json"
	"errors"
	"net/http"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"

	"readyferry/core/find"
	"readyferry/core/message"
	"readyferry/core/retry"
	"readyferry/core/run"
	"readyferry/core/want"
	"readyferry/engine/watch"
)

// transactionView is a transaction in the list.
type transactionView struct {
	ID         watch.ID   `json:"id"`
	Flow       string     `json:"flow"`
	Version    int        `json:"version"`
	State      string     `json:"state"`
	Reason     *string    `json:"reason"`
	Reference  string     `json:"reference"`
	Place      string     `json:"place"`     // path of the step where it is
	PlaceText  string     `json:"placeText"` // the same in words
	Tries      int        `json:"tries"`
	NextTryAt  *time.Time `json:"nextTryAt"`
	ReceivedAt time.Time  `json:"receivedAt"`
	FinishedAt *time.Time `json:"finishedAt"`
	Parent     *watch.ID  `json:"parent"` // of a part: its whole
	Part       *partView  `json:"part"`
	Parts      int        `json:"partCount"`
	Done       string     `json:"done"` // what was done with one that was delivered, in words
}

func viewTransaction(t *watch.Transaction) transactionView {
	v := transactionView{
		ID: t.ID, Flow: t.Flow, Version: t.Version, State: t.State.String(), Reference: t.Reference,
		Place: t.Place, PlaceText: t.PlaceText, Tries: t.Tries, NextTryAt: t.NextTryAt, ReceivedAt: t.ReceivedAt,
		FinishedAt: t.FinishedAt,
		Parent:     t.Parent, Parts: t.Parts,
	}
	if t.Parent != nil {
		v.Part = &partView{t.SplitPath, t.PartIndex}
	}
	if t.Reason != "" {
		v.Reason = &t.Reason
	}
	return v
}

// transactions lists transactions, the newest first, and says how many there are.
func (s *Server) transactions(c *gin.Context) error {
	parent, err := idIn(c, "parent", "a transaction")
	if err != nil {
		return err
	}
	q, err := s.query(c)
	if err != nil {
		return err
	}
	var rows []watch.Transaction
	if parent != nil {
		rows, err = s.engine.Watch.Parts(*parent, q.State, q.After, q.Limit)
	} else {
		rows, err = s.engine.Watch.List(q)
	}
	if err != nil {
		return err
	}
	if parent == nil && c.Query("count") == "true" {
		n, more, err := s.engine.Watch.CountList(q)
		if err != nil {
			return err
		}
		c.Header("Total-Count", strconv.FormatInt(n, 10))
		if more {
			c.Header("Total-More", "true") // there are more than were counted
		}
	}
	out := make([]transactionView, len(rows))
	for i := range rows {
		out[i] = viewTransaction(&rows[i])
		out[i].Done = s.engine.Watch.Done(&rows[i])
	}
	return reply(c, out)
}

// query reads which transactions are asked for: by members of the query, and by filters in
// words.
func (s *Server) query(c *gin.Context) (q watch.Found, err error) {
	f, err := filter(c)
	if err != nil {
		return q, err
	}
	q = watch.Found{Filter: f, Now: time.Now().UTC(), In: time.UTC, First: c.Query("journeys") == "true"}
	if zone := c.Query("zone"); zone != "" {
		if q.In, err = time.LoadLocation(zone); err != nil {
			return q, bad("zone must be the name of a time zone such as Europe/London, not %q", zone)
		}
	}
	if q.Terms, err = find.Read(c.Query("filter")); err != nil {
		return q, bad("filter: %w", err)
	}
	return q, nil
}

func filter(c *gin.Context) (watch.Filter, error) {
	f := watch.Filter{Flow: c.Query("flow"), Reference: c.Query("reference")}
	var err error
	if f.Limit, err = limit(c, 100, 1000); err != nil {
		return f, err
	}
	if word := c.Query("state"); word != "" {
		state, ok := watch.ParseState(word)
		if !ok {
			return f, bad("state must be under way, waiting, delivered, turned away or dead letter, not %q", word)
		}
		f.State = &state
	}
	if f.From, err = moment(c, "from"); err != nil {
		return f, err
	}
	if f.To, err = moment(c, "to"); err != nil {
		return f, err
	}
	f.After, err = idIn(c, "after", "a transaction")
	return f, err
}

// idIn reads an id in the query; nil when it is not there.
func idIn(c *gin.Context, name, of string) (*watch.ID, error) {
	text := c.Query(name)
	if text == "" {
		return nil, nil
	}
	id, err := watch.ParseID(text)
	if err != nil {
		return nil, bad("%s must be the id of %s: %w", name, of, err)
	}
	return &id, nil
}

func moment(c *gin.Context, name string) (time.Time, error) {
	text := c.Query(name)
	if text == "" {
		return time.Time{}, nil
	}
	t, err := time.Parse(time.RFC3339, text)
	if err != nil {
		return t, bad("%s must be a time such as 2026-03-17T09:41:00Z, not %q", name, text)
	}
	return t.UTC(), nil
}

// counts serves the strip of time: how many transactions were received in each
// minute, by their present state.
func (s *Server) counts(c *gin.Context) error {
	from, err := moment(c, "from")
	if err != nil {
		return err
	}
	to, err := moment(c, "to")
	if err != nil {
		return err
	}
	if to.IsZero() {
		to = time.Now().UTC()
	}
	if from.IsZero() {
		from = to.Add(-2 * time.Hour)
	}
	if to.Before(from) {
		return bad("from and to must be in order")
	}
	step, err := number(c, "step")
	if err != nil {
		return err
	}
	if span := to.Sub(from); span > 48*time.Hour && step == 0 {
		step = int64(span.Minutes()/300) + 1
	}
	var counts []watch.Count
	if step > 1 {
		counts, err = s.engine.Watch.CountsBy(c.Query("flow"), from, to, step)
	} else {
		counts, err = s.engine.Watch.Counts(c.Query("flow"), from, to)
	}
	if err != nil {
		return err
	}
	return reply(c, byMinute(counts))
}

// deliveryView is a delivery with all that is known of its tries.
type deliveryView struct {
	ID        watch.ID           `json:"id"`
	Path      string             `json:"path"`
	Step      string             `json:"step"`
	Target    string             `json:"target"`
	State     string             `json:"state"`
	Tries     []tryView          `json:"tries"`
	NextTryAt *time.Time         `json:"nextTryAt"`
	Upcoming  []watch.PlannedTry `json:"upcoming"`
	Plan      planView           `json:"plan"`
	Behind    bool               `json:"behind"` // waits for an earlier one of the same order value
	Request   run.ShownRequest   `json:"request"`
}

type tryView struct {
	N       int              `json:"n"`
	Round   int              `json:"round"` // grows with every resend
	At      time.Time        `json:"at"`
	Took    float64          `json:"took"` // milliseconds
	Outcome string           `json:"outcome"`
	Status  int              `json:"status"` // 0: no answer came
	Detail  string           `json:"detail"`
	Headers []message.Header `json:"headers"`
	Body    string           `json:"body"`
}

// planView is a retry plan; durations in milliseconds.
type planView struct {
	First  int64   `json:"first"`
	Growth string  `json:"growth"`
	Factor float64 `json:"factor"`
	Cap    int64   `json:"cap"`
	Spread string  `json:"spread"`
	Tries  int     `json:"tries"`
	Within int64   `json:"within"`
}

func viewPlan(p retry.Plan) planView {
	return planView{
		p.First.Milliseconds(),
		p.Growth,
		p.Factor,
		p.Cap.Milliseconds(),
		p.Spread,
		p.Tries,
		p.Within.Milliseconds(),
	}
}

func (s *Server) transaction(c *gin.Context) error {
	id, err := id(c)
	if err != nil {
		return err
	}
	t, err := s.engine.Watch.Transaction(id)
	if err != nil {
		return err
	}
	first, err := s.engine.Watch.FirstMessage(id)
	if err != nil {
		return err
	}
	rows, err := s.engine.Watch.Deliveries(id)
	if err != nil {
		return err
	}
	letters, err := s.engine.Watch.LettersOf(id)
	if err != nil {
		return err
	}
	deliveries := make([]deliveryView, 0, len(rows))
	for i := range rows {
		v, err := s.viewDelivery(&rows[i])
		if err != nil {
			return err
		}
		deliveries = append(deliveries, v)
	}
	views := make([]letterView, 0, len(letters))
	for i := range letters {
		views = append(views, viewLetter(&letters[i]))
	}
	warnings := []string{}
	if len(first.Warnings) > 0 && string(first.Warnings) != "null" {
		if err := json.Unmarshal(first.Warnings, &warnings); err != nil {
			return err
		}
	}
	progress, parts, err := s.parts(&t)
	if err != nil {
		return err
	}
	groups, group, err := s.gathering(&t)
	if err != nil {
		return err
	}
	called, about, err := s.calls(&t)
	if err != nil {
		return err
	}
	c.JSON(http.StatusOK, struct {
		transactionView
		Caller      *watch.ID      `json:"caller"`     // the transaction whose subflow it is
		CallerPath  string         `json:"callerPath"` // the step there
		Called      []calledView   `json:"called"`     // transactions that its subflows have begun
		LetterOf    *watch.ID      `json:"letterOf"`   // the transaction whose dead letter its steps tell of
		Source      string         `json:"source"`
		Size        int            `json:"size"`
		Warnings    []string       `json:"warnings"`
		Parts       []watch.ID     `json:"parts"` // the first hundred
		Progress    []progressView `json:"progress"`
		Groups      []membership   `json:"groups"` // that it is a member of
		Group       *goneOn        `json:"group"`  // that goes on in it
		Deliveries  []deliveryView `json:"deliveries"`
		DeadLetters []letterView   `json:"deadLetters"`
	}{viewTransaction(&t), t.Caller, t.CallerPath, called, about, first.Source, int(first.Body.Size()), warnings, parts,
		progress, groups, group, deliveries, views})
	return nil
}

type calledView struct {
	ID    watch.ID `json:"id"`
	Flow  string   `json:"flow"`
	Path  string   `json:"path"`
	State string   `json:"state"`
}

// calls lists what a transaction has begun in other flows, and the transaction
// whose dead letter it tells of.
func (s *Server) calls(t *watch.Transaction) ([]calledView, *watch.ID, error) {
	rows, err := s.engine.Watch.Called(t.ID, 100)
	if err != nil {
		return nil, nil, err
	}
	out := make([]calledView, len(rows))
	for i, r := range rows {
		out[i] = calledView{r.ID, r.Flow, r.CallerPath, r.State.String()}
	}
	if t.OfLetter == nil {
		return out, nil, nil
	}
	l, err := s.engine.Watch.Letter(*t.OfLetter)
	if err != nil {
		return nil, nil, err
	}
	return out, &l.Tx, nil
}

func (s *Server) viewDelivery(d *watch.Delivery) (deliveryView, error) {
	v := deliveryView{
		ID:        d.ID,
		Path:      d.Path,
		Step:      d.Step,
		Target:    d.Target,
		State:     d.State.String(),
		NextTryAt: d.NextAt,
		Tries:     []tryView{},
		Behind:    d.State == watch.Behind,
	}
	var rules retry.Plan
	if err := json.Unmarshal(d.Plan, &rules); err != nil {
		return v, err
	}
	v.Plan = viewPlan(rules)
	var request want.Request
	if err := errors.Join(json.Unmarshal(d.Request, &request), s.engine.Watch.FillOf(d.Tx, &d.Body)); err != nil {
		return v, err
	}
	request.Body = d.Body.Bytes()
	v.Request = run.ShowDelivery(
		d.Tx.String(),
		d.Path,
		d.Step,
		&want.Send{System: "http", Connection: d.Target, Request: &request},
	).Request
	tries, err := s.engine.Watch.Tries(d.ID)
	if err != nil {
		return v, err
	}
	for _, t := range tries {
		headers, err := want.DecodeHeaders(t.Headers)
		if err != nil {
			return v, err
		}
		if headers == nil {
			headers = []message.Header{}
		}
		v.Tries = append(
			v.Tries,
			tryView{
				t.N,
				t.Round,
				t.At,
				float64(t.Took) / 1000,
				t.Outcome,
				t.Status,
				t.Detail,
				headers,
				string(t.Body.Bytes()),
			},
		)
	}
	v.Upcoming, err = s.engine.Watch.Upcoming(d)
	return v, err
}

func (s *Server) transactionRehearsal(c *gin.Context) error {
	id, err := id(c)
	if err != nil {
		return err
	}
	r, err := s.engine.Watch.Inspect(id)
	if err != nil {
		return err
	}
	return reply(c, r)
}

// transactionMessages lists the message as it was received and its repairs.
func (s *Server) transactionMessages(c *gin.Context) error {
	id, err := id(c)
	if err != nil {
		return err
	}
	if _, err := s.engine.Watch.Transaction(id); err != nil {
		return err
	}
	rows, err := s.engine.Watch.Messages(id)
	if err != nil {
		return err
	}
	type view struct {
		N       int              `json:"n"` // 0: as received
		Source  string           `json:"source"`
		Headers []message.Header `json:"headers"`
		Params  []message.Header `json:"params"`
		Query   []message.Header `json:"query"`
		Body    *run.Body        `json:"body"`
	}
	out := make([]view, 0, len(rows))
	for _, m := range rows {
		v := view{
			N:       m.N,
			Source:  m.Source,
			Headers: []message.Header{},
			Params:  []message.Header{},
			Query:   []message.Header{},
			Body:    run.NewBody("", m.Body.Bytes()),
		}
		if name, tree, err := s.engine.Watch.Tree(id, &m); err != nil {
			return err
		} else if tree != "" {
			raw := m.Body.Bytes()
			v.Body = &run.Body{Format: name, Base64: raw, Tree: &tree}
		}
		for _, part := range []struct {
			from []byte
			into *[]message.Header
		}{{m.Headers, &v.Headers}, {m.Params, &v.Params}, {m.Query, &v.Query}} {
			var err error
			if *part.into, err = want.DecodeHeaders(part.from); err != nil {
				return err
			}
			if *part.into == nil {
				*part.into = []message.Header{}
			}
		}
		out = append(out, v)
	}
	return reply(c, out)
}

func (s *Server) tryNow(c *gin.Context) error {
	id, err := id(c)
	if err == nil {
		err = s.engine.Lane.TryNow(c.Request.Context(), id)
	}
	if err != nil {
		return err
	}
	return done(c)
}

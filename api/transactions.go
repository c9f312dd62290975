package api

import (
	"encoding/json"
	"errors"
	"net/http"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"

	"readyferry/core/access"
	"readyferry/core/find"
	"readyferry/core/message"
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
	counted := func() error { return nil }
	if parent != nil {
		rows, err = s.engine.Watch.Parts(*parent, q.State, q.After, q.Limit)
	} else {
		if c.Query("count") == "true" {
			counted = s.count(c, q)
		}
		rows, err = s.engine.Watch.List(q)
	}
	if err = errors.Join(err, counted()); err != nil {
		return err
	}
	out := make([]transactionView, len(rows))
	for i := range rows {
		out[i] = viewTransaction(&rows[i])
		out[i].Done = s.engine.Watch.Done(&rows[i])
	}
	return reply(c, out)
}

// count counts what a list has in all while the list is read; the function waits for it, and
// tells it.
func (s *Server) count(c *gin.Context, q watch.Found) (tell func() error) {
	var n int64
	var more bool
	var failed error
	done := make(chan struct{})
	go func() {
		defer close(done)
		n, more, failed = s.engine.Watch.CountList(q)
	}()
	return func() error {
		if <-done; failed != nil {
			return failed
		}
		c.Header("Total-Count", strconv.FormatInt(n, 10))
		if more {
			c.Header("Total-More", "true") // there are more than were counted
		}
		return nil
	}
}

// query reads which transactions are asked for: by members of the query, and by filters in
// words.
func (s *Server) query(c *gin.Context) (q watch.Found, err error) {
	f, err := filter(c)
	if err != nil {
		return q, err
	}
	f.Of = s.flowsSeen(c)
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
		if !s.may(c, access.Bodies, access.Flow, t.Flow) {
			v.withoutBodies()
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
	called = visible(s, c, called, access.Flow, func(v *calledView) string { return v.Flow })
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

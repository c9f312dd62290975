package api

import (
	"net/http"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"

	"readyferry/core/access"
	"readyferry/core/find"
	"readyferry/engine/repair"
	"readyferry/engine/watch"
)

// repairIn is a decision about many.
type repairIn struct {
	decided
	Letters      *letterChoice `json:"letters"`      // open letters by what they have
	Transactions *txChoice     `json:"transactions"` // that are sent again
	What         string        `json:"what"`         // resend, discard or again
	NewKeys      bool          `json:"newKeys"`
	Pace         int           `json:"pace"` // a second
	BeginAt      time.Time     `json:"beginAt"`
	Nightly      bool          `json:"nightly"`
	When         string        `json:"when"` // a connection that has to answer first
	Most         int           `json:"most"` // in one night
}

// letterChoice chooses open letters.
type letterChoice struct {
	Cause     string    `json:"cause"`
	Flow      string    `json:"flow"`
	Step      string    `json:"step"`
	Class     string    `json:"class"`
	Reference string    `json:"reference"`
	Reason    string    `json:"reason"`
	Assignee  string    `json:"assignee"`
	From      time.Time `json:"from"`
	To        time.Time `json:"to"`
}

// txChoice chooses transactions.
type txChoice struct {
	IDs       []string  `json:"ids"`
	Flow      string    `json:"flow"`
	State     string    `json:"state"`
	Reference string    `json:"reference"`
	Filter    string    `json:"filter"` // in words, as the list of transactions has it
	From      time.Time `json:"from"`
	To        time.Time `json:"to"`
}

func (s *Server) order(c *gin.Context) (o repair.Order, err error) {
	var in repairIn
	if err := input(c, &in); err != nil {
		return o, err
	}
	in.By = s.by(c, in.By)
	o = repair.Order{What: in.What, Decision: in.decision(), NewKeys: in.NewKeys, Pace: in.Pace, BeginAt: in.BeginAt,
		Nightly: in.Nightly, When: in.When, Most: in.Most}
	if o.What == "" {
		o.What = "resend"
		if in.Transactions != nil {
			o.What = "again"
		}
	}
	n := 0
	for _, given := range []bool{in.IDs != nil, in.Cause != "", in.Letters != nil, in.Transactions != nil} {
		if given {
			n++
		}
	}
	if n != 1 {
		return o, bad("say what it is about: one of ids, cause, letters and transactions")
	}
	o.Choice.Cause = in.Cause
	if o.Choice.IDs, err = in.ids(); err != nil {
		return o, err
	}
	if l := in.Letters; l != nil {
		o.Choice.Letters = &watch.LetterFilter{Cause: l.Cause, Flow: l.Flow, Step: l.Step, Class: l.Class,
			Reference: l.Reference, Reason: l.Reason, Assignee: l.Assignee, From: l.From.UTC(), To: l.To.UTC()}
	}
	if t := in.Transactions; t != nil {
		o.Choice.Transactions, o.Choice.TransactionIDs, err = t.choice()
	}
	if err == nil {
		err = s.mayChoose(c, &o)
	}
	if err == nil && !who(c).Everywhere(access.Unmask) && s.engine.Watch.Masking() {
		flows, bad := s.flowsOfLetters(c, o.Choice.IDs)
		if bad != nil {
			return o, bad
		}
		if o.Choice.IDs == nil { // any that a filter may find
			for _, f := range s.engine.Catalog.Flows() {
				flows = append(flows, f.Name)
			}
		}
		err = s.leavesMasked(c, &o.Decision, flows...)
	}
	return o, err
}

// mayChoose keeps a decision to the flows that who decides may work with: what a filter finds
// is narrowed to them, and what is named has to be of them.
func (s *Server) mayChoose(c *gin.Context, o *repair.Order) error {
	only := s.engine.Catalog.FlowsFor(who(c), access.Operate)
	if only == nil {
		return nil
	}
	if o.Choice.Cause != "" {
		o.Choice.Letters = &watch.LetterFilter{Cause: o.Choice.Cause}
	}
	if o.Choice.Letters != nil {
		o.Choice.Letters.Of = only
	}
	if o.Choice.Transactions != nil {
		o.Choice.Transactions.Of = only
	}
	for _, id := range o.Choice.TransactionIDs {
		t, err := s.engine.Watch.Transaction(id)
		if err == nil {
			err = s.mayFlows(c, access.Operate, t.Flow)
		}
		if err != nil {
			return err
		}
	}
	return s.mayLetters(c, access.Operate, o.Choice.IDs...)
}

func (t *txChoice) choice() (*watch.Found, []watch.ID, error) {
	ids, err := (&decided{IDs: t.IDs}).ids()
	if err != nil || ids != nil {
		return nil, ids, err
	}
	f := &watch.Found{Filter: watch.Filter{Flow: t.Flow, Reference: t.Reference, From: t.From.UTC(), To: t.To.UTC()},
		Now: time.Now().UTC(), In: time.UTC}
	if f.Terms, err = find.Read(t.Filter); err != nil {
		return nil, nil, bad("filter: %w", err)
	}
	if t.State != "" {
		state, ok := watch.ParseState(t.State)
		if !ok {
			return nil, nil, bad("state must be one of transactions, not %q", t.State)
		}
		f.State = &state
	}
	if f.Flow == "" && f.Reference == "" && f.From.IsZero() && len(f.Terms) == 0 {
		return nil, nil, bad("say of which flow, of which reference, or from when the transactions are")
	}
	return f, nil, nil
}

// previewRepair begins to look at what a decision about many would come to.
func (s *Server) previewRepair(c *gin.Context) error {
	o, err := s.order(c)
	if err != nil {
		return err
	}
	out, err := s.engine.Repair.Preview(c.Request.Context(), o)
	if err != nil {
		return err
	}
	c.JSON(http.StatusCreated, out)
	return nil
}

func (s *Server) repairPreview(c *gin.Context) error {
	out, err := s.engine.Repair.Look(c.Param("id"))
	if err != nil {
		return err
	}
	return reply(c, out)
}

func (s *Server) stopRepairPreview(c *gin.Context) error {
	if err := s.engine.Repair.StopLook(c.Param("id")); err != nil {
		return err
	}
	return done(c)
}

func (s *Server) repairPreviewLetters(c *gin.Context) error {
	n, err := limit(c, 100, 1000)
	if err != nil {
		return err
	}
	from, err := number(c, "from")
	if err != nil {
		return err
	}
	list, total, err := s.engine.Repair.Seen(c.Param("id"), c.Query("version"), c.Query("state"), int(from), n)
	if err != nil {
		return err
	}
	c.Header("Total-Count", strconv.Itoa(total))
	return reply(c, list)
}

func (s *Server) beginRepair(c *gin.Context) error {
	o, err := s.order(c)
	if err != nil {
		return err
	}
	row, err := s.engine.Repair.Begin(c.Request.Context(), o)
	if err != nil {
		return err
	}
	out, err := s.engine.Repair.Report(row.ID)
	if err != nil {
		return err
	}
	c.JSON(http.StatusCreated, out)
	return nil
}

func (s *Server) repairs(c *gin.Context) error {
	n, err := limit(c, 100, 1000)
	if err != nil {
		return err
	}
	after, err := idIn(c, "after", "a repair")
	if err != nil {
		return err
	}
	out, err := s.engine.Repair.Reports(s.flowsSeen(c), after, n)
	if err != nil {
		return err
	}
	return reply(c, out)
}

func (s *Server) repair(c *gin.Context) error {
	id, err := id(c)
	if err != nil {
		return err
	}
	out, err := s.engine.Repair.Report(id)
	if err != nil {
		return err
	}
	return reply(c, out)
}

func (s *Server) repairItems(c *gin.Context) error {
	id, err := id(c)
	if err != nil {
		return err
	}
	n, err := limit(c, 100, 1000)
	if err != nil {
		return err
	}
	after, err := number(c, "after")
	if err != nil {
		return err
	}
	out, err := s.engine.Repair.Items(id, after, n)
	if err != nil {
		return err
	}
	return reply(c, out)
}

func (s *Server) setRepair(what string) handler {
	return func(c *gin.Context) error {
		id, err := id(c)
		if err != nil {
			return err
		}
		if what == "stop" {
			err = s.engine.Repair.Stop(c.Request.Context(), id)
		} else {
			err = s.engine.Repair.Resume(c.Request.Context(), id)
		}
		if err != nil {
			return err
		}
		return done(c)
	}
}

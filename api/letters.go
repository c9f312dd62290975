package api

import (
	"encoding/json"
	"net/http"
	"slices"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"

	"readyferry/core/access"
	jsonfmt "readyferry/core/format/json"
	"readyferry/engine/catalog"
	"readyferry/engine/journal"
	"readyferry/engine/watch"
)

// letterView is a dead letter.
type letterView struct {
	ID          watch.ID  `json:"id"`
	Transaction watch.ID  `json:"transaction"`
	Flow        string    `json:"flow"`
	Version     int       `json:"version"`
	Step        string    `json:"step"`
	Path        string    `json:"path"`
	Kind        string    `json:"kind"`
	Phase       string    `json:"phase"`
	Class       string    `json:"class"` // data, flow or target
	Reason      string    `json:"reason"`
	Cause       string    `json:"cause"`
	Reference   string    `json:"reference"`
	State       string    `json:"state"` // open, resending, resolved, discarded, passed on
	At          time.Time `json:"at"`
	Assignee    string    `json:"assignee"`
}

func viewLetter(l *watch.Letter) letterView {
	return letterView{
		l.ID,
		l.Tx,
		l.Flow,
		l.Version,
		l.Step,
		l.Path,
		l.Kind,
		l.Phase,
		l.Class,
		l.Reason,
		l.Cause,
		l.Reference,
		l.State.String(),
		l.At,
		l.Assignee,
	}
}

// letterFilter reads which dead letters are asked for; without a state, the open ones.
func letterFilter(c *gin.Context) (watch.LetterFilter, error) {
	f := watch.LetterFilter{
		Cause:     c.Query("cause"),
		Flow:      c.Query("flow"),
		Step:      c.Query("step"),
		Class:     c.Query("class"),
		Reference: c.Query("reference"),
		Reason:    c.Query("reason"),
		Assignee:  c.Query("assignee"),
	}
	switch word := c.Query("state"); word {
	case "":
	case "all":
		f.States = watch.AllLetterStates()
	default:
		state, ok := watch.ParseLetterState(word)
		if !ok {
			return f, bad("state must be open, resending, resolved, discarded, passed on or all, not %q", word)
		}
		f.States = []watch.LetterState{state}
	}
	var err error
	if f.From, err = moment(c, "from"); err != nil {
		return f, err
	}
	if f.To, err = moment(c, "to"); err != nil {
		return f, err
	}
	if f.Limit, err = limit(c, 100, 1000); err != nil {
		return f, err
	}
	f.After, err = idIn(c, "after", "a dead letter")
	return f, err
}

// deadLetters lists letters, the oldest first, and says how many there are in all.
func (s *Server) deadLetters(c *gin.Context) error {
	f, err := letterFilter(c)
	if err != nil {
		return err
	}
	f.Of = s.flowsSeen(c)
	rows, err := s.engine.Watch.Letters(f)
	if err != nil {
		return err
	}
	n, err := s.engine.Watch.CountLetters(f)
	if err != nil {
		return err
	}
	c.Header("Total-Count", strconv.FormatInt(n, 10))
	out := make([]letterView, len(rows))
	for i := range rows {
		out[i] = viewLetter(&rows[i])
	}
	return reply(c, out)
}

func (s *Server) causes(c *gin.Context) error {
	rows, err := s.engine.Watch.Causes(500)
	if err != nil {
		return err
	}
	type view struct {
		Cause   string    `json:"cause"`
		Text    string    `json:"text"`
		Flow    string    `json:"flow"`
		Step    string    `json:"step"`
		Kind    string    `json:"kind"`
		Path    string    `json:"path"`
		Class   string    `json:"class"` // data, flow, target or limit, judged from evidence
		Why     []string  `json:"why"`   // the evidence
		Target  string    `json:"target"`
		Version int       `json:"version"` // that its oldest letter died under
		Live    int       `json:"live"`
		Count   int64     `json:"count"`
		Since   time.Time `json:"since"`
	}
	rows = visible(s, c, rows, access.Flow, func(r *watch.Cause) string { return r.Flow })
	out := make([]view, len(rows))
	for i := range rows {
		r := &rows[i]
		why := r.Why
		if why == nil {
			why = []string{}
		}
		out[i] = view{r.Cause.Cause, r.CauseText, r.Flow, r.Step, r.Kind, r.Path, string(r.Judged), why, r.Target,
			r.Version, r.Live, r.N, r.Since}
	}
	return reply(c, out)
}

// deadLetter gives a letter with its history.
func (s *Server) deadLetter(c *gin.Context) error {
	id, err := id(c)
	if err != nil {
		return err
	}
	l, err := s.engine.Watch.Letter(id)
	if err != nil {
		return err
	}
	rows, err := s.engine.Watch.History(id)
	if err != nil {
		return err
	}
	type event struct {
		At     time.Time `json:"at"`
		Who    string    `json:"who"`
		What   string    `json:"what"` // died, resent, resolved, discarded, restored, noted, assigned
		Detail string    `json:"detail"`
	}
	history := make([]event, len(rows))
	for i, r := range rows {
		history[i] = event{r.At, r.Who, r.What, r.Detail}
	}
	c.JSON(http.StatusOK, struct {
		letterView
		History []event `json:"history"`
	}{viewLetter(&l), history})
	return nil
}

// most is how many letters one decision may concern.
const most = 1000

// decided is what a person decides, as it comes in.
type decided struct {
	IDs     []string                 `json:"ids"`
	Cause   string                   `json:"cause"`
	Version string                   `json:"version"`
	Patch   json.RawMessage          `json:"patch"`
	Message json.RawMessage          `json:"message"`
	Tree    string                   `json:"tree"` // the JSON of the new message's tree
	Replace *journal.Replace         `json:"replace"`
	Map     json.RawMessage          `json:"map"` // the settings of a map step
	Insist  bool                     `json:"insist"`
	Preview bool                     `json:"preview"`
	Why     string                   `json:"why"`
	By      string                   `json:"by"`
	Replies map[string]catalog.Reply `json:"replies"` // of a preview: what systems would answer, by path
}

// decision gives it as the journal takes it, about nothing yet.
func (in *decided) decision() journal.Decision {
	d := journal.Decision{Version: in.Version, Why: in.Why, By: in.By, Insist: in.Insist, Replace: in.Replace,
		Replies: catalog.Effects(in.Replies)}
	if len(in.Patch) > 0 && string(in.Patch) != "null" {
		d.Patch = in.Patch
	}
	if len(in.Map) > 0 && string(in.Map) != "null" {
		d.Map = in.Map
	}
	if in.Tree != "" {
		d.Tree = []byte(in.Tree)
	}
	if len(in.Message) > 0 && string(in.Message) != "null" {
		d.Message = in.Message
		var text string // a string holds the message's bytes as they are; anything else is the JSON message itself
		if json.Unmarshal(in.Message, &text) == nil {
			d.Message = []byte(text)
		} else if r, err := jsonfmt.Decode(in.Message); err == nil {
			d.Message = jsonfmt.Encode(r.Root)
		}
	}
	return d
}

// ids gives the ids of a decision; nil where it names none.
func (in *decided) ids() ([]watch.ID, error) {
	if in.IDs == nil {
		return nil, nil
	}
	out := make([]watch.ID, 0, len(in.IDs))
	for _, text := range in.IDs {
		id, err := watch.ParseID(text)
		if err != nil {
			return nil, bad("ids: %w", err)
		}
		out = append(out, id)
	}
	return out, nil
}

// decision reads what a person decides about a few letters, at once.
func (s *Server) decision(c *gin.Context) (d journal.Decision, preview bool, err error) {
	var in decided
	if err := input(c, &in); err != nil {
		return d, false, err
	}
	in.By = s.by(c, in.By)
	d = in.decision()
	switch {
	case in.Cause != "" && in.IDs != nil:
		return d, false, bad("give either ids or a cause")
	case in.Cause != "":
		rows, err := s.engine.Watch.OpenLetters(in.Cause, "", nil, most+1)
		if err != nil {
			return d, false, err
		}
		if len(rows) > most {
			return d, false, bad("the cause has more than %d letters; begin a repair (POST /api/v1/repairs)", most)
		}
		for _, l := range rows {
			d.IDs = append(d.IDs, l.ID)
		}
	case len(in.IDs) > most:
		return d, false, bad("at most %d dead letters are decided about at once; begin a repair for more", most)
	default:
		if d.IDs, err = in.ids(); err != nil {
			return d, false, err
		}
	}
	if in.Preview && len(d.IDs) > 0 && !who(c).Anywhere(access.Bodies) {
		return d, true, lacking(access.Bodies, false)
	}
	if err := s.mayLetters(c, access.Operate, d.IDs...); err != nil {
		return d, in.Preview, err
	}
	flows, err := s.flowsOfLetters(c, d.IDs)
	if err != nil {
		return d, in.Preview, err
	}
	return d, in.Preview, s.leavesMasked(c, &d, flows...)
}

// flowsOfLetters names the flows of dead letters, where it matters what they mask.
func (s *Server) flowsOfLetters(c *gin.Context, ids []watch.ID) (out []string, err error) {
	if who(c).Everywhere(access.Unmask) || !s.engine.Watch.Masking() {
		return nil, nil
	}
	for _, id := range ids {
		l, err := s.engine.Watch.Letter(id)
		if err != nil {
			return nil, err
		}
		if !slices.Contains(out, l.Flow) {
			out = append(out, l.Flow)
		}
	}
	return out, nil
}

// mayLetters asks for a right to the flows of dead letters.
func (s *Server) mayLetters(c *gin.Context, r access.Right, ids ...watch.ID) error {
	if who(c).Everywhere(r) {
		return nil
	}
	for _, id := range ids {
		l, err := s.engine.Watch.Letter(id)
		if err == nil {
			err = s.mayFlows(c, r, l.Flow)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func (s *Server) resend(c *gin.Context) error {
	d, preview, err := s.decision(c)
	if err != nil {
		return err
	}
	var out []journal.Resent
	if preview {
		out, err = s.engine.Watch.Preview(d)
	} else {
		out, err = s.engine.Journal.Resend(c.Request.Context(), d)
	}
	if err != nil {
		return err
	}
	return reply(c, out)
}

func (s *Server) discard(c *gin.Context) error {
	d, preview, err := s.decision(c)
	if err == nil && !preview {
		err = s.engine.Journal.Discard(c.Request.Context(), d)
	}
	if err != nil {
		return err
	}
	out := make([]journal.Resent, len(d.IDs))
	for i, id := range d.IDs {
		out[i] = journal.Resent{Letter: id}
	}
	return reply(c, out)
}

// restore takes discards back.
func (s *Server) restore(c *gin.Context) error {
	d, _, err := s.decision(c)
	if err == nil {
		err = s.engine.Journal.Restore(c.Request.Context(), d)
	}
	if err != nil {
		return err
	}
	return done(c)
}

// note keeps a note with letters.
func (s *Server) note(c *gin.Context) error {
	d, _, err := s.decision(c)
	if err == nil {
		err = s.engine.Journal.Note(c.Request.Context(), d)
	}
	if err != nil {
		return err
	}
	return done(c)
}

// assign says who looks after letters.
func (s *Server) assign(c *gin.Context) error {
	var in struct {
		decided
		To string `json:"to"`
	}
	if err := input(c, &in); err != nil {
		return err
	}
	in.By = s.by(c, in.By)
	d := in.decision()
	var err error
	if d.IDs, err = in.ids(); err == nil {
		err = s.mayLetters(c, access.Operate, d.IDs...)
	}
	if err == nil {
		err = s.engine.Journal.Assign(c.Request.Context(), d, in.To)
	}
	if err != nil {
		return err
	}
	return done(c)
}

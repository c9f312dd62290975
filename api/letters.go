package api

import (
	"encoding/json"
	"net/http"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

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
	State       string    `json:"state"` // open, resending, resolved, discarded
	At          time.Time `json:"at"`
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
	}
}

func (s *Server) deadLetters(c *gin.Context) error {
	n, err := limit(c, 100, 1000)
	if err != nil {
		return err
	}
	after, err := idIn(c, "after", "a dead letter")
	if err != nil {
		return err
	}
	rows, err := s.engine.Watch.OpenLetters(c.Query("cause"), c.Query("flow"), after, n)
	if err != nil {
		return err
	}
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
		Cause string    `json:"cause"`
		Text  string    `json:"text"`
		Flow  string    `json:"flow"`
		Step  string    `json:"step"`
		Kind  string    `json:"kind"`
		Path  string    `json:"path"`
		Class string    `json:"class"`
		Count int64     `json:"count"`
		Since time.Time `json:"since"`
	}
	out := make([]view, len(rows))
	for i, r := range rows {
		sec, nsec := uuid.UUID(r.Since).Time().UnixTime()
		out[i] = view{r.Cause, r.CauseText, r.Flow, r.Step, r.Kind, r.Path, r.Class, r.N, time.Unix(sec, nsec).UTC()}
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
		What   string    `json:"what"` // died, resent, resolved, discarded
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

// decision reads what a person decides.
func (s *Server) decision(c *gin.Context) (d journal.Decision, preview bool, err error) {
	var in struct {
		IDs     []string                 `json:"ids"`
		Cause   string                   `json:"cause"`
		Version string                   `json:"version"`
		Patch   json.RawMessage          `json:"patch"`
		Message json.RawMessage          `json:"message"`
		Tree    string                   `json:"tree"` // the JSON of the new message's tree
		Preview bool                     `json:"preview"`
		Why     string                   `json:"why"`
		Replies map[string]catalog.Reply `json:"replies"` // of a preview: what systems would answer, by path
	}
	if err := input(c, &in); err != nil {
		return d, false, err
	}
	d = journal.Decision{Version: in.Version, Why: in.Why, Replies: catalog.Effects(in.Replies)}
	if len(in.Patch) > 0 && string(in.Patch) != "null" {
		d.Patch = in.Patch
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
	switch {
	case in.Cause != "" && in.IDs != nil:
		return d, false, bad("give either ids or a cause")
	case in.Cause != "":
		rows, err := s.engine.Watch.OpenLetters(in.Cause, "", nil, most)
		if err != nil {
			return d, false, err
		}
		for _, l := range rows {
			d.IDs = append(d.IDs, l.ID)
		}
	case len(in.IDs) > most:
		return d, false, bad("at most %d dead letters are decided about at once", most)
	}
	for _, text := range in.IDs {
		id, err := watch.ParseID(text)
		if err != nil {
			return d, false, bad("ids: %w", err)
		}
		d.IDs = append(d.IDs, id)
	}
	return d, in.Preview, nil
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

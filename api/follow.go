package api

import (
	"encoding/json"
	"fmt"
	"hash/fnv"

	"github.com/gin-gonic/gin"

	"readyferry/core/flow"
	"readyferry/core/run"
	"readyferry/engine/catalog"
	"readyferry/engine/design"
)

// The sheet asks with every keystroke what an edit does. A message is a column there, and a
// step a row: of most messages it needs the words in their cells, and of the one that is
// looked at all that there is. Columns that are as the asker has them are not sent again.

// followed is what a draft does.
type followed struct {
	Text     string                  `json:"text"` // the draft as YAML
	Findings []flow.Finding          `json:"findings"`
	Columns  []column                `json:"columns"` // null where the draft cannot be walked
	Whole    *design.SampleRehearsal `json:"whole"`   // of the sample that was asked for
	// Unreached is what none of the samples comes to.
	Unreached []run.Unreached `json:"unreached"`
}

// column is what happens to a sample, without its messages.
type column struct {
	Sample string `json:"sample"`
	Mark   string `json:"mark"` // changes with what follows
	*told         // nil: the asker has it
}

type told struct {
	Expected string     `json:"expected"`
	Breaks   []string   `json:"breaks,omitempty"`
	State    string     `json:"state"`
	Reason   *string    `json:"reason"`
	Intake   toldIntake `json:"intake"`
	Trace    []toldStep `json:"trace"`
}

type toldIntake struct {
	Outcome string `json:"outcome"`
}

type toldStep struct {
	Path    string   `json:"path"`
	Outcome string   `json:"outcome"`
	State   string   `json:"state"`
	Error   *string  `json:"error"`
	Caught  string   `json:"caught,omitempty"`
	Ways    []string `json:"ways,omitempty"`
}

func (s *Server) follow(c *gin.Context) error {
	var in struct {
		Document json.RawMessage   `json:"document"`
		Whole    string            `json:"whole"`
		Have     map[string]string `json:"have"`
	}
	if err := input(c, &in); err != nil {
		return err
	}
	is, err := s.readIn(c, in.Document)
	if err != nil {
		return err
	}
	all, findings, unreached, err := s.engine.Design.Follow(c.Param("name"), []byte(is.Text), in.Whole)
	if err != nil {
		return err
	}
	out := followed{Text: is.Text, Findings: findings, Unreached: unreached}
	if unreached == nil {
		out.Unreached = []run.Unreached{}
	}
	if len(all) > 0 || !flow.HasErrors(findings) {
		out.Columns = make([]column, 0, len(all))
	}
	for i := range all {
		one, err := columnOf(&all[i])
		if err != nil {
			return err
		}
		if in.Have[one.Sample] == one.Mark {
			one.told = nil
		}
		out.Columns = append(out.Columns, one)
		if all[i].Sample == in.Whole {
			all[i].Findings = []flow.Finding{} // they stand above
			out.Whole = &all[i]
		}
	}
	return reply(c, out)
}

func columnOf(r *design.SampleRehearsal) (column, error) {
	t := &told{r.Expected, r.Breaks, r.State, r.Reason, toldIntake{r.Intake.Outcome}, make([]toldStep, len(r.Trace))}
	for i := range r.Trace {
		e := &r.Trace[i]
		t.Trace[i] = toldStep{e.Path, e.Outcome, e.State, e.Error, e.Caught, e.Ways}
	}
	h := fnv.New64a()
	if err := json.NewEncoder(h).Encode(t); err != nil {
		return column{}, err
	}
	return column{Sample: r.Sample, Mark: fmt.Sprintf("%x", h.Sum64()), told: t}, nil
}

// readIn reads a document that stands in an input, or the saved draft where there is none.
func (s *Server) readIn(c *gin.Context, in json.RawMessage) (checked, error) {
	document := documentIn(in)
	if err := s.mayWalk(c, document); err != nil {
		return checked{}, err
	}
	if document == nil {
		f, err := s.engine.Watch.Flow(c.Param("name"))
		if err != nil {
			return checked{}, err
		}
		document = []byte(f.Draft)
	}
	return read(document)
}

func (s *Server) analyse(c *gin.Context) error {
	var in struct {
		Document json.RawMessage `json:"document"`
	}
	if err := input(c, &in); err != nil {
		return err
	}
	is, err := s.readIn(c, in.Document)
	if err != nil {
		return err
	}
	out, findings, err := s.engine.Design.Analyse(c.Param("name"), []byte(is.Text))
	if err != nil {
		return err
	}
	return reply(c, struct {
		design.Analysis
		Findings []flow.Finding `json:"findings"`
	}{out, findings})
}

// touched names the other flows that get what a draft hands on, or call it.
func (s *Server) touched(c *gin.Context) error {
	var in struct {
		Document json.RawMessage `json:"document"`
	}
	if err := input(c, &in); err != nil {
		return err
	}
	out, err := s.engine.Design.Touched(c.Param("name"), documentIn(in.Document))
	if err != nil {
		return err
	}
	if out == nil {
		out = []design.Touched{}
	}
	return reply(c, out)
}

// reach makes up a sample that gets to a place of a flow.
func (s *Server) reach(c *gin.Context) error {
	var in struct {
		Document json.RawMessage `json:"document"`
		design.Place
	}
	if err := input(c, &in); err != nil {
		return err
	}
	if err := s.mayWalk(c, documentIn(in.Document)); err != nil {
		return err
	}
	out, err := s.engine.Design.Reaching(c.Param("name"), documentIn(in.Document), in.Place)
	if err != nil {
		return err
	}
	return reply(c, out)
}

// tryForReal asks what a step that is marked as harmless asks of a sample.
func (s *Server) tryForReal(c *gin.Context) error {
	var in struct {
		Document json.RawMessage `json:"document"`
		Sample   catalog.Sample  `json:"sample"`
		Path     string          `json:"path"`
	}
	if err := input(c, &in); err != nil {
		return err
	}
	out, err := s.engine.Design.TryForReal(c.Request.Context(), c.Param("name"), documentIn(in.Document), in.Sample, in.Path)
	if err != nil {
		return err
	}
	return reply(c, out)
}

// makeUp makes up a sample of a schema or of a type of message.
func (s *Server) makeUp(c *gin.Context) error {
	var in design.MadeUp
	if err := input(c, &in); err != nil {
		return err
	}
	if _, err := s.engine.Watch.Flow(c.Param("name")); err != nil {
		return err
	}
	out, err := s.engine.Design.MakeUp(c.Param("name"), in)
	if err != nil {
		return err
	}
	return reply(c, out)
}

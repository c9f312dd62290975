package api

import (
	"encoding/json"
	"net/http"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"

	"readyferry/core/run"
	"readyferry/engine"
	"readyferry/engine/design"
	"readyferry/engine/watch"
)

// compare begins to walk real messages through a draft.
func (s *Server) compare(c *gin.Context) error {
	var in struct {
		Document json.RawMessage `json:"document"`
		Last     int             `json:"last"`
		From     time.Time       `json:"from"`
		To       time.Time       `json:"to"`
	}
	if err := input(c, &in); err != nil {
		return err
	}
	if err := s.mayWalk(c, documentIn(in.Document)); err != nil {
		return err
	}
	out, err := s.engine.Design.Compare(
		c.Param("name"),
		documentIn(in.Document),
		design.Span{Last: in.Last, From: in.From, To: in.To},
	)
	if err != nil {
		return err
	}
	c.JSON(http.StatusCreated, out)
	return nil
}

func (s *Server) comparison(c *gin.Context) error {
	out, err := s.engine.Design.Comparison(c.Param("name"), c.Param("id"))
	if err != nil {
		return err
	}
	return reply(c, out)
}

func (s *Server) stopComparison(c *gin.Context) error {
	if err := s.engine.Design.StopComparison(c.Param("name"), c.Param("id")); err != nil {
		return err
	}
	return done(c)
}

type comparedView struct {
	Transaction watch.ID         `json:"transaction"`
	Reference   string           `json:"reference"`
	ReceivedAt  time.Time        `json:"receivedAt"`
	Differences []differenceView `json:"differences"`
}

type differenceView struct {
	run.Difference
	Text string `json:"text"`
}

func viewDifferences(all []run.Difference) []differenceView {
	out := make([]differenceView, len(all))
	for i := range all {
		out[i] = differenceView{all[i], all[i].Text()}
	}
	return out
}

// compared lists the messages of one group of a comparison.
func (s *Server) compared(c *gin.Context) error {
	n, err := limit(c, 100, 1000)
	if err != nil {
		return err
	}
	numbers := [2]int{}
	for i, name := range []string{"group", "from"} {
		if text := c.Query(name); text != "" {
			if numbers[i], err = strconv.Atoi(text); err != nil || numbers[i] < 0 {
				return bad("%s must be a number from 0 on, not %q", name, text)
			}
		}
	}
	all, total, err := s.engine.Design.Compared(c.Param("name"), c.Param("id"), numbers[0], numbers[1], n)
	if err != nil {
		return err
	}
	c.Header("Total-Count", strconv.Itoa(total))
	out := make([]comparedView, len(all))
	for i, m := range all {
		out[i] = comparedView{m.Transaction, m.Reference, m.ReceivedAt, viewDifferences(m.Differences)}
	}
	return reply(c, out)
}

// sides gives one message of a comparison as it went and as it would go.
func (s *Server) sides(c *gin.Context) error {
	id, err := watch.ParseID(c.Param("transaction"))
	if err != nil {
		return engine.ErrNotFound
	}
	r, err := s.engine.Design.Sides(c.Param("name"), c.Param("id"), id)
	if err != nil {
		return err
	}
	return reply(c, struct {
		Was         *run.Rehearsal   `json:"was"`
		Is          *run.Rehearsal   `json:"is"`
		Differences []differenceView `json:"differences"`
	}{&r.Was, &r.Is, viewDifferences(r.Differences())})
}

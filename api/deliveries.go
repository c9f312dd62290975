package api

import (
	"encoding/json"
	"errors"
	"time"

	"github.com/gin-gonic/gin"

	"readyferry/core/message"
	"readyferry/core/retry"
	"readyferry/core/run"
	"readyferry/core/want"
	"readyferry/engine/watch"
)

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

// withoutBodies takes out of a delivery what a message says, and what a system answered.
func (v *deliveryView) withoutBodies() {
	r := &v.Request
	r.Text, r.Base64, r.Headers, r.Lines, r.Query = nil, nil, map[string]string{}, nil, nil
	for i := range v.Tries {
		v.Tries[i].Headers, v.Tries[i].Body, v.Tries[i].Detail = []message.Header{}, "", ""
	}
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

package api

import (
	"time"

	"github.com/gin-gonic/gin"

	"readyferry/engine/watch"
)

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
	if step > 60 {
		step = (step + 59) / 60 * 60 // sums of hours are kept
	}
	var counts []watch.Count
	if step > 1 {
		counts, err = s.engine.Watch.CountsBy(s.flowsOf(c), from, to, step)
	} else {
		counts, err = s.engine.Watch.Counts(s.flowsOf(c), from, to)
	}
	if err != nil {
		return err
	}
	return reply(c, byMinute(counts))
}

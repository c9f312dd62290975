package watch

import (
	"encoding/json"
	"errors"
	"time"

	"readyferry/engine/journal"
)

// ClockState tells of a flow that is due by a clock.
type ClockState struct {
	NextAt *time.Time      `json:"nextAt"`
	LastAt *time.Time      `json:"lastAt"`
	Mark   json.RawMessage `json:"mark"` // null before the first poll
	Error  string          `json:"error"`
	Since  *time.Time      `json:"failsSince"`
	Fails  int             `json:"fails"`
	Taken  int64           `json:"taken"`
	// Brought are the messages of the last answer that held any, Waiting those of it that
	// are yet to begin.
	Brought int `json:"brought"`
	Waiting int `json:"waiting"`
}

// ClockOf tells when a flow is due; nil for one that is not due by a clock.
func (w *Watch) ClockOf(name string) (*ClockState, error) {
	c, err := w.Store.All().Clock(name)
	if errors.Is(err, journal.ErrNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	out := &ClockState{
		LastAt:  c.LastAt,
		Mark:    json.RawMessage("null"),
		Error:   c.Error,
		Since:   c.FailsSince,
		Fails:   c.Fails,
		Taken:   c.Taken,
		Brought: c.Brought,
		Waiting: c.Staged,
	}
	if !c.NextAt.IsZero() {
		out.NextAt = &c.NextAt
	}
	if len(c.Mark) > 0 {
		out.Mark = c.Mark
	}
	return out, nil
}

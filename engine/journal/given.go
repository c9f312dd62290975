package journal

import (
	"encoding/json"
	"errors"

	"readyferry/core/run"
	"readyferry/core/step"
	"readyferry/store"
)

// Given gives what the caller of a transaction got.
func (j *Journal) Given(id store.ID) (*step.Answer, error) {
	m, err := j.Store.FirstMessage(id)
	if errors.Is(err, ErrNotFound) || err == nil && len(m.Answer) == 0 {
		return run.StoredAnswer(id.String()), nil
	}
	if err != nil {
		return nil, err
	}
	var a step.Answer
	return &a, json.Unmarshal(m.Answer, &a)
}

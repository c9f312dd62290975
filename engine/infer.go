package engine

import (
	"fmt"
	"slices"

	"readyferry/core/contract"
	"readyferry/core/expr"
	"readyferry/core/message"
	"readyferry/core/run"
)

// Env gives the environment of expressions.
func (e *Engine) Env() *expr.Env { return e.reader.Env() }

// InferSchema makes a schema that samples of a flow fit: the named ones, or all.
// left names those that cannot be read.
func (e *Engine) InferSchema(name string, only []string, enums bool) (schema *message.Node, left []string, err error) {
	f, err := e.store.Flow(name)
	if err != nil {
		return nil, nil, err
	}
	files, err := e.store.Files(name)
	if err != nil {
		return nil, nil, err
	}
	p, findings := e.Read(name, []byte(f.Draft), files)
	if p == nil {
		return nil, nil, &FindingsError{"the draft cannot be read", findings}
	}
	samples, err := e.Samples(name)
	if err != nil {
		return nil, nil, err
	}
	var bodies []*message.Node
	for i := range samples {
		if only != nil && !slices.Contains(only, samples[i].Name) {
			continue
		}
		r, err := run.Receive(p, samples[i].Envelope(name))
		if err != nil {
			left = append(left, samples[i].Name)
			continue
		}
		bodies = append(bodies, r.Message.Body)
	}
	if bodies == nil {
		return nil, left, fmt.Errorf("%w: there is no sample that can be read; add one first", ErrDecision)
	}
	return contract.Infer(bodies, enums), left, nil
}

package run

import (
	"errors"
	"strings"

	"readyferry/core/message"
	"readyferry/core/plan"
	"readyferry/core/step"
)

// Resume is where a group goes on: at the aggregate that gathered it.
type Resume struct {
	Path    string // of the step; a step inside of a split is at the split's path without a number
	Message message.Message
	Group   *step.Closed // nil: it goes on behind the step
}

// resume goes on with a group at its step, as if the walk had come there.
func (w *walker) resume(p *plan.Plan, r *Resume) progress {
	st := step.State{Message: r.Message, Answered: true}
	w.past(&st, step.Intake)
	end, found := w.seek(p.Block, "", r, &st)
	if !found {
		w.result.Failures = append(w.result.Failures, step.Failure{
			Path: r.Path, Step: lastID(r.Path), Kind: "aggregate", Phase: "settings", Class: step.Flow,
			Reason: "this version of the flow has no step at " + r.Path,
		})
		return blocked
	}
	return end
}

func lastID(path string) string { return path[strings.LastIndexByte(path, '/')+1:] }

// seek looks for the step in a block, and from there walks to the block's end.
func (w *walker) seek(b *step.Block, prefix string, r *Resume, st *step.State) (end progress, found bool) {
	for i, s := range b.Steps {
		path := prefix + s.ID
		switch {
		case path == r.Path:
			if found = true; r.Group != nil {
				end = w.gathered(s, path, r, st)
			}
		case s.Inside != nil && (strings.HasPrefix(r.Path, path+"/") || strings.HasPrefix(r.Path, path+"[")):
			inside := r.Path[:len(path)+1+strings.IndexByte(r.Path[len(path):], '/')]
			return w.seek(s.Inside, inside, r, st) // what stands behind the split is not of its parts
		default:
			for _, way := range s.Branches() {
				inside := path + "." + way.Name + "/"
				if !strings.HasPrefix(r.Path, inside) {
					continue
				}
				if end, found = w.seek(way.Block, inside, r, st); s.Every && way.Name != step.ElseWay {
					return end, found // each way works on its own copy
				}
			}
		}
		if found && end == done {
			end = w.block(&step.Block{Steps: b.Steps[i+1:]}, prefix, st)
		}
		if found {
			return end, true
		}
	}
	return done, false
}

// gathered makes the group's message.
func (w *walker) gathered(s *step.Compiled, path string, r *Resume, st *step.State) progress {
	closer, ok := s.Runner.(step.Closer)
	call := &step.Call{State: *st, Path: path, Now: w.in.Message.ReceivedAt, Trace: w.in.Trace, Memory: w.memory}
	entry, before, began := Entry{Path: path, Step: s.ID, Kind: s.Kind}, *st, w.clock()
	if !ok {
		return w.failed(
			entry,
			before,
			st,
			&step.Failure{
				Phase:  "settings",
				Class:  step.Flow,
				Reason: "the step is no aggregate that can go on: " + s.Kind,
			},
			began,
		)
	}
	call.State.Group = r.Group
	before.Group = r.Group
	if s.Looks {
		call.Rows = w.rowsFor(path)
	}
	var res step.Result
	var err error
	known, looking := w.with(s, call, func(c *step.Call) { res, err = closer.Close(c, r.Group) })
	if looking == nil && !known {
		return w.unknown(entry, st, began)
	}
	err, entry.Looked = errors.Join(err, looking), looked(call)
	entry.Outcome, entry.Fields = res.Outcome, res.Fields
	if err != nil {
		var f *step.Failure
		if !errors.As(err, &f) {
			f = &step.Failure{Phase: "result", Class: step.Flow, Reason: err.Error()}
		}
		return w.failed(entry, before, st, f, began)
	}
	*st = res.State
	w.past(st, s.ID)
	w.trace(entry, before, st, began)
	return done
}

// StepAt gives the step at a path without numbers of parts, or nil.
func StepAt(p *plan.Plan, path string) *step.Compiled {
	if strings.HasPrefix(path, DeadPrefix) {
		if p.OnDead == nil {
			return nil
		}
		return stepIn(p.OnDead, DeadPrefix, path)
	}
	return stepIn(p.Block, "", path)
}

func stepIn(b *step.Block, prefix, path string) *step.Compiled {
	for _, s := range b.Steps {
		here := prefix + s.ID
		switch {
		case here == path:
			return s
		case s.Inside != nil && strings.HasPrefix(path, here+"/"):
			return stepIn(s.Inside, here+"/", path)
		}
		for _, way := range s.Branches() {
			if inside := here + "." + way.Name + "/"; strings.HasPrefix(path, inside) {
				return stepIn(way.Block, inside, path)
			}
		}
	}
	return nil
}

package engine

import (
	"encoding/json"
	"fmt"
	"time"

	"readyferry/core/run"
	"readyferry/core/step"
	"readyferry/store"
)

// puts does what is inside the application, in the same database transaction as
// the step that asked for it: messages go into queues and topics, parts begin. refused gets those that a queue does not take.
func (w *walking) puts(res *run.Result, refused map[string]step.Failure) (moved bool, err error) {
	for _, want := range res.Wants {
		if _, no := refused[want.Path]; no || want.Outside() {
			continue
		}
		if f, err := w.lettered(want.Path); err != nil {
			return false, err
		} else if f != nil {
			refused[want.Path] = *f
			continue
		}
		if want.Kind == step.WantLimit {
			w.after.gather = true
			if err := w.tx.Limit(&store.TimeLimit{Tx: w.t.ID, Path: want.Path, At: w.e.clock().Add(want.Within)}); err != nil {
				return false, err
			}
			continue
		}
		if want.Kind == step.WantReply || want.Kind == step.WantFlow {
			done, err := w.elsewhere(&want, refused)
			if err != nil {
				return false, err
			}
			moved = moved || done
			continue
		}
		if want.Kind != step.WantQueue && want.Kind != step.WantTopic {
			done, err := w.gatherOrPart(&want, refused)
			if err != nil {
				return false, err
			}
			moved = moved || done
			continue
		}
		headers, err := json.Marshal(want.Request.Headers)
		if err != nil {
			return false, err
		}
		var effect step.Effect
		channel := want.Target
		if want.Kind == step.WantTopic {
			channel = topicChannel(want.Target)
			m := &store.TopicMessage{Topic: want.Target, From: w.t.ID, Path: want.Path, Headers: headers, Body: want.Request.Body, Reference: w.t.Reference, PutAt: w.e.clock()}
			heard, err := w.tx.Append(m)
			if err != nil {
				return false, err
			}
			effect = step.Effect{Item: fmt.Sprint(m.N), Unheard: !heard}
		} else {
			item := &store.QueueItem{Queue: want.Target, From: w.t.ID, Path: want.Path, Headers: headers, Body: want.Request.Body, Reference: w.t.Reference, PutAt: w.e.clock(), Priority: want.Priority}
			failure, err := w.enqueue(item, want.Expires)
			if err != nil {
				return false, err
			}
			if failure == nil {
				w.replied(item, want.Request)
			}
			switch {
			case failure != nil && want.Soft:
				effect = step.Effect{Failed: failure.Reason}
			case failure != nil:
				refused[want.Path] = *failure
				continue
			default:
				effect = step.Effect{Item: fmt.Sprint(item.N)}
			}
		}
		if err := w.record(want.Path, effect); err != nil {
			return false, err
		}
		moved = true
		if effect.Failed != "" {
			continue
		}
		w.after.queues[channel] = true
		w.after.put[channel]++
		w.after.events[TopicQueues] = true
	}
	return moved, nil
}

// gatherOrPart does what a split, an aggregate or a resequence wants. What has
// to wait for its turn gets no effect and is not asked again in this walk.
func (w *walking) gatherOrPart(want *step.Want, refused map[string]step.Failure) (moved bool, err error) {
	var effect *step.Effect
	var failure *step.Failure
	switch want.Kind {
	case step.WantLookup, step.WantPair:
		effect, failure, err = w.looked(want)
	case step.WantOnce:
		effect, err = w.stepOnce(want)
	case step.WantParts:
		e, splitErr := w.splitUp(want)
		effect, err = &e, splitErr
	case step.WantJoin:
		e, f, joinErr := w.join(want)
		effect, failure, err = &e, f, joinErr
	case step.WantTurn, step.WantHold, step.WantPace:
		if w.held[want.Path] {
			return false, nil
		}
		wait := map[string]func(*step.Want) (*step.Effect, *step.Failure, error){step.WantTurn: w.turn, step.WantHold: w.hold, step.WantPace: w.pace}[want.Kind]
		if effect, failure, err = wait(want); effect == nil && failure == nil && err == nil {
			if w.held == nil {
				w.held = map[string]bool{}
			}
			w.held[want.Path] = true
			return false, nil
		}
	}
	switch {
	case err != nil:
		return false, err
	case failure != nil && want.Soft:
		return true, w.record(want.Path, step.Effect{Failed: failure.Reason})
	case failure != nil:
		f := *failure
		if f.Kind == "" {
			f.Kind = map[string]string{step.WantJoin: "aggregate", step.WantTurn: "resequence", step.WantHold: "hold", step.WantPace: "pace"}[want.Kind]
		}
		refused[want.Path] = f
		return false, nil
	}
	return true, w.record(want.Path, *effect)
}

// enqueue puts a message into its queue, or says why the queue does not take it.
func (w *walking) enqueue(item *store.QueueItem, expires time.Duration) (*step.Failure, error) {
	if len(w.e.queueReaders(item.Queue, false)) == 0 && !w.e.takesReplies(item.Queue) {
		return &step.Failure{Class: step.Flow, Reason: fmt.Sprintf("no flow reads the queue %s", item.Queue)}, nil
	}
	free, limit, err := w.tx.QueueLimit(item.Queue)
	if err != nil {
		return nil, err
	}
	if free >= limit {
		return &step.Failure{Class: step.Target, Reason: full(item.Queue, free, limit)}, nil
	}
	if expires > 0 {
		at := item.PutAt.Add(expires)
		item.ExpiresAt = &at
	}
	return nil, w.tx.Put(item)
}

package perform

import (
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"readyferry/core/run"
	"readyferry/core/step"
	"readyferry/core/want"
	"readyferry/engine/catalog"
	"readyferry/engine/journal"
	"readyferry/store"
)

// put puts a message into a queue.
type put struct{ *Performers }

// Foresee implements journal.Performer.
func (p put) Foresee(m *journal.Move, asked want.Asked) (journal.Outcome, error) {
	q := asked.Want.(*want.Put)
	failure, err := journal.Keep(m.Session, queueRoom(q.Queue), func() (*step.Failure, error) {
		return p.refuses(p.Store.View, q.Queue) // once for all that the session puts there
	})
	if failure != nil || err != nil {
		return journal.Outcome{Failure: failure}, err
	}
	o := journal.Outcome{Effect: &want.Effect{}}
	if correlation(q.Request) != "" { // it may be a reply
		o.Data, err = journal.Prepare("", want.Effect{Status: 200, Headers: q.Request.Headers, Body: q.Request.Body})
	}
	return o, err
}

// Perform implements journal.Performer.
func (p put) Perform(w *journal.Writing, asked want.Asked, foreseen journal.Outcome) (journal.Outcome, error) {
	q := asked.Want.(*want.Put)
	item, failure, err := p.enqueue(w, asked.Path, q.Queue, q.Request, q.Priority, q.Expires)
	if failure != nil || err != nil {
		return journal.Outcome{Failure: failure}, err
	}
	if reply, ok := foreseen.Data.(store.Effect); ok {
		p.replied(w, item, correlation(q.Request), reply)
	}
	return journal.Outcome{Effect: &want.Effect{Item: fmt.Sprint(item.N)}}, nil
}

// queueRoom is what a session remembers of a queue.
type queueRoom string

// refuses says why a queue takes no message now, or nil.
func (p *Performers) refuses(v store.View, queue string) (*step.Failure, error) {
	if len(p.Catalog.Readers(queue, false)) == 0 && len(p.Catalog.AsksBy(queue, false)) == 0 &&
		!p.Catalog.ReadOutside(queue) {
		return &step.Failure{
			Phase:  "put",
			Class:  step.Flow,
			Reason: fmt.Sprintf("no flow reads the queue %s", queue),
		}, nil
	}
	free, limit, err := v.QueueLimit(queue)
	if err != nil || free < limit {
		return nil, err
	}
	return &step.Failure{Phase: "put", Class: step.Target, Reason: full(queue, free, limit)}, nil
}

// full says that a queue takes no more.
func full(queue string, free, limit int64) string {
	return fmt.Sprintf("the queue %s is full: %d messages wait in it, and its limit is %d", queue, free, limit)
}

// enqueue puts a message into its queue, or says why the queue does not take it.
func (p *Performers) enqueue(
	w *journal.Writing,
	path, queue string,
	r *want.Request,
	priority int,
	expires time.Duration,
) (*store.QueueItem, *step.Failure, error) {
	if failure, err := p.refuses(w.Tx.View, queue); failure != nil || err != nil {
		return nil, failure, err
	}
	headers, err := json.Marshal(r.Headers)
	if err != nil {
		return nil, nil, err
	}
	item := &store.QueueItem{
		Queue:     queue,
		From:      w.T.ID,
		Path:      path,
		Headers:   headers,
		Body:      r.Body,
		Reference: w.T.Reference,
		PutAt:     w.Now(),
		Priority:  priority,
		Journey:   w.T.Journey,
	}
	if expires > 0 {
		at := item.PutAt.Add(expires)
		item.ExpiresAt = &at
	}
	w.Notice.Channels[queue] = true
	w.Notice.Put[queue]++
	w.Notice.Events[journal.EventQueues] = true
	return item, nil, w.Tx.Put(item)
}

// publish puts a message into the log of a topic.
type publish struct{ *Performers }

// Foresee implements journal.Performer.
func (p publish) Foresee(_ *journal.Move, asked want.Asked) (journal.Outcome, error) {
	topic := asked.Want.(*want.Publish).Topic
	heard, known := p.heardOf.get(topic)
	if !known {
		readers, err := p.Store.Subscriptions(topic)
		if err != nil {
			return journal.Outcome{}, err
		}
		heard = len(readers) > 0
	}
	return journal.Outcome{Effect: &want.Effect{Unheard: !heard}}, nil
}

// Perform implements journal.Performer.
func (p publish) Perform(w *journal.Writing, asked want.Asked, _ journal.Outcome) (journal.Outcome, error) {
	t := asked.Want.(*want.Publish)
	headers, err := json.Marshal(t.Request.Headers)
	if err != nil {
		return journal.Outcome{}, err
	}
	m := &store.TopicMessage{
		Topic:     t.Topic,
		From:      w.T.ID,
		Path:      asked.Path,
		Headers:   headers,
		Body:      t.Request.Body,
		Reference: w.T.Reference,
		PutAt:     w.Now(),
		Journey:   w.T.Journey,
	}
	heard, err := w.Tx.Append(m)
	if err == nil {
		p.heardOf.set(t.Topic, heard)
	}
	channel := catalog.TopicChannel(t.Topic)
	w.Notice.Channels[channel] = true
	w.Notice.Put[channel]++
	w.Notice.Events[journal.EventQueues] = true
	return journal.Outcome{Effect: &want.Effect{Item: fmt.Sprint(m.N), Unheard: !heard}}, err
}

// heardOf remembers of topics whether anybody reads them, as the last message found it: what
// is foreseen by it may be out of date, and is then done anew over what the writer finds.
type heardOf struct {
	mu  sync.Mutex
	all map[string]bool
}

// keptHeard is of how many topics that is remembered; then all are forgotten.
const keptHeard = 10_000

func (h *heardOf) get(topic string) (heard, known bool) {
	h.mu.Lock()
	defer h.mu.Unlock()
	heard, known = h.all[topic]
	return heard, known
}

func (h *heardOf) set(topic string, heard bool) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.all == nil || len(h.all) >= keptHeard {
		h.all = map[string]bool{}
	}
	h.all[topic] = heard
}

// question puts a question into a queue and waits for its reply.
type question struct{ *Performers }

// Foresee implements journal.Performer.
func (p question) Foresee(_ *journal.Move, asked want.Asked) (journal.Outcome, error) {
	failure, err := p.refuses(p.Store.View, asked.Want.(*want.Question).Queue)
	return journal.Outcome{Failure: failure}, err
}

// Perform implements journal.Performer.
func (p question) Perform(w *journal.Writing, asked want.Asked, _ journal.Outcome) (journal.Outcome, error) {
	q := asked.Want.(*want.Question)
	id := run.DeliveryID(w.T.ID.String(), asked.Path)
	r := *q.Request
	r.Headers = correlated(r.Headers, id, q.ReplyTo)
	if _, failure, err := p.enqueue(w, asked.Path, q.Queue, &r, q.Priority, q.Within); failure != nil || err != nil {
		return journal.Outcome{Failure: failure}, err
	}
	if err := w.Tx.Ask(&store.Ask{Correlation: id, Tx: w.T.ID, Path: asked.Path, ReplyTo: q.ReplyTo}); err != nil {
		return journal.Outcome{}, err
	}
	return journal.Outcome{}, w.WaitsAt(asked.Path, w.Now().Add(q.Within), "", "waits for a reply in "+q.ReplyTo, false)
}

// replied takes a question on when what was put into a queue is its reply. What
// nobody waits for any more stays in the queue, where people see it.
func (p *Performers) replied(w *journal.Writing, item *store.QueueItem, id string, reply store.Effect) {
	w.Later(func() error {
		a, err := w.Tx.TakeAsk(id, item.Queue)
		if errors.Is(err, store.ErrNotFound) {
			return nil
		}
		if err != nil {
			return err
		}
		if err := w.Tx.Finish(item.N); err != nil {
			return err
		}
		w.Notice.Taken[item.Queue]++
		asker, err := w.Open(w.Tx, w.Notice, a.Tx)
		if err != nil {
			return err
		}
		reply.Path = a.Path
		return asker.GoesOn(&store.TimeLimit{Tx: a.Tx, Path: a.Path, Waits: true}, reply)
	})
}

// correlation gives the id of the question that a message answers, or "".
func correlation(r *want.Request) string {
	for _, h := range r.Headers {
		if strings.EqualFold(h.Name, journal.CorrelationHeader) {
			return h.Value
		}
	}
	return ""
}

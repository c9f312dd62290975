package intake

import (
	"fmt"

	"readyferry/connect"
	"readyferry/core/expr"
	"readyferry/core/format"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
	"readyferry/core/retry"
	"readyferry/core/step"
	"readyferry/core/table"
	"readyferry/core/want"
	"readyferry/engine/catalog"
	"readyferry/engine/journal"
	"readyferry/store"
)

// mostItems is how many items one answer to a poll may hold.
const mostItems = 10_000

// pollHTTP asks a system for what is new, and takes each item as a message. The
// items and the mark behind them are kept in one database transaction: after a
// crash nothing is missing and nothing comes twice.
func (k *Intakes) pollHTTP(f *catalog.Flow, c store.Clock) error {
	p, in := f.Live.Poll, &f.Live.Document.Intake
	conn := k.Catalog.Connection(in.Of)
	if conn == nil {
		return fmt.Errorf("there is no connection named %s", in.Of)
	}
	mark := message.NewString(in.First)
	if len(c.Mark) > 0 {
		if r, err := jsonfmt.Decode(c.Mark); err == nil {
			mark = r.Root
		}
	}
	scope := func(body, headers, item *message.Node) *expr.Scope {
		return &expr.Scope{
			Body:    body,
			Headers: headers,
			Now:     k.Now(),
			Seed:    f.Name + "/poll",
			Locals:  map[string]*message.Node{"mark": mark, "item": item},
		}
	}
	none := message.NewNull()
	req := connect.Request{Request: want.Request{Method: "GET"}}
	var err error
	if req.Path, err = p.Path.Eval(scope(none, message.NewMap(), none)); err != nil {
		return fmt.Errorf("path: %w", err)
	}
	for _, h := range p.Headers {
		v, err := h.Value.Eval(scope(none, message.NewMap(), none))
		if err != nil {
			return fmt.Errorf("headers/%s: %w", h.Name, err)
		}
		req.Headers = append(req.Headers, message.Header{Name: h.Name, Value: v})
	}
	answer, content, err := k.ask(conn, req)
	if err != nil {
		return err
	}
	if status := answer.Status(); status == 204 || status == 304 {
		return nil
	} else if status < 200 || status > 299 {
		return fmt.Errorf("%s answered %d", in.Of, status)
	}
	headers := message.HeaderMap(answer.Headers)
	kind := headers.Get("content-type")
	d, err := format.Decode(
		step.FormatOf("auto", kind, content),
		content,
		message.Layout{Charset: step.Charset(kind)},
		format.Limits{},
	)
	if err != nil {
		return fmt.Errorf("the answer of %s cannot be read: %w", in.Of, err)
	}
	list, err := p.Each.Eval(scope(d.Root, headers, none))
	if err != nil {
		return fmt.Errorf("each: %w", err)
	}
	if list.Kind == message.Null {
		list = message.NewList()
	}
	if list.Kind != message.List || len(list.Items) > mostItems {
		return fmt.Errorf(
			"each: %s is a %s of %d; it must be a list of at most %d items",
			p.Each.Source,
			list.Kind,
			len(list.Items),
			mostItems,
		)
	}
	next := mark
	if p.Mark != nil && !p.PerItem {
		if next, err = p.Mark.Eval(scope(d.Root, headers, none)); err != nil {
			return fmt.Errorf("mark: %w", err)
		}
	}
	if p.PerItem {
		for i, item := range list.Items {
			m, err := p.Mark.Eval(scope(d.Root, headers, item))
			if err != nil {
				return fmt.Errorf("mark of item %d: %w", i+1, err)
			}
			if further(m, next) {
				next = m
			}
		}
	}
	return k.takeAll(f, len(list.Items), func(i int) (journal.Arrival, error) {
		return journal.Arrival{
			Headers: []byte("[]"),
			Body:    jsonfmt.Encode(list.Items[i]),
			Source:  "poll of " + in.Of,
		}, nil
	}, func(_ *store.Tx, c *store.Clock) error {
		c.Mark = jsonfmt.Encode(next)
		return nil
	})
}

// further tells whether a mark lies beyond another.
func further(a, b *message.Node) bool {
	x, okX := a.Scalar()
	y, okY := b.Scalar()
	return okX && a.Kind != message.Null && (!okY || y == "" || table.SortKey(x) > table.SortKey(y))
}

// ask asks a system once; the answer's body is read.
func (k *Intakes) ask(conn *connect.Connection, r connect.Request) (connect.Receipt, []byte, error) {
	link, err := k.links.Link(k.Life.Taking(), conn)
	if err != nil {
		return connect.Receipt{}, nil, err
	}
	asker, ok := link.(connect.Asker)
	if !ok {
		return connect.Receipt{}, nil, fmt.Errorf(
			"%w: the connection %s is of kind %s, which cannot be asked",
			connect.ErrCannotSend,
			conn.Name,
			conn.Kind,
		)
	}
	r.Rules = retry.Default()
	answer, err := asker.Ask(k.Life.Taking(), r)
	if err != nil {
		k.links.Pulses.Failed(conn.Name, connect.Inward, err.Error(), false, k.Now())
		return connect.Receipt{}, nil, err
	}
	k.links.Pulses.Works(conn.Name, connect.Inward, k.Now())
	content, err := answer.Body()
	return answer, content, err
}

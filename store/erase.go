package store

import (
	"errors"

	"gorm.io/gorm"

	"readyferry/store/body"
)

// Hide gives a text without what is erased; the same text where there is none.
type Hide func(text string) string

// Ended tells whether nothing is to come of a transaction any more: only then its rows may change.
func (s State) Ended() bool { return s == Delivered || s == TurnedAway }

// OfFlow lists transactions of a flow by their ids, behind one.
func (v View) OfFlow(flow string, after *ID, limit int) (out []Transaction, err error) {
	q := v.sql().Where("flow = ?", flow)
	if after != nil {
		q = q.Where("id > ?", *after)
	}
	return out, q.Order("id").Limit(limit).Find(&out).Error
}

// Overwriting has what goes from the file overwritten, or no more: SQLite leaves it in free pages
// otherwise (its documentation, PRAGMA secure_delete).
func (tx *Tx) Overwriting(on bool) error {
	return tx.sql().Exec(map[bool]string{true: "PRAGMA secure_delete = ON", false: "PRAGMA secure_delete = OFF"}[on]).Error
}

// eraser blanks what one transaction holds.
type eraser struct {
	*Tx
	hide    Hide
	changed bool
}

// EraseIn takes something out of all that an ended transaction holds: messages, effects,
// deliveries with their tries, letters, what it put into topics, what it was to groups. It
// tells whether there was something. What it shows afterwards is what is left.
func (tx *Tx) EraseIn(id ID, hide Hide) (changed bool, err error) {
	t, err := tx.Transaction(id)
	if err != nil {
		return false, err
	}
	if !t.State.Ended() {
		return false, errors.New("it has not ended")
	}
	e := &eraser{tx, hide, false}
	err = errors.Join(e.messages(&t), e.effects(id), e.deliveries(id), e.letters(id), e.topics(id), e.groups(id))
	if err == nil {
		err = e.row(&Transaction{}, "id = ?", []any{id}, map[string]any{"reason": t.Reason, "reference": t.Reference,
			"order_value": t.OrderValue, "place_text": t.PlaceText, "gather_text": t.GatherText, "own": t.Own})
	}
	if err == nil && e.changed {
		err = tx.LookAgain(id)
	}
	return e.changed, err
}

// written are the bytes of a column that have been blanked already.
type written []byte

// row blanks columns of a row: texts, and JSON.
func (e *eraser) row(model any, where string, of []any, columns map[string]any) error {
	change := map[string]any{}
	for name, value := range columns {
		switch v := value.(type) {
		case string:
			if out := e.hide(v); out != v {
				change[name] = out
			}
		case []byte:
			if out := e.hide(string(v)); v != nil && out != string(v) {
				change[name] = []byte(out)
			}
		case body.Body:
			change[name] = v.Reference()
		case written:
			change[name] = []byte(v)
		}
	}
	if len(change) == 0 {
		return nil
	}
	e.changed = true
	return e.sql().Session(&gorm.Session{SkipHooks: true}).Model(model).Where(where, of...).Updates(change).Error
}

// content gives what is to stand in the place of a content; nil where nothing is to be erased
// in it.
func (e *eraser) content(b *body.Body, of func([]byte) body.Body) (*body.Body, error) {
	if err := e.Fill(b); err != nil {
		return nil, err
	}
	text := string(b.Bytes())
	out := e.hide(text)
	if out == text {
		return nil, nil
	}
	next := of([]byte(out)).Packed()
	return &next, e.keep(&next)
}

// with adds a content to the columns of a row.
func with(columns map[string]any, b *body.Body) map[string]any {
	if b != nil {
		columns["body"] = *b
	}
	return columns
}

func (e *eraser) messages(t *Transaction) error {
	id := t.ID
	var rows []Message
	if err := e.sql().Where(messagesOf, one(id), one(id)).Order("n").Find(&rows).Error; err != nil {
		return err
	}
	for i := range rows {
		m := &rows[i]
		next, err := e.content(&m.Body, body.OfMessage)
		if err != nil {
			return err
		}
		if err := e.row(&Message{}, "seq = ?", []any{m.Seq}, with(map[string]any{"headers": m.Headers, "params": m.Params,
			"query": m.Query, "source": m.Source, "warnings": m.Warnings, "answer": m.Answer}, next)); err != nil {
			return err
		}
		if next == nil {
			continue
		}
		// What deliveries hand over may be that message, and says how large it is.
		as := body.AsStored(m.N, next.Size())
		was := body.AsStored(m.N, m.Body.Size())
		if err := e.sql().Model(&Delivery{}).Where("tx = ? AND body = ?", id, was.Reference()).
			Update("body", as.Reference()).Error; err != nil {
			return err
		}
		if err := e.sql().Exec(addTally, bytesTally, t.Flow, next.Size()-m.Body.Size()).Error; err != nil {
			return err
		}
	}
	return nil
}

func (e *eraser) effects(id ID) error {
	var rows []Effect
	if err := e.sql().Where("tx = ?", id).Find(&rows).Error; err != nil {
		return err
	}
	for i := range rows {
		r := &rows[i]
		next, err := e.content(&r.Body, body.Of)
		if err != nil {
			return err
		}
		if err := e.row(&Effect{}, "tx = ? AND path = ?", []any{id, r.Path}, with(map[string]any{"result": r.Result},
			next)); err != nil {
			return err
		}
	}
	return nil
}

func (e *eraser) deliveries(id ID) error {
	var rows []Delivery
	if err := e.sql().Where("tx = ?", id).Find(&rows).Error; err != nil {
		return err
	}
	for i := range rows {
		d := &rows[i]
		columns := map[string]any{"order_value": d.OrderValue, "request": d.Request}
		if taken := e.taken(d); taken != nil {
			columns["taken"] = taken
		}
		if _, is := d.Body.Message(); !is {
			next, err := e.content(&d.Body, body.Of)
			if err != nil {
				return err
			}
			columns = with(columns, next)
		}
		if err := e.row(&Delivery{}, "seq = ?", []any{d.Seq}, columns); err != nil {
			return err
		}
		var tries []Try
		if err := e.sql().Where("delivery = ?", d.ID).Find(&tries).Error; err != nil {
			return err
		}
		for j := range tries {
			t := &tries[j]
			next, err := e.content(&t.Body, body.Of)
			if err != nil {
				return err
			}
			if err := e.row(&Try{}, "delivery = ? AND n = ?", []any{d.ID, t.N},
				with(map[string]any{"detail": t.Detail, "headers": t.Headers}, next)); err != nil {
				return err
			}
		}
	}
	return nil
}

// taken blanks the try that stands in a delivery; nil where nothing is to be erased in it.
func (e *eraser) taken(d *Delivery) written {
	t := d.taken()
	if t == nil {
		return nil
	}
	answer := string(t.Body.Bytes())
	detail, headers, out := e.hide(t.Detail), e.hide(string(t.Headers)), e.hide(answer)
	if detail == t.Detail && headers == string(t.Headers) && out == answer {
		return nil
	}
	t.Detail, t.Headers, t.Body = detail, []byte(headers), body.Of([]byte(out)).Packed()
	if b := t.taken(); b != nil {
		return b
	}
	t.Detail, t.Headers, t.Body = "", nil, body.Of(nil).Packed() // it does not fit any more: the rest goes with it
	return t.taken()
}

func (e *eraser) letters(id ID) error {
	var rows []Letter
	if err := e.sql().Where("tx = ?", id).Find(&rows).Error; err != nil {
		return err
	}
	for i := range rows {
		l := &rows[i]
		if err := e.row(&Letter{}, "id = ?", []any{l.ID}, map[string]any{"reason": l.Reason, "cause_text": l.CauseText,
			"reference": l.Reference}); err != nil {
			return err
		}
		var events []LetterEvent
		if err := e.sql().Where("letter = ?", l.ID).Find(&events).Error; err != nil {
			return err
		}
		for j := range events {
			if err := e.row(&LetterEvent{}, "n = ?", []any{events[j].N},
				map[string]any{"detail": events[j].Detail}); err != nil {
				return err
			}
		}
	}
	return nil
}

func (e *eraser) topics(id ID) error {
	var rows []TopicMessage
	if err := e.sql().Where("\"from\" = ?", id).Find(&rows).Error; err != nil {
		return err
	}
	for i := range rows {
		m := &rows[i]
		was := m.size()
		if err := e.row(&TopicMessage{}, "topic = ? AND n = ?", []any{m.Topic, m.N}, map[string]any{"headers": m.Headers,
			"body": m.Body, "reference": m.Reference}); err != nil {
			return err
		}
		is := int64(len(e.hide(string(m.Headers))) + len(e.hide(string(m.Body))))
		if is == was {
			continue
		}
		if err := e.sql().Exec("UPDATE topics SET bytes = bytes + ? WHERE name = ?", is-was, m.Topic).Error; err != nil {
			return err
		}
	}
	return nil
}

func (e *eraser) groups(id ID) error {
	var rows []Member
	if err := e.sql().Where("tx = ?", id).Find(&rows).Error; err != nil {
		return err
	}
	for i := range rows {
		m := &rows[i]
		if err := e.row(&Member{}, "group_id = ? AND n = ?", []any{m.GroupID, m.N},
			map[string]any{"item": m.Item}); err != nil {
			return err
		}
	}
	return nil
}

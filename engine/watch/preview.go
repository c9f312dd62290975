package watch

import (
	"errors"

	"readyferry/core/format"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/pointer"
	"readyferry/core/run"
	"readyferry/engine/journal"
	"readyferry/store"
	"readyferry/store/body"
)

// Preview tells what a resend would do, without doing it.
func (w *Watch) Preview(d journal.Decision) ([]journal.Resent, error) {
	patch, err := d.Check()
	if err != nil {
		return nil, err
	}
	out := make([]journal.Resent, 0, len(d.IDs))
	for _, id := range d.IDs {
		r := journal.Resent{Letter: id}
		rehearsal, err := w.previewOne(id, d, patch)
		if err != nil {
			r.Error = err.Error()
		} else {
			r.Rehearsal = rehearsal
		}
		out = append(out, r)
	}
	return out, nil
}

func (w *Watch) previewOne(id store.ID, d journal.Decision, patch pointer.Patch) (*run.Rehearsal, error) {
	l, err := w.Store.Letter(id)
	if err != nil {
		return nil, err
	}
	t, err := w.Store.Transaction(l.Tx)
	if err != nil {
		return nil, err
	}
	m, err := w.Store.Message(l.Tx)
	if err != nil {
		return nil, err
	}
	p, version, err := w.VersionFor(&t, d.Version)
	if err != nil {
		return nil, err
	}
	repaired, err := d.Repair(&t, &m, p, patch)
	if err != nil {
		return nil, err
	}
	repairs, was := string(repaired) != string(m.Body.Bytes()), t.Version
	if repairs {
		m.Body, m.N = body.Of(repaired), m.N+1
	}
	t.Version = version
	b, err := w.WalkOf(&t, &m, p)
	var refused *run.RefusedError
	if err != nil && (t.Parent != nil || t.FromGroup || !errors.As(err, &refused)) {
		return nil, err
	}
	opt := b.Options()
	for _, path := range journal.Anew(p, opt.Known, []store.Letter{l}, version != was || repairs) {
		delete(opt.Known, path)
	}
	opt.Tables, opt.Strict, opt.Replies = w.Store.LookIn(), true, d.Replies
	r := run.Rehearse(p, b.Envelope, opt)
	return &r, nil
}

// Tree gives the message of a transaction as the JSON of its tree, where a schema writes it;
// "" where it is text, or cannot be read.
func (w *Watch) Tree(id store.ID, m *store.Message) (name, tree string, err error) {
	t, err := w.Store.Transaction(id)
	if err != nil {
		return "", "", err
	}
	p, err := w.Catalog.Plan(t.Flow, t.Version)
	if err != nil {
		return "", "", nil // the version cannot be read any more, so neither can its messages
	}
	name, layout, err := journal.Written(&t, m, p)
	if err != nil || name == format.JSON {
		return "", "", err
	}
	d, err := format.Decode(name, m.Body.Bytes(), layout, format.Limits{})
	if err != nil {
		return name, "", nil
	}
	return name, string(jsonfmt.Encode(d.Root)), nil
}

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
		rehearsal, _, err := w.previewOne(id, d, patch)
		if err != nil {
			r.Error = err.Error()
		} else {
			r.Rehearsal = rehearsal
		}
		out = append(out, r)
	}
	return out, nil
}

// PreviewOne tells what a resend of one letter would do, and whether its message changes.
func (w *Watch) PreviewOne(id store.ID, d journal.Decision) (r *run.Rehearsal, changes bool, err error) {
	d.IDs = []store.ID{id}
	patch, err := d.Check()
	if err != nil {
		return nil, false, err
	}
	return w.previewOne(id, d, patch)
}

func (w *Watch) previewOne(id store.ID, d journal.Decision, patch pointer.Patch) (*run.Rehearsal, bool, error) {
	l, err := w.Store.All().Letter(id)
	if err != nil {
		return nil, false, err
	}
	return w.previewOf(l.Tx, []store.Letter{l}, d, patch)
}

// PreviewAgain tells what a message would come to that is sent once more from its beginning.
func (w *Watch) PreviewAgain(id store.ID, d journal.Decision) (r *run.Rehearsal, changes bool, err error) {
	d.IDs = []store.ID{id}
	patch, err := d.Check()
	if err != nil {
		return nil, false, err
	}
	return w.previewOf(id, nil, d, patch)
}

// previewOf walks a transaction as it would go on behind its letters, or from its beginning
// where there are none.
func (w *Watch) previewOf(
	id store.ID,
	letters []store.Letter,
	d journal.Decision,
	patch pointer.Patch,
) (*run.Rehearsal, bool, error) {
	t, err := w.Store.All().Transaction(id)
	if err != nil {
		return nil, false, err
	}
	m, err := w.Store.All().Message(id)
	if err != nil {
		return nil, false, err
	}
	p, version, err := w.VersionFor(&t, d.Version)
	if err != nil {
		return nil, false, err
	}
	repaired, err := w.Repaired(d, &t, &m, p, patch)
	if err != nil {
		return nil, false, err
	}
	repairs, was := string(repaired) != string(m.Body.Bytes()), t.Version
	if repairs {
		m.Body, m.N = body.Of(repaired), m.N+1
	}
	t.Version = version
	b, err := w.WalkOf(&t, &m, p)
	var refused *run.RefusedError
	if err != nil && (t.Parent != nil || t.FromGroup || !errors.As(err, &refused)) {
		return nil, false, err
	}
	opt := b.Options()
	for _, path := range journal.Anew(p, opt.Known, letters, version != was || repairs) {
		delete(opt.Known, path)
	}
	if letters == nil {
		clear(opt.Known)
	}
	if d.Insist {
		made, err := w.Store.All().Deliveries(id)
		if err != nil {
			return nil, false, err
		}
		for _, one := range made {
			delete(opt.Known, one.Path)
		}
	}
	opt.Tables, opt.Strict, opt.Replies = w.Store.LookIn(), true, d.Replies
	r := run.Rehearse(p, b.Envelope, opt)
	return &r, repairs, nil
}

// Tree gives the message of a transaction as the JSON of its tree, where a schema writes it;
// "" where it is text, or cannot be read.
func (w *Watch) Tree(id store.ID, m *store.Message) (name, tree string, err error) {
	t, err := w.Store.All().Transaction(id)
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

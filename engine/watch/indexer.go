package watch

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"readyferry/core/find"
	"readyferry/core/message"
	"readyferry/core/plan"
	"readyferry/core/pointer"
	"readyferry/core/run"
	"readyferry/core/want"
	"readyferry/engine/journal"
	"readyferry/store"
)

// partNumbers are those of parts in a path.
var partNumbers = regexp.MustCompile(`\[\d+\]`)

// The index of words is filled behind the commits, a batch at a time. While much comes or goes it
// takes a small share of the time and no more: what is found may lag then, what is accepted and
// delivered does not. What has been left is made up for when less happens.
const (
	indexedAtOnce = 200
	indexedBusy   = 50 // at once while much happens: whoever commits waits for that long at most
	indexEach     = 300 * time.Millisecond
	busyFrom      = 1000 // things that happen in a second: a message comes, is tried, and ends
	busyRests     = 15   // times as long as the batch took
)

// Start lets transactions be found by words, and remembers the newest of before.
func (w *Watch) Start() error {
	if err := w.seedLines(); err != nil {
		return err
	}
	if !w.Store.Words() {
		w.Log.Warn("this build cannot find transactions by words: build it with the tag sqlite_fts5")
		return nil
	}
	w.Life.Go(func() {
		for at, busy := w.Meter.since(pace{}), false; ; {
			began, most := time.Now(), indexedAtOnce
			if busy {
				most = indexedBusy
			}
			n, err := w.indexSome(w.Life.Taking(), most)
			if err != nil && w.Life.Taking().Err() == nil {
				w.Log.Error("indexing transactions", "error", err)
				n = 0
			}
			rest := indexEach
			switch {
			case busy:
				rest = max(indexEach, busyRests*time.Since(began))
			case n >= most:
				rest = time.Millisecond
			}
			if !w.restIndexing(n, rest) {
				return
			}
			at = w.Meter.since(at)
			busy = at.rate > busyFrom
		}
	})
	return nil
}

// restIndexing waits until there is something to index again: for a while where there was,
// else until a transaction changes. It tells whether the application goes on.
func (w *Watch) restIndexing(n int, rest time.Duration) bool {
	if n == 0 {
		select {
		case <-w.Life.Closing():
			return false
		case <-w.changed:
		}
	}
	select {
	case <-w.Life.Closing():
		return false
	case <-time.After(rest):
		return true
	}
}

// indexSome indexes a batch, and tells how many it was.
func (w *Watch) indexSome(ctx context.Context, most int) (n int, err error) {
	after, err := w.Store.Searched()
	if err != nil {
		return 0, err
	}
	rows, err := w.Store.Unsearched(after, most)
	if err != nil {
		return 0, err
	}
	again, err := w.Store.SearchedLater(most)
	if err != nil || len(rows)+len(again) == 0 {
		return 0, err
	}
	found, err := w.Store.Findable(append(slices.Clip(rows), again...))
	if err != nil {
		return 0, err
	}
	var docs []store.SearchDoc
	var to int64
	var open, done []ID
	for i := range rows {
		t := &rows[i]
		to = t.Message
		if t.Parent != nil {
			continue
		}
		if t.State < Delivered {
			open = append(open, t.ID)
		}
		docs = append(docs, w.searchDoc(t, found[t.ID]))
	}
	for i := range again {
		if again[i].State < Delivered {
			open = append(open, again[i].ID)
		}
		docs = append(docs, w.searchDoc(&again[i], found[again[i].ID]))
		done = append(done, again[i].ID)
	}
	err = w.Store.Write(ctx, func(tx *store.Tx) error { return tx.Index(docs, to, open, done) })
	return max(len(rows), len(again)), err
}

// searchDoc gives what a transaction is found by. What cannot be read of it any more is left
// out: it is found by the rest.
func (w *Watch) searchDoc(t *Transaction, f *store.Findable) store.SearchDoc {
	d := store.SearchDoc{Seq: t.Message, Reference: find.Folded(t.Reference)}
	tag := func(key, value string) { d.Tags = append(d.Tags, key+" "+strings.ToLower(value)) }
	words := []string{t.Reference, t.Reason}
	d.Tags = append(d.Tags, "flow "+t.Flow, store.NumberTag("tries", float64(t.Tries)))
	if t.IsFirst() {
		d.Tags = append(d.Tags, "first")
	}
	if t.FinishedAt != nil {
		d.Tags = append(d.Tags, store.NumberTag("took", float64(t.FinishedAt.Sub(t.ReceivedAt).Microseconds())))
	}
	for i := range f.Deliveries {
		tag("target", f.Deliveries[i].Target)
		w.tagPath(f.Deliveries[i].Path, tag)
	}
	for _, path := range f.Effects {
		w.tagPath(path, tag)
	}
	for i := range f.Letters {
		words = append(words, f.Letters[i].Reason)
		w.tagPath(f.Letters[i].Path, tag)
	}
	if m := &f.Message; m.Seq == t.Message {
		d.Tags = append(d.Tags, store.NumberTag("size", float64(m.Body.Size())))
		if p, err := w.Catalog.Plan(t.Flow, t.Version); err == nil {
			words = append(words, w.marked(t, m, p, tag)...)
		}
	}
	d.Body = w.unseen(t, strings.Join(words, "\n"))
	d.Reference = find.Folded(w.unseen(t, t.Reference))
	return d
}

// tagPath tags the steps and ways of a path.
func (w *Watch) tagPath(path string, tag func(key, value string)) {
	path = partNumbers.ReplaceAllString(path, "")
	last := path
	if i := strings.LastIndexByte(path, '/'); i >= 0 {
		last = path[i+1:]
		for at := range path {
			if path[at] == '/' && strings.Contains(path[:at], ".") {
				tag("way", path[:at])
			}
		}
	}
	tag("step", last)
	tag("step", path)
}

// marked gives the words of a message that its flow marks, and its notes.
func (w *Watch) marked(t *Transaction, m *store.Message, p *plan.Plan, tag func(key, value string)) (words []string) {
	search := p.Document.Source.Root.Get("search")
	var fields *message.Node
	if search != nil {
		words = append(words, w.markedHeaders(m, search.Get("headers"), tag)...)
		fields = search.Get("fields")
	}
	if fields == nil && !hasNotes(p.Document.Source.Root) || !m.Body.Filled() && m.Body.Size() > indexedUpTo {
		return words
	}
	if t.Unbegun || t.DuplicateOf != nil {
		return words // it has taken no step
	}
	root, r, err := w.walked(t, p)
	if err != nil {
		return words
	}
	for _, n := range r.Notes {
		words = append(words, n.Text)
	}
	for _, way := range r.Ways {
		tag("way", way)
	}
	if fields == nil || root == nil {
		return words
	}
	for _, f := range fields.Items {
		ptr, err := pointer.Parse(f.Text)
		if err != nil {
			continue
		}
		if v, err := ptr.Get(root); err == nil && v.Text != "" {
			words = append(words, v.Text)
		}
	}
	return words
}

// indexedUpTo is the largest body of which fields are indexed, in bytes.
const indexedUpTo = 1 << 20

// walked takes a message through its flow once more, as far as its effects reach, and gives the
// tree with which it began. An inspection tells more and costs five times as much.
func (w *Watch) walked(t *Transaction, p *plan.Plan) (*message.Node, *run.Result, error) {
	m, err := w.Store.Message(t.ID)
	if err != nil {
		return nil, nil, err
	}
	b, err := w.WalkOf(t, &m, p)
	if err != nil {
		return nil, nil, err
	}
	in := b.Input()
	in.Ways = true
	r := run.Walk(p, in)
	if in.Resume != nil {
		return in.Resume.Message.Body, r, nil
	}
	return in.Message.Body, r, nil
}

func (w *Watch) markedHeaders(m *store.Message, names *message.Node, tag func(key, value string)) (words []string) {
	if names == nil {
		return nil
	}
	headers, err := want.DecodeHeaders(m.Headers)
	if err != nil {
		return nil
	}
	for _, n := range names.Items {
		for _, h := range headers {
			if strings.EqualFold(h.Name, n.Text) {
				words = append(words, h.Value)
				tag("header", h.Name)
				tag("header", h.Name+"="+h.Value)
			}
		}
	}
	return words
}

// hasNotes tells whether a flow has a step that notes something, or a route whose ways are
// found by.
func hasNotes(n *message.Node) bool {
	if n == nil {
		return false
	}
	if kind := n.Get("kind"); n.Kind == message.Map && kind != nil && (kind.Text == "note" || kind.Text == "route") {
		return true
	}
	for _, m := range n.Members {
		if hasNotes(m.Value) {
			return true
		}
	}
	for _, item := range n.Items {
		if hasNotes(item) {
			return true
		}
	}
	return false
}

// FindBy lists the transactions that a query finds, the newest first.
func (w *Watch) FindBy(f store.Found) ([]Transaction, error) {
	rows, err := w.Store.All().FindBy(f)
	return rows, notByWords(err)
}

func notByWords(err error) error {
	if errors.Is(err, store.ErrNoWords) {
		return fmt.Errorf("%w: %w", journal.ErrDecision, err)
	}
	return err
}

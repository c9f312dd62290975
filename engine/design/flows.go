package design

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"strings"

	"readyferry/core/flow"
	"readyferry/core/plan"
	"readyferry/engine/catalog"
	"readyferry/engine/journal"
	"readyferry/store"
)

// SaveDraft saves a flow's draft. revision guards against lost edits: when it
// is not nil it must be the present one, 0 for a flow that must not exist yet.
// It gives the new revision and the findings; a *FindingsError tells that the
// document was not saved.
func (g *Designs) SaveDraft(
	ctx context.Context,
	name string,
	document []byte,
	revision *int64,
) (int64, []flow.Finding, error) {
	files, err := g.Store.Files(name)
	if err != nil {
		return 0, nil, err
	}
	p, findings := g.Read(name, document, files)
	if refusing(p, findings) {
		return 0, findings, &FindingsError{"the document was not saved", findings}
	}
	if strings.HasPrefix(strings.TrimSpace(string(document)), "{") {
		if document, err = flow.Write(p.Document.Source.Root); err != nil {
			return 0, findings, err
		}
	}
	var next int64
	err = g.Store.Write(ctx, func(tx *store.Tx) error {
		f, err := tx.Flow(name)
		if err != nil && !errors.Is(err, journal.ErrNotFound) {
			return err
		}
		if revision != nil && *revision != f.Revision {
			return journal.ErrConflict
		}
		f.Name, f.Title, f.UpdatedAt = name, p.Document.Title, g.Now()
		if f.Draft != string(document) {
			f.Draft = string(document)
			f.Revision++
			f.Edits++
		}
		next = f.Revision
		return tx.SaveFlow(&f)
	})
	if err != nil {
		return 0, findings, err
	}
	return next, findings, g.Catalog.FlowChanged(name)
}

// SaveFile saves a file of a flow's draft, or removes it when body is nil.
// revision guards against lost edits as in SaveDraft. It gives the new revision.
func (g *Designs) SaveFile(ctx context.Context, name, file string, body []byte, revision *int64) (int64, error) {
	if file == plan.ConfigFile {
		return 0, fmt.Errorf("%w: %s is the name of what versions keep of config; take another", journal.ErrDecision, file)
	}
	var next int64
	err := g.Store.Write(ctx, func(tx *store.Tx) error {
		f, err := tx.Flow(name)
		if err != nil {
			return err
		}
		if revision != nil && *revision != f.Revision {
			return journal.ErrConflict
		}
		f.Edits++
		f.Revision++
		f.UpdatedAt, next = g.Now(), f.Revision
		if err := tx.SaveFile(name, file, body); err != nil {
			return err
		}
		return tx.SaveFlow(&f)
	})
	if err != nil {
		return 0, err
	}
	return next, g.Catalog.FlowChanged(name)
}

// leaves refuses to take its reader from a queue that holds messages: none would be
// worked on any more. next is the intake that the flow goes on with, nil for none.
// With sure a person has been asked.
func (g *Designs) leaves(name string, next *flow.Intake, sure bool) error {
	f := g.Catalog.Flow(name)
	if sure || f == nil || f.Live == nil || f.Live.Document.Intake.Kind != "queue" {
		return nil
	}
	queue := f.Live.Document.Intake.Queue
	if next != nil && next.Kind == "queue" && next.Queue == queue {
		return nil
	}
	for _, other := range g.Catalog.Readers(queue, false) {
		if o := g.Catalog.Flow(other); other != name && o != nil && !o.Paused {
			return nil
		}
	}
	free, _, err := g.Store.QueueLimit(queue)
	if err != nil || free == 0 {
		return err
	}
	return fmt.Errorf(
		"%w: the queue %s holds %d messages, and %s is the only flow that reads it; say sure=true to leave them there",
		journal.ErrInUse, queue, free, name,
	)
}

// Publish makes the draft the next version and puts it to work: for all messages, for a
// share of them, or at a time. A draft with errors is refused with a *FindingsError; one that
// is as the live version is makes no version. One under which samples are not as expected
// needs a word that says why.
func (g *Designs) Publish(ctx context.Context, name string, word Word) (int, []flow.Finding, error) {
	f, err := g.Store.Flow(name)
	if err != nil {
		return 0, nil, err
	}
	files, err := g.Store.Files(name)
	if err != nil {
		return 0, nil, err
	}
	p, findings := g.Read(name, []byte(f.Draft), files)
	if flow.HasErrors(findings) {
		return 0, findings, &FindingsError{"the draft has errors and was not published", findings}
	}
	if err := g.leaves(name, &p.Document.Intake, word.Sure); err != nil {
		return 0, findings, err
	}
	if err := g.movesHome(name, p, word.Sure); err != nil {
		return 0, findings, err
	}
	packed, err := pack(p.Keeps(files))
	if err != nil {
		return 0, nil, err
	}
	if same, err := g.asLive(f, packed); err != nil || same {
		if same && f.Edits > 0 {
			err = g.unedited(ctx, f)
		}
		return f.Live, findings, err
	}
	lacks, err := g.second(f, p, packed, &word)
	if err != nil {
		return 0, findings, err
	}
	if err := g.asExpected(name, p, &word); err != nil {
		return 0, findings, err
	}
	if err := g.mayBegin(name, p, &word); err != nil {
		return 0, findings, err
	}
	if lacks {
		return 0, findings, g.askSecond(ctx, f, packed, &word)
	}
	v := store.Version{Flow: name, Document: f.Draft, Files: packed, Rules: int(flow.RulesNow), PublishedAt: g.Now(),
		By: word.By, Note: word.Note, Despite: word.Despite}
	err = g.Store.Write(ctx, func(tx *store.Tx) error {
		now, err := tx.Flow(name)
		if err != nil {
			return err
		}
		if now.Revision != f.Revision {
			return journal.ErrConflict
		}
		if err := tx.AddVersion(&v); err != nil {
			return err
		}
		now.Edits = 0
		if err := tx.Unask(name); err != nil {
			return err
		}
		return g.begins(tx, &now, v.N, p, &word)
	})
	if err != nil {
		return 0, findings, err
	}
	g.plans.Wake()
	return v.N, findings, g.Catalog.FlowChanged(name)
}

// pack gives files as a version keeps them.
func pack(files map[string][]byte) ([]byte, error) {
	text := map[string]string{}
	for k, v := range files {
		text[k] = string(v)
	}
	return json.Marshal(text)
}

// sameFiles tells whether a version has the files of a draft, whatever values of config it keeps.
func sameFiles(version []byte, draft map[string][]byte) bool {
	kept, err := catalog.UnpackFiles(version)
	return err == nil && maps.EqualFunc(plan.WithoutConfig(kept), draft, bytes.Equal)
}

// unedited notes that a draft is as its live version is, after edits that were undone.
func (g *Designs) unedited(ctx context.Context, f store.Flow) error {
	err := g.Store.Write(ctx, func(tx *store.Tx) error {
		now, err := tx.Flow(f.Name)
		if err != nil || now.Revision != f.Revision {
			return errors.Join(err, journal.ErrConflict)
		}
		now.Edits = 0
		return tx.SaveFlow(&now)
	})
	if err != nil {
		return err
	}
	return g.Catalog.FlowChanged(f.Name)
}

// asLive tells whether the draft is what the live version is, under the same rules.
func (g *Designs) asLive(f store.Flow, files []byte) (bool, error) {
	if f.Live == 0 {
		return false, nil
	}
	live, err := g.Store.Version(f.Name, f.Live)
	if err != nil {
		return false, err
	}
	return live.Document == f.Draft && bytes.Equal(live.Files, files) && live.Rules == int(flow.RulesNow), nil
}

// Pause stops or resumes the intake of a flow. What is under way goes on. sure is for
// who was asked whether messages may be left in a queue.
func (g *Designs) Pause(ctx context.Context, name string, paused, sure bool) error {
	if paused {
		if err := g.leaves(name, nil, sure); err != nil {
			return err
		}
	}
	err := g.Store.Write(ctx, func(tx *store.Tx) error {
		f, err := tx.Flow(name)
		if err != nil {
			return err
		}
		f.Paused = paused
		return tx.SaveFlow(&f)
	})
	if err != nil {
		return err
	}
	return g.Catalog.FlowChanged(name)
}

// Delete removes a flow. One whose transactions are under way, wait or are
// dead letters cannot be removed. sure is for who was asked whether messages may be
// left in a queue.
func (g *Designs) Delete(ctx context.Context, name string, sure bool) error {
	if err := g.leaves(name, nil, sure); err != nil {
		return err
	}
	if err := g.Ended(name); err != nil {
		return err
	}
	err := g.Store.Write(ctx, func(tx *store.Tx) error {
		if _, err := tx.Flow(name); err != nil {
			return err
		}
		return tx.DeleteFlow(name)
	})
	if err != nil {
		return err
	}
	return g.Catalog.FlowChanged(name)
}

// Ended gives a journal.ErrInUse for a flow whose transactions are under way, wait or are dead
// letters.
func (g *Designs) Ended(name string) error {
	totals, err := g.Store.All().Totals()
	if err != nil {
		return err
	}
	for _, c := range totals {
		if c.Flow == name && c.N > 0 &&
			(c.State == store.UnderWay || c.State == store.Waiting || c.State == store.DeadLetter) {
			return fmt.Errorf(
				"%w: %d of its transactions are in the state %s; pause the flow and let them end first",
				journal.ErrInUse,
				c.N,
				c.State,
			)
		}
	}
	return nil
}

// CreateFlow makes a new flow with its files; journal.ErrConflict when it exists.
func (g *Designs) CreateFlow(ctx context.Context, name string, document []byte, files map[string][]byte) error {
	p, findings := g.Read(name, document, files)
	if refusing(p, findings) {
		return &FindingsError{"the flow was not made", findings}
	}
	err := g.Store.Write(ctx, func(tx *store.Tx) error {
		if _, err := tx.Flow(name); !errors.Is(err, journal.ErrNotFound) {
			return errors.Join(journal.ErrConflict, err)
		}
		for file, body := range files {
			if err := tx.SaveFile(name, file, body); err != nil {
				return err
			}
		}
		return tx.SaveFlow(
			&store.Flow{
				Name:      name,
				Title:     p.Document.Title,
				Draft:     string(document),
				Revision:  1,
				Edits:     1,
				UpdatedAt: g.Now(),
			},
		)
	})
	if err != nil {
		return err
	}
	return g.Catalog.FlowChanged(name)
}

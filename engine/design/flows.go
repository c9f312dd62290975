package design

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"readyferry/core/flow"
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
	return next, findings, g.Catalog.Changed()
}

// SaveFile saves a file of a flow's draft, or removes it when body is nil.
// revision guards against lost edits as in SaveDraft. It gives the new revision.
func (g *Designs) SaveFile(ctx context.Context, name, file string, body []byte, revision *int64) (int64, error) {
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
	return next, g.Catalog.Changed()
}

// Publish makes the draft the next version and puts it to work. A draft with
// errors is refused with a *FindingsError.
func (g *Designs) Publish(ctx context.Context, name string) (int, []flow.Finding, error) {
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
	text := map[string]string{}
	for k, v := range files {
		text[k] = string(v)
	}
	packed, err := json.Marshal(text)
	if err != nil {
		return 0, nil, err
	}
	v := store.Version{Flow: name, Document: f.Draft, Files: packed, Rules: int(flow.RulesNow), PublishedAt: g.Now()}
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
		if err := g.performers.Subscribe(tx, &p.Document.Intake); err != nil {
			return err
		}
		now.Live, now.Edits = v.N, 0
		return tx.SaveFlow(&now)
	})
	if err != nil {
		return 0, findings, err
	}
	return v.N, findings, g.Catalog.Changed()
}

// Pause stops or resumes the intake of a flow. What is under way goes on.
func (g *Designs) Pause(ctx context.Context, name string, paused bool) error {
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
	return g.Catalog.Changed()
}

// Delete removes a flow. One whose transactions are under way, wait or are
// dead letters cannot be removed.
func (g *Designs) Delete(ctx context.Context, name string) error {
	totals, err := g.Store.Totals()
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
	err = g.Store.Write(ctx, func(tx *store.Tx) error {
		if _, err := tx.Flow(name); err != nil {
			return err
		}
		return tx.DeleteFlow(name)
	})
	if err != nil {
		return err
	}
	return g.Catalog.Changed()
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
	return g.Catalog.Changed()
}

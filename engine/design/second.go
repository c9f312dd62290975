package design

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"time"

	"readyferry/core/plan"
	"readyferry/engine/journal"
	"readyferry/store"
)

// Asked is a draft that waits for a second person.
type Asked = store.Asked

// AskedError says that a draft waits for a second person now.
type AskedError struct{ Asked Asked }

func (e *AskedError) Error() string {
	return fmt.Sprintf("%s has asked for it; it goes live when another person publishes the same draft", e.Asked.By)
}

// Mark is what a draft with its files is known by: whoever changes either changes it.
func Mark(document string, packed []byte) string {
	h := sha256.New()
	fmt.Fprintf(h, "%d\n%s\n", len(document), document)
	h.Write(packed)
	return hex.EncodeToString(h.Sum(nil))
}

// second tells whether a second person has to speak yet before a draft goes live. Where one
// does now, which is somebody else than who asked, for the very same draft, the word becomes
// that of both, and the draft goes live as it was asked for. Programs may ask; they are no
// person.
func (g *Designs) second(f store.Flow, p *plan.Plan, packed []byte, word *Word) (lacks bool, err error) {
	needs, err := g.Catalog.NeedsSecond(f.Name, p.Document.Area)
	if err != nil || !needs {
		return false, err
	}
	if word.By == "" {
		return false, fmt.Errorf("%w: publishing here needs two persons, who are known by their names; say yours", journal.ErrDecision)
	}
	was, err := g.Store.Asked(f.Name)
	if err != nil && !errors.Is(err, journal.ErrNotFound) {
		return false, err
	}
	if was.Mark != Mark(f.Draft, packed) || was.By == word.By || !was.Person || !word.Person {
		return true, nil
	}
	word.By, word.Share, word.At = was.By+" and "+word.By, was.Share, time.Time{}
	if was.LiveAt != nil {
		word.At = *was.LiveAt
	}
	if word.Note == "" {
		word.Note = was.Note
	}
	if word.Despite == "" {
		word.Despite = was.Despite
	}
	return false, nil
}

// askSecond asks for a second person, in place of whoever asked before, and gives an *AskedError.
func (g *Designs) askSecond(ctx context.Context, f store.Flow, packed []byte, word *Word) error {
	a := store.Asked{Flow: f.Name, Mark: Mark(f.Draft, packed), By: word.By, Person: word.Person, Note: word.Note,
		Despite: word.Despite, Share: word.Share, At: g.Now()}
	if !word.At.IsZero() {
		a.LiveAt = &word.At
	}
	if err := g.Store.Write(ctx, func(tx *store.Tx) error { return tx.AskFor(&a) }); err != nil {
		return err
	}
	g.Announce(journal.EventFlows)
	return &AskedError{a}
}

// AskedFor gives what waits for a second person of a flow, and whether the draft is still
// that; nil where nothing does.
func (g *Designs) AskedFor(f store.Flow, files map[string][]byte) (*Asked, bool, error) {
	a, err := g.Store.Asked(f.Name)
	if errors.Is(err, journal.ErrNotFound) {
		return nil, false, nil
	}
	if err != nil {
		return nil, false, err
	}
	p, _ := g.Read(f.Name, []byte(f.Draft), files)
	if p == nil {
		return &a, false, nil
	}
	packed, err := pack(p.Keeps(files))
	return &a, err == nil && Mark(f.Draft, packed) == a.Mark, err
}

// IsAsked tells whether something waits for a second person of a flow.
func (g *Designs) IsAsked(name string) bool {
	_, err := g.Store.Asked(name)
	return err == nil
}

// TakeBack takes back what was asked for a flow: it does not go live.
func (g *Designs) TakeBack(ctx context.Context, name string) error {
	if _, err := g.Store.Asked(name); err != nil {
		return err
	}
	err := g.Store.Write(ctx, func(tx *store.Tx) error { return tx.Unask(name) })
	g.Announce(journal.EventFlows)
	return err
}

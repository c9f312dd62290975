package design

import (
	"context"
	"crypto/rand"
	"fmt"
	"sync"
	"time"

	"readyferry/connect"
	"readyferry/engine/journal"
	"readyferry/store"
)

// invitations are the sign-ins under way in browsers, by their state.
type invitations struct {
	mu  sync.Mutex
	all map[string]invitation
}

type invitation struct {
	connection string
	until      time.Time
	redeem     func(ctx context.Context, code string) (string, error)
}

// invited is how long a person has to sign in, and how many may be about it at once.
const (
	invited     = 10 * time.Minute
	mostInvited = 100
)

// BeginSignIn gives the address at which a person signs in to the system of a connection.
// From there the browser comes to back.
func (g *Designs) BeginSignIn(ctx context.Context, name, back string) (address string, err error) {
	c := g.Catalog.Connection(name)
	if c == nil {
		return "", journal.ErrNotFound
	}
	link, err := g.links.Link(ctx, c)
	if err != nil {
		return "", fmt.Errorf("%w: %w", journal.ErrDecision, err)
	}
	inviter, can := link.(connect.Inviter)
	if !can {
		return "", fmt.Errorf("%w: nobody signs in to a connection of kind %s by hand", journal.ErrDecision, c.Kind)
	}
	state := rand.Text()
	address, redeem, err := inviter.Invite(back, state)
	if err != nil {
		return "", fmt.Errorf("%w: %w", journal.ErrDecision, err)
	}
	g.invited.mu.Lock()
	defer g.invited.mu.Unlock()
	if g.invited.all == nil {
		g.invited.all = map[string]invitation{}
	}
	now := g.Now()
	for s, one := range g.invited.all {
		if now.After(one.until) {
			delete(g.invited.all, s)
		}
	}
	if len(g.invited.all) >= mostInvited {
		return "", fmt.Errorf("%w: %d people are signing in already; try again in a few minutes", journal.ErrDecision, mostInvited)
	}
	g.invited.all[state] = invitation{name, now.Add(invited), redeem}
	return address, nil
}

// EndSignIn redeems the code with which a person comes back, and gives the connection's
// name. Each state is good once.
func (g *Designs) EndSignIn(ctx context.Context, state, code string) (name string, err error) {
	g.invited.mu.Lock()
	one, is := g.invited.all[state]
	delete(g.invited.all, state)
	g.invited.mu.Unlock()
	if !is || g.Now().After(one.until) {
		return "", fmt.Errorf("%w: this sign-in is not known here, or took too long; begin it anew", journal.ErrDecision)
	}
	if code == "" {
		return one.connection, fmt.Errorf("%w: the other side gave no code", journal.ErrDecision)
	}
	secret, err := one.redeem(ctx, code)
	if err != nil {
		return one.connection, fmt.Errorf("%w: %w", journal.ErrDecision, err)
	}
	err = g.Store.Write(ctx, func(tx *store.Tx) error {
		row, err := tx.Connection(one.connection)
		if err != nil {
			return err
		}
		if row.Sealed, err = g.Store.WithSecond(row.Name, row.Sealed, secret); err != nil {
			return err
		}
		return tx.SaveConnection(&row)
	})
	if err != nil {
		return one.connection, err
	}
	g.links.Pulses.Note(one.connection, true, "somebody signed in", g.Now())
	return one.connection, g.Catalog.ConnectionChanged(one.connection)
}

package people

import (
	"context"
	"errors"
	"strings"
	"time"

	"readyferry/core/access"
	"readyferry/engine/people/password"
	"readyferry/store"
)

// keeper keeps sessions in the store, for the manager that gives and ends them.
type keeper struct{ p *People }

type begun struct{}

// Find implements scs.Store.
func (k *keeper) Find(token string) ([]byte, bool, error) {
	s, err := k.p.store.Session(token)
	if errors.Is(err, store.ErrNotFound) || err == nil && !k.p.now().Before(s.Until) {
		return nil, false, nil
	}
	return s.Data, err == nil, err
}

// CommitCtx implements scs.CtxStore.
func (k *keeper) CommitCtx(ctx context.Context, token string, data []byte, until time.Time) error {
	return k.p.store.Write(ctx, func(tx *store.Tx) error {
		s, err := tx.Session(token)
		if errors.Is(err, store.ErrNotFound) {
			who, _ := ctx.Value(begun{}).(*Arrival)
			if who == nil {
				return nil // it was ended meanwhile, and does not come back by being used
			}
			s = store.Session{Token: token, ID: store.NewID().String(), Person: who.Person, CreatedAt: k.p.now(),
				Source: who.From, Agent: clipped(who.Agent, 300)}
		} else if err != nil {
			return err
		}
		s.Data, s.Until, s.SeenAt = data, until, k.p.now()
		return tx.SaveSession(&s)
	})
}

func clipped(s string, n int) string {
	if len(s) > n {
		return strings.ToValidUTF8(s[:n], "")
	}
	return s
}

// FindCtx implements scs.CtxStore.
func (k *keeper) FindCtx(_ context.Context, token string) ([]byte, bool, error) { return k.Find(token) }

// DeleteCtx implements scs.CtxStore.
func (k *keeper) DeleteCtx(ctx context.Context, token string) error {
	return k.p.store.Write(ctx, func(tx *store.Tx) error { return tx.DropSession(token) })
}

// Commit implements scs.Store.
func (k *keeper) Commit(token string, data []byte, until time.Time) error {
	return k.CommitCtx(context.Background(), token, data, until)
}

// Delete implements scs.Store.
func (k *keeper) Delete(token string) error { return k.DeleteCtx(context.Background(), token) }

// Arrival is somebody who signs in, and where.
type Arrival struct{ Person, From, Agent string }

// personKey is under what a session knows whose it is.
const personKey = "person"

// begin begins a session under a text that nobody has known before. old is one that the
// browser had; it ends.
func (p *People) begin(ctx context.Context, a Arrival, old string) (token string, err error) {
	ctx = context.WithValue(ctx, begun{}, &a)
	loaded, err := p.sessions.Load(ctx, old)
	if err != nil {
		return "", err
	}
	if old != "" {
		if err := p.sessions.Destroy(loaded); err != nil {
			return "", err
		}
	}
	if loaded, err = p.sessions.Load(ctx, ""); err != nil {
		return "", err
	}
	p.sessions.Put(loaded, personKey, a.Person)
	changed, err := p.changedSince(a.Person)
	if err != nil {
		return "", err
	}
	p.sessions.Put(loaded, changedKey, changed)
	token, _, err = p.sessions.Commit(loaded)
	if err != nil {
		return "", err
	}
	now := p.now()
	return token, p.store.Write(ctx, func(tx *store.Tx) error {
		row, err := tx.Person(a.Person)
		if err != nil {
			return err
		}
		row.SeenAt, row.Failures, row.LockedTo = &now, 0, nil
		return errors.Join(tx.SavePerson(&row), tx.DropEndedSessions(now))
	})
}

// changedKey is under what a session knows when the way to sign in had been changed, in
// microseconds.
const changedKey = "changed"

// changedSince tells when somebody's way to sign in was changed since they last came in, in
// microseconds; 0 where it was not. They are told, since it may not have been they.
func (p *People) changedSince(name string) (int64, error) {
	row, err := p.store.Person(name)
	if err != nil || row.SeenAt == nil || !row.ChangedAt.After(*row.SeenAt) {
		return 0, err
	}
	return row.ChangedAt.UnixMicro(), nil
}

// SignIn lets somebody in by name and password. The error is ErrWrong, a *LockedError, or
// why it could not be looked.
func (p *People) SignIn(ctx context.Context, name, text string, a Arrival, old string) (token string,
	who *access.Who, err error) {
	if err := p.guesses.enter(a.From, p.now()); err != nil {
		return "", nil, err
	}
	row, err := p.store.Person(NameOf(name))
	known := err == nil && !row.Ended
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return "", nil, err
	}
	if known && row.LockedTo != nil && p.now().Before(*row.LockedTo) {
		p.guesses.failed(a.From, p.now())
		return "", nil, &LockedError{*row.LockedTo}
	}
	kept := ""
	if known {
		if kept, err = p.store.UnsealPassword(&row); err != nil {
			return "", nil, err
		}
	}
	err = p.hashing(ctx, func() error { return password.Verify(kept, text) })
	if errors.Is(err, password.ErrWrong) {
		p.guesses.failed(a.From, p.now())
		if known {
			if until, bad := p.failed(ctx, row.Name); bad != nil || until != nil {
				if bad != nil {
					return "", nil, bad
				}
				return "", nil, &LockedError{*until}
			}
		}
		return "", nil, ErrWrong
	}
	if err != nil {
		return "", nil, err
	}
	return p.let(ctx, &row, a, old)
}

// let begins a session for somebody who has proven who they are.
func (p *People) let(ctx context.Context, row *store.Person, a Arrival, old string) (string, *access.Who, error) {
	if row.Ended {
		return "", nil, ErrWrong
	}
	who, err := p.who(row)
	if err != nil {
		return "", nil, err
	}
	a.Person = row.Name
	token, err := p.begin(ctx, a, old)
	return token, who, err
}

// Enter begins a session for somebody who came by a link or from an issuer.
func (p *People) Enter(ctx context.Context, name string, a Arrival, old string) (string, *access.Who, error) {
	row, err := p.store.Person(name)
	if err != nil {
		return "", nil, err
	}
	return p.let(ctx, &row, a, old)
}

// Failures after which an account is locked, and for how long: twice as long with each
// further one, up to lockedMost.
const (
	failuresFree = 5
	lockedFirst  = time.Minute
	lockedMost   = time.Hour
)

// failed counts a wrong password, and tells until when the account is locked, if it is.
func (p *People) failed(ctx context.Context, name string) (until *time.Time, err error) {
	err = p.store.Write(ctx, func(tx *store.Tx) error {
		row, err := tx.Person(name)
		if err != nil {
			return err
		}
		if row.Failures++; row.Failures >= failuresFree {
			locked := lockedMost
			if n := row.Failures - failuresFree; n < 6 {
				locked = min(lockedMost, lockedFirst<<n)
			}
			at := p.now().Add(locked)
			row.LockedTo, until = &at, &at
		}
		return tx.SavePerson(&row)
	})
	return until, err
}

// touchEach is how often it is noted that a session is used.
const touchEach = time.Minute

// Who gives who is signed in by a session. The error is ErrNotSignedIn.
func (p *People) Who(ctx context.Context, token, from string) (*access.Who, error) {
	if token == "" || len(token) > 100 {
		return nil, ErrNotSignedIn
	}
	loaded, err := p.sessions.Load(ctx, token)
	if err != nil {
		return nil, err
	}
	name := p.sessions.GetString(loaded, personKey)
	if name == "" {
		return nil, ErrNotSignedIn
	}
	row, err := p.store.Person(name)
	if errors.Is(err, store.ErrNotFound) || err == nil && row.Ended {
		return nil, ErrNotSignedIn
	}
	if err != nil {
		return nil, err
	}
	w, err := p.who(&row)
	if err != nil {
		return nil, err
	}
	s, err := p.store.Session(hashed(token))
	if err != nil {
		return nil, err
	}
	if at := p.sessions.GetInt64(loaded, changedKey); at > 0 {
		w.Changed = time.UnixMicro(at).UTC()
	}
	if w.Session, w.From = s.ID, from; p.now().Sub(s.SeenAt) >= touchEach {
		p.sessions.Put(loaded, "seen", s.SeenAt.Unix()) // what has changed is written, and stands longer
		if _, _, err := p.sessions.Commit(loaded); err != nil {
			return nil, err
		}
	}
	return w, nil
}

// SignOut ends a session.
func (p *People) SignOut(ctx context.Context, token string) error {
	if token == "" || len(token) > 100 {
		return nil
	}
	return p.store.Write(ctx, func(tx *store.Tx) error { return tx.DropSession(hashed(token)) })
}

// Open is a session, as its person sees it.
type Open struct {
	ID        string    `json:"id"`
	From      string    `json:"from"`
	Agent     string    `json:"agent"`
	CreatedAt time.Time `json:"createdAt"`
	SeenAt    time.Time `json:"seenAt"`
	Until     time.Time `json:"until"` // unless it is used again
}

// Sessions lists where somebody is signed in, the latest first.
func (p *People) Sessions(name string) ([]Open, error) {
	rows, err := p.store.Sessions(name)
	out := make([]Open, 0, len(rows))
	for _, r := range rows {
		if p.now().Before(r.Until) {
			out = append(out, Open{r.ID, r.Source, r.Agent, r.CreatedAt, r.SeenAt, r.Until})
		}
	}
	return out, err
}

// End ends a session of somebody by its id; all of them but one where id is "".
func (p *People) End(ctx context.Context, name, id, but string) error {
	return p.store.Write(ctx, func(tx *store.Tx) error {
		if id == "" {
			return tx.EndSessions(name, but)
		}
		return tx.EndSession(name, id)
	})
}

// Change sets another password for somebody who knows the present one; all sessions but
// one end.
func (p *People) Change(ctx context.Context, name, old, text, session string) error {
	row, err := p.store.Person(name)
	if err != nil {
		return err
	}
	if row.LockedTo != nil && p.now().Before(*row.LockedTo) {
		return &LockedError{*row.LockedTo}
	}
	if row.Password != "" {
		kept, err := p.store.UnsealPassword(&row)
		if err != nil {
			return err
		}
		err = p.hashing(ctx, func() error { return password.Verify(kept, old) })
		if errors.Is(err, password.ErrWrong) {
			if until, bad := p.failed(ctx, name); bad != nil || until != nil {
				return errors.Join(bad, ErrWrong)
			}
			return ErrWrong
		}
		if err != nil {
			return err
		}
	}
	kept, err := p.keep(ctx, text, row.Name, row.Title)
	if err != nil {
		return err
	}
	return p.store.Write(ctx, func(tx *store.Tx) error {
		row, err := tx.Person(name)
		if err != nil {
			return err
		}
		row.Password, row.ChangedAt, row.Failures, row.LockedTo = kept, p.now(), 0, nil
		return errors.Join(tx.SavePerson(&row), tx.EndSessions(name, session))
	})
}

// Package people knows who may use the application: who signs in, how, and for how long.
//
// It promises:
//   - The first owner is whoever has the link that is printed while there is nobody; that
//     link works once.
//   - What is kept of passwords, sessions and links is of no use to whoever reads it: an
//     argon2id hash, and hashes of random texts of 128 bits and more.
//   - A session begins anew with each sign-in (no text that was known before goes on), ends
//     after a time without use and at the latest after another, and ends at once for whoever
//     is ended or changes the password.
//   - Guessing is slow: after some failures an account is locked for a while, and an address
//     from which many come is asked to wait. What a wrong name is answered is what a wrong
//     password is, and takes as long.
//   - There is always an owner who can sign in.
package people

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/alexedwards/scs/v2"

	"readyferry/core/access"
	"readyferry/engine/people/password"
	"readyferry/store"
)

// Errors of signing in. Who comes is told no more than they say.
var (
	ErrNotSignedIn = errors.New("nobody is signed in")
	ErrWrong       = errors.New("name or password is not right")
	ErrLocked      = errors.New("it was tried too often")
	ErrLink        = errors.New("the link is not good any more")
	ErrRule        = errors.New("this cannot be done")
)

// LockedError says until when nobody is let in.
type LockedError struct{ Until time.Time }

// Error implements error.
func (e *LockedError) Error() string { return ErrLocked.Error() }

// Unwrap gives ErrLocked.
func (e *LockedError) Unwrap() error { return ErrLocked }

// Config is what it needs.
type Config struct {
	Store *store.Store
	Log   *slog.Logger
	Now   func() time.Time
	// Idle is how long a session stands without use, Longest how long at most; 0: as usual.
	Idle, Longest time.Duration
}

// How long sessions stand where nothing else is said (ASVS 4.0, 3.3.2, level 2).
const (
	UsualIdle    = 30 * time.Minute
	UsualLongest = 12 * time.Hour
)

// linkLives is how long a link may be used that lets somebody choose a password.
const linkLives = 7 * 24 * time.Hour

// atOnce is how many passwords are verified at once: each takes 19 MiB.
const atOnce = 4

// People is safe for concurrent use.
type People struct {
	store    *store.Store
	log      *slog.Logger
	now      func() time.Time
	sessions *scs.SessionManager
	work     chan struct{} // held while a password is hashed
	guesses  guesses
}

// New makes it.
func New(c Config) *People {
	if c.Idle <= 0 {
		c.Idle = UsualIdle
	}
	if c.Longest <= 0 {
		c.Longest = UsualLongest
	}
	p := &People{store: c.Store, log: c.Log, now: c.Now, work: make(chan struct{}, atOnce)}
	// Made by hand: scs.New begins with a store of its own, that looks after itself for ever.
	p.sessions = &scs.SessionManager{IdleTimeout: c.Idle, Lifetime: c.Longest, HashTokenInStore: true,
		Codec: scs.GobCodec{},
		Store: &keeper{p}}
	p.guesses.all = map[string]*guessed{}
	return p
}

// Someone is a person, as others see them.
type Someone struct {
	Name      string         `json:"name"`
	Title     string         `json:"title"`
	Grants    []access.Grant `json:"grants"`
	Ended     bool           `json:"ended"`
	Password  bool           `json:"password"` // there is one
	Passkeys  int            `json:"passkeys"`
	OpenID    bool           `json:"openId"` // signs in through the issuer
	Locked    *time.Time     `json:"lockedTo"`
	CreatedAt time.Time      `json:"createdAt"`
	SeenAt    *time.Time     `json:"seenAt"`
	Sessions  int            `json:"sessions"`
}

var personName = regexp.MustCompile(`^[a-z0-9][a-z0-9._@+-]{0,99}$`)

// NameOf gives a name as it is kept: small letters.
func NameOf(text string) string { return strings.ToLower(strings.TrimSpace(text)) }

func checkName(name string) error {
	if !personName.MatchString(name) {
		return fmt.Errorf("%w: %q is no name to sign in by; letters, digits and . _ @ + - are taken, up to 100", ErrRule,
			name)
	}
	return nil
}

// None tells whether there is nobody who could sign in yet.
func (p *People) None() (bool, error) {
	all, err := p.store.People()
	return len(all) == 0, err
}

func hashOf(secret string) []byte {
	h := sha256.Sum256([]byte(secret))
	return h[:]
}

// First gives the secret of the link by which the first owner comes, while there is nobody;
// "" where there is somebody. Each call makes another.
func (p *People) First(ctx context.Context) (secret string, err error) {
	if none, err := p.None(); err != nil || !none {
		return "", err
	}
	return p.link(ctx, "", time.Time{})
}

// far is when a link ends that ends when it is used.
var far = time.Date(9000, 1, 1, 0, 0, 0, 0, time.UTC)

func (p *People) link(ctx context.Context, person string, until time.Time) (string, error) {
	secret := rand.Text()
	if until.IsZero() {
		until = far
	}
	i := &store.Invitation{Hash: hashOf(secret), Person: person, Until: until}
	return secret, p.store.Write(ctx, func(tx *store.Tx) error { return tx.SaveInvitation(i) })
}

// Invite gives the secret of a link by which a person chooses a password, in place of an
// earlier link. Sessions go on.
func (p *People) Invite(ctx context.Context, name string) (string, error) {
	if _, err := p.store.Person(name); err != nil {
		return "", err
	}
	return p.link(ctx, name, p.now().Add(linkLives))
}

// Invited gives for whom a link is good: a name, or "" for the first owner. The error is
// ErrLink for one that is not.
func (p *People) Invited(secret string) (string, error) {
	i, err := p.store.Invitation(hashOf(secret))
	if errors.Is(err, store.ErrNotFound) || err == nil && p.now().After(i.Until) {
		return "", ErrLink
	}
	return i.Person, err
}

// Come uses a link: the person it is for has the password from now on, and all earlier
// sessions end. The first owner chooses a name, too.
func (p *People) Come(ctx context.Context, secret, name, title, text string) (*access.Who, error) {
	invited, err := p.Invited(secret)
	if err != nil {
		return nil, err
	}
	if name = NameOf(name); invited != "" {
		name = invited
	}
	if err := checkName(name); err != nil {
		return nil, err
	}
	kept, err := p.keep(ctx, text, name, title)
	if err != nil {
		return nil, err
	}
	var row store.Person
	err = p.store.Write(ctx, func(tx *store.Tx) error {
		if err := tx.DropInvitation(hashOf(secret)); errors.Is(err, store.ErrNotFound) {
			return ErrLink
		} else if err != nil {
			return err
		}
		row, err = tx.Person(name)
		switch {
		case invited == "":
			if all, err := tx.People(); err != nil || len(all) > 0 {
				return errors.Join(ErrLink, err)
			}
			row = store.Person{Name: name, Title: title, Grants: grantsOf(first()), CreatedAt: p.now()}
		case err != nil:
			return err
		}
		if title != "" {
			row.Title = title
		}
		row.Password, row.ChangedAt, row.Failures, row.LockedTo = kept, p.now(), 0, nil
		return errors.Join(tx.SavePerson(&row), tx.EndSessions(name, ""))
	})
	if err != nil {
		return nil, err
	}
	return p.who(&row)
}

// first are the roles of the first owner: everything but what is masked, which they would
// have to give themselves, where it is written down.
func first() (out []access.Grant) {
	for _, r := range access.Roles() {
		if r != access.Unmasker {
			out = append(out, access.Grant{Role: r, Area: access.Everywhere})
		}
	}
	return out
}

func grantsOf(all []access.Grant) []byte {
	b, err := json.Marshal(all)
	if err != nil {
		panic(err) // two texts each
	}
	return b
}

// keep checks a new password and gives what is kept of it, sealed.
func (p *People) keep(ctx context.Context, text, name, title string) (kept string, err error) {
	if err := password.Check(text, about(name, title)...); err != nil {
		return "", fmt.Errorf("%w: the password: %w", ErrRule, err)
	}
	err = p.hashing(ctx, func() (err error) {
		kept, err = password.Hash(text)
		return err
	})
	if err != nil {
		return "", err
	}
	return p.store.SealPassword(name, kept)
}

// about gives the words that stand near to a person.
func about(name, title string) []string {
	words := append(strings.FieldsFunc(name, func(r rune) bool { return strings.ContainsRune("._@+-", r) }), name)
	return append(words, strings.Fields(title)...)
}

// Strength says how good a new password of somebody would be (see password.Strength). name is
// theirs, or what the first owner wants to be called.
func (p *People) Strength(ctx context.Context, text, name, title string) (of1 float64, wrong string, err error) {
	if row, err := p.store.Person(NameOf(name)); err == nil {
		title = row.Title
	}
	if len(text) > 4*password.Most {
		text = text[:4*password.Most] // it is too long anyhow
	}
	err = p.hashing(ctx, func() error {
		of1, wrong = password.Strength(text, about(NameOf(name), title)...)
		return nil
	})
	return of1, wrong, err
}

// hashing runs what takes much memory, few at a time.
func (p *People) hashing(ctx context.Context, do func() error) error {
	select {
	case p.work <- struct{}{}:
		defer func() { <-p.work }()
		return do()
	case <-ctx.Done():
		return ctx.Err()
	}
}

// who makes of a row who it is.
func (p *People) who(row *store.Person) (*access.Who, error) {
	w := &access.Who{Kind: access.Person, Name: row.Name, Title: row.Title}
	if w.Title == "" {
		w.Title = row.Name
	}
	if err := json.Unmarshal(row.Grants, &w.Grants); err != nil {
		return nil, fmt.Errorf("the roles of %s: %w", row.Name, err)
	}
	return w, nil
}

// List gives all people.
func (p *People) List() ([]Someone, error) {
	rows, err := p.store.People()
	if err != nil {
		return nil, err
	}
	keys, err := p.store.Passkeys("")
	if err != nil {
		return nil, err
	}
	out := make([]Someone, 0, len(rows))
	for i := range rows {
		s, err := p.someone(&rows[i], keys)
		if err != nil {
			return nil, err
		}
		out = append(out, s)
	}
	return out, nil
}

func (p *People) someone(row *store.Person, keys []store.Passkey) (Someone, error) {
	s := Someone{Name: row.Name, Title: row.Title, Ended: row.Ended, Password: row.Password != "",
		OpenID:    row.Subject != "",
		CreatedAt: row.CreatedAt, SeenAt: row.SeenAt}
	if row.LockedTo != nil && p.now().Before(*row.LockedTo) {
		s.Locked = row.LockedTo
	}
	for i := range keys {
		if keys[i].Person == row.Name {
			s.Passkeys++
		}
	}
	open, err := p.Sessions(row.Name)
	if err != nil {
		return s, err
	}
	s.Sessions = len(open)
	return s, json.Unmarshal(row.Grants, &s.Grants)
}

// Save creates or changes somebody. Whoever is ended is signed out everywhere; the last
// owner who can sign in stays one.
func (p *People) Save(ctx context.Context, name, title string, grants []access.Grant, ended bool) error {
	if err := checkName(name); err != nil {
		return err
	}
	if len(title) > 200 || len(grants) > 200 {
		return fmt.Errorf("%w: a title has up to 200 letters, and a person up to 200 roles", ErrRule)
	}
	for _, g := range grants {
		if err := g.Check(); err != nil {
			return fmt.Errorf("%w: %w", ErrRule, err)
		}
	}
	return p.store.Write(ctx, func(tx *store.Tx) error {
		row, err := tx.Person(name)
		if errors.Is(err, store.ErrNotFound) {
			row = store.Person{Name: name, CreatedAt: p.now(), ChangedAt: p.now()}
		} else if err != nil {
			return err
		}
		row.Title, row.Grants, row.Ended = title, grantsOf(grants), ended
		if err := tx.SavePerson(&row); err != nil {
			return err
		}
		if ended {
			if err := tx.EndSessions(name, ""); err != nil {
				return err
			}
		}
		return stillOwned(tx)
	})
}

// StillOwned refuses a change behind which nobody could give rights any more.
func StillOwned(tx *store.Tx) error { return stillOwned(tx) }

// stillOwned refuses a change behind which nobody could give rights any more. Somebody who
// has not come yet does not count, unless nobody has.
func stillOwned(tx *store.Tx) error {
	all, err := tx.People()
	if err != nil {
		return err
	}
	for i := range all {
		var grants []access.Grant
		if err := json.Unmarshal(all[i].Grants, &grants); err != nil {
			return err
		}
		if !all[i].Ended && slices.ContainsFunc(grants, func(g access.Grant) bool { return g.Role == access.Owner }) {
			return nil
		}
	}
	return fmt.Errorf("%w: there would be no owner left; make somebody else one first", ErrRule)
}

// Remove takes somebody away, with sessions and passkeys. What they did stays under their
// name.
func (p *People) Remove(ctx context.Context, name string) error {
	return p.store.Write(ctx, func(tx *store.Tx) error {
		if err := tx.DropPerson(name); err != nil {
			return err
		}
		return stillOwned(tx)
	})
}

// Unlock lets somebody try again who has failed too often.
func (p *People) Unlock(ctx context.Context, name string) error {
	return p.store.Write(ctx, func(tx *store.Tx) error {
		row, err := tx.Person(name)
		if err != nil {
			return err
		}
		row.Failures, row.LockedTo = 0, nil
		return tx.SavePerson(&row)
	})
}

package people

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"sync"
	"time"

	"github.com/go-webauthn/webauthn/protocol"
	"github.com/go-webauthn/webauthn/webauthn"

	"readyferry/core/access"
	"readyferry/store"
)

// Passkeys lets people sign in by credentials that their device holds (WebAuthn Level 2).
// A credential is bound to the host that it was made at.
type Passkeys struct {
	p *People

	mu    sync.Mutex
	begun map[string]ceremony
}

// ceremony is a registration or a sign-in under way.
type ceremony struct {
	data  webauthn.SessionData
	who   string // registers; "" signs in
	until time.Time
}

// NewPasskeys makes it.
func NewPasskeys(p *People) *Passkeys { return &Passkeys{p: p, begun: map[string]ceremony{}} }

// ceremonyWithin is how long a person may take, and ceremoniesAtOnce how many may be under way.
const (
	ceremonyWithin   = 5 * time.Minute
	ceremoniesAtOnce = 10_000
)

// at gives the library for the host by which a browser calls.
func at(host, origin string) (*webauthn.WebAuthn, error) {
	return webauthn.New(&webauthn.Config{
		RPID: host, RPDisplayName: "Ready Ferry", RPOrigins: []string{origin},
		AuthenticatorSelection: protocol.AuthenticatorSelection{
			ResidentKey: protocol.ResidentKeyRequirementRequired, UserVerification: protocol.VerificationRequired},
	})
}

// holder is a person as the library knows one.
type holder struct {
	row  store.Person
	keys []webauthn.Credential
}

// WebAuthnID implements webauthn.User.
func (h *holder) WebAuthnID() []byte { return []byte(h.row.Name) }

// WebAuthnName implements webauthn.User.
func (h *holder) WebAuthnName() string { return h.row.Name }

// WebAuthnDisplayName implements webauthn.User.
func (h *holder) WebAuthnDisplayName() string {
	if h.row.Title != "" {
		return h.row.Title
	}
	return h.row.Name
}

// WebAuthnCredentials implements webauthn.User.
func (h *holder) WebAuthnCredentials() []webauthn.Credential { return h.keys }

func (k *Passkeys) holder(name string) (*holder, error) {
	row, err := k.p.store.Person(name)
	if err != nil {
		return nil, err
	}
	rows, err := k.p.store.Passkeys(name)
	if err != nil {
		return nil, err
	}
	h := &holder{row: row}
	for _, r := range rows {
		var c webauthn.Credential
		if err := json.Unmarshal(r.Credential, &c); err != nil {
			return nil, fmt.Errorf("a passkey of %s: %w", name, err)
		}
		h.keys = append(h.keys, c)
	}
	return h, nil
}

func (k *Passkeys) keep(data *webauthn.SessionData, who string) string {
	id, now := rand.Text(), k.p.now()
	k.mu.Lock()
	defer k.mu.Unlock()
	for key, one := range k.begun {
		if now.After(one.until) || len(k.begun) >= ceremoniesAtOnce {
			delete(k.begun, key)
		}
	}
	k.begun[id] = ceremony{*data, who, now.Add(ceremonyWithin)}
	return id
}

// take gives a ceremony that was begun, once.
func (k *Passkeys) take(id, who string) (*ceremony, error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	c, there := k.begun[id]
	delete(k.begun, id)
	if !there || k.p.now().After(c.until) || c.who != who {
		return nil, fmt.Errorf("%w: that took too long, or was not begun here; begin again", ErrRule)
	}
	return &c, nil
}

// Register begins to make a passkey of somebody who is signed in: what the browser is asked,
// and the id of the ceremony.
func (k *Passkeys) Register(name, host, origin string) (options *protocol.CredentialCreation, id string, err error) {
	w, err := at(host, origin)
	if err != nil {
		return nil, "", fmt.Errorf("%w: %w", ErrRule, err)
	}
	h, err := k.holder(name)
	if err != nil {
		return nil, "", err
	}
	var have []protocol.CredentialDescriptor
	for _, c := range h.keys {
		have = append(have, c.Descriptor())
	}
	options, data, err := w.BeginRegistration(h, webauthn.WithExclusions(have))
	if err != nil {
		return nil, "", err
	}
	return options, k.keep(data, name), nil
}

// Registered keeps the passkey that a device has made.
func (k *Passkeys) Registered(ctx context.Context, name, id, title string, answer []byte, host, origin string) error {
	c, err := k.take(id, name)
	if err != nil {
		return err
	}
	w, err := at(host, origin)
	if err != nil {
		return fmt.Errorf("%w: %w", ErrRule, err)
	}
	h, err := k.holder(name)
	if err != nil {
		return err
	}
	parsed, err := protocol.ParseCredentialCreationResponseBody(bytes.NewReader(answer))
	if err != nil {
		return fmt.Errorf("%w: what the device says cannot be read: %w", ErrRule, err)
	}
	made, err := w.CreateCredential(h, c.data, parsed)
	if err != nil {
		return fmt.Errorf("%w: what the device says is not taken: %w", ErrRule, err)
	}
	b, err := json.Marshal(made)
	if err != nil {
		return err
	}
	row := &store.Passkey{ID: made.ID, Person: name, Title: clipped(title, 100), Credential: b, CreatedAt: k.p.now()}
	return k.p.store.Write(ctx, func(tx *store.Tx) error {
		person, err := tx.Person(name)
		if err != nil {
			return err
		}
		person.ChangedAt = k.p.now()
		return errors.Join(tx.SavePasskey(row), tx.SavePerson(&person))
	})
}

// SignIn begins a sign-in by whatever passkey the device has for this host.
func (k *Passkeys) SignIn(host, origin string) (options *protocol.CredentialAssertion, id string, err error) {
	w, err := at(host, origin)
	if err != nil {
		return nil, "", fmt.Errorf("%w: %w", ErrRule, err)
	}
	options, data, err := w.BeginDiscoverableLogin(webauthn.WithUserVerification(protocol.VerificationRequired))
	if err != nil {
		return nil, "", err
	}
	return options, k.keep(data, ""), nil
}

// SignedIn lets somebody in whose device has answered.
func (k *Passkeys) SignedIn(
	ctx context.Context, id string, answer []byte, host, origin string, a Arrival, old string,
) (token string, who *access.Who, err error) {
	if err := k.p.guesses.enter(a.From, k.p.now()); err != nil {
		return "", nil, err
	}
	c, err := k.take(id, "")
	if err != nil {
		return "", nil, err
	}
	w, err := at(host, origin)
	if err != nil {
		return "", nil, fmt.Errorf("%w: %w", ErrRule, err)
	}
	parsed, err := protocol.ParseCredentialRequestResponseBody(bytes.NewReader(answer))
	if err != nil {
		return "", nil, fmt.Errorf("%w: what the device says cannot be read: %w", ErrRule, err)
	}
	var found *holder
	used, err := w.ValidateDiscoverableLogin(func(_, handle []byte) (webauthn.User, error) {
		found, err = k.holder(string(handle))
		if err != nil {
			return nil, err
		}
		return found, nil
	}, c.data, parsed)
	if err != nil || used.Authenticator.CloneWarning {
		k.p.guesses.failed(a.From, k.p.now())
		return "", nil, ErrWrong
	}
	if err := k.used(ctx, found.row.Name, used); err != nil {
		return "", nil, err
	}
	return k.p.let(ctx, &found.row, a, old)
}

// used notes that a passkey was used, with its new count.
func (k *Passkeys) used(ctx context.Context, name string, c *webauthn.Credential) error {
	b, err := json.Marshal(c)
	if err != nil {
		return err
	}
	now := k.p.now()
	return k.p.store.Write(ctx, func(tx *store.Tx) error {
		rows, err := tx.Passkeys(name)
		if err != nil {
			return err
		}
		for i := range rows {
			if bytes.Equal(rows[i].ID, c.ID) {
				rows[i].Credential, rows[i].UsedAt = b, &now
				return tx.SavePasskey(&rows[i])
			}
		}
		return ErrWrong
	})
}

// Passkey is one, as its person sees it.
type Passkey struct {
	ID        []byte     `json:"id"`
	Title     string     `json:"title"`
	CreatedAt time.Time  `json:"createdAt"`
	UsedAt    *time.Time `json:"usedAt"`
}

// List gives the passkeys of somebody.
func (k *Passkeys) List(name string) ([]Passkey, error) {
	rows, err := k.p.store.Passkeys(name)
	out := make([]Passkey, 0, len(rows))
	for _, r := range rows {
		out = append(out, Passkey{r.ID, r.Title, r.CreatedAt, r.UsedAt})
	}
	return out, err
}

// Drop removes a passkey of somebody, unless it is the last way in.
func (k *Passkeys) Drop(ctx context.Context, name string, id []byte) error {
	return k.p.store.Write(ctx, func(tx *store.Tx) error {
		row, err := tx.Person(name)
		if err != nil {
			return err
		}
		rows, err := tx.Passkeys(name)
		if err != nil {
			return err
		}
		if len(rows) == 1 && row.Password == "" && row.Subject == "" {
			return fmt.Errorf("%w: it is the last way in; choose a password or make another passkey first", ErrRule)
		}
		if err := tx.DropPasskey(name, id); err != nil {
			return err
		}
		row.ChangedAt = k.p.now()
		return tx.SavePerson(&row)
	})
}

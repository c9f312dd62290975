package catalog

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"readyferry/core/access"
	"readyferry/core/flow"
	"readyferry/core/run"
	"readyferry/store"
)

// What a key may do with what it names.
const (
	MaySend   = access.MaySend
	MayTake   = access.MayTake
	MayRead   = access.MayRead
	MayManage = access.MayManage
)

// Right is what a key may do, and with what.
type Right = access.KeyRight

// Key is a key as people see it.
type Key struct {
	Name      string     `json:"name"`
	Note      string     `json:"note"`
	Rights    []Right    `json:"rights"`
	Until     *time.Time `json:"until"`
	CreatedAt time.Time  `json:"createdAt"`
	UsedAt    *time.Time `json:"usedAt"`
	// PerSecond and Bytes bound the calls with it, and the bytes that these bring, a second;
	// 0 bounds nothing.
	PerSecond int   `json:"perSecond"`
	Bytes     int64 `json:"bytes"`
}

// Errors of keys. Who presents one is told no more.
var (
	ErrNoKey        = errors.New("no key is given that is known here")
	ErrNotPermitted = errors.New("the key does not permit it")
)

// keyPrefix begins every key, so that one is recognised where it should not be.
const keyPrefix = "rfk_"

// Check says what is wrong with the rights of a key, or nil.
func (k *Key) Check() error {
	if len(k.Rights) == 0 || len(k.Rights) > 50 {
		return errors.New("a key has rights: 1 to 50 of them")
	}
	if k.PerSecond < 0 || k.PerSecond > 1_000_000 || k.Bytes < 0 {
		return errors.New(
			"a key is good for 1 to 1000000 calls a second, or for any number with 0; bytes cannot be negative",
		)
	}
	for _, r := range k.Rights {
		if err := r.Check(); err != nil {
			return err
		}
	}
	return nil
}

// permits tells whether a key permits something on something.
func (k *Key) permits(may string, on access.Thing) bool {
	return slices.ContainsFunc(k.Rights, func(r Right) bool { return slices.Contains(r.May, may) && r.Covers(on) })
}

// known is a key with what it hashes to.
type known struct {
	Key
	hash []byte
	rate *Rate // nil: not bounded
}

// Keys lists the keys by name.
func (c *Catalog) Keys() ([]Key, error) { return KeysIn(c.store) }

// KeysIn lists the keys of a store by name.
func KeysIn(s *store.Store) ([]Key, error) {
	rows, err := s.Keys()
	if err != nil {
		return nil, err
	}
	out := make([]Key, 0, len(rows))
	for _, row := range rows {
		k, err := read(&row)
		if err != nil {
			return nil, err
		}
		out = append(out, k.Key)
	}
	return out, nil
}

func read(row *store.Key) (known, error) {
	k := known{
		Key{row.Name, row.Note, nil, row.Until, row.CreatedAt, row.UsedAt, row.PerSecond, row.Bytes},
		row.Hash,
		nil,
	}
	if b := (flow.Bounds{PerSecond: k.PerSecond, Bytes: k.Bytes}); b != (flow.Bounds{}) {
		k.rate = NewRate(b)
	}
	if err := json.Unmarshal(row.Rights, &k.Rights); err != nil {
		return k, fmt.Errorf("the rights of the key %s: %w", row.Name, err)
	}
	return k, nil
}

// loadKeys reads the keys anew.
func (c *Catalog) loadKeys() error {
	rows, err := c.store.Keys()
	if err != nil {
		return err
	}
	keys := make([]known, 0, len(rows))
	for i := range rows {
		k, err := read(&rows[i])
		if err != nil {
			return err
		}
		keys = append(keys, k)
	}
	c.mu.Lock()
	for i := range keys {
		for j := range c.keys { // what it has used up of its rate goes on
			if c.keys[j].Name == keys[i].Name && c.keys[j].PerSecond == keys[i].PerSecond && c.keys[j].Bytes == keys[i].Bytes {
				keys[i].rate = c.keys[j].rate
			}
		}
	}
	c.keys = keys
	c.mu.Unlock()
	return nil
}

// MakeKey makes a key and gives it; it is never shown again.
func (c *Catalog) MakeKey(ctx context.Context, k Key, now time.Time) (secret string, err error) {
	if secret, err = MakeKeyIn(ctx, c.store, k, now); err != nil {
		return "", err
	}
	return secret, c.loadKeys()
}

// MakeKeyIn makes a key in a store and gives it.
func MakeKeyIn(ctx context.Context, s *store.Store, k Key, now time.Time) (secret string, err error) {
	if err := k.Check(); err != nil {
		return "", err
	}
	rights, err := json.Marshal(k.Rights)
	if err != nil {
		return "", err
	}
	secret = keyPrefix + rand.Text()
	hash := sha256.Sum256([]byte(secret))
	row := store.Key{Name: k.Name, Note: k.Note, Hash: hash[:], Rights: rights, Until: k.Until, CreatedAt: now,
		PerSecond: k.PerSecond, Bytes: k.Bytes}
	return secret, s.Write(ctx, func(tx *store.Tx) error { return tx.AddKey(&row) })
}

// DropKey removes a key; nobody gets in with it from now on. It gives
// store.ErrNotFound where there is none of that name.
func (c *Catalog) DropKey(ctx context.Context, name string) error {
	err := c.store.Write(ctx, func(tx *store.Tx) error {
		was, err := tx.DropKey(name)
		if err == nil && !was {
			return store.ErrNotFound
		}
		return err
	})
	if err != nil {
		return err
	}
	return c.loadKeys()
}

// Takers gives the names of the keys with which programs outside may take from a queue or
// topic, as queue:name or topic:name.
func (c *Catalog) Takers(on string) []string {
	thing := c.thing(on)
	c.mu.Lock()
	defer c.mu.Unlock()
	out := []string{}
	for i := range c.keys {
		if c.keys[i].permits(MayTake, thing) {
			out = append(out, c.keys[i].Name)
		}
	}
	return out
}

// Within counts a call with a key against what it is good for. The error is a
// *run.RefusedError that says when to come again.
func (c *Catalog) Within(name string, bytes int64) error {
	if after := c.rateOf(name).Take(max(0, bytes), time.Now()); after > 0 {
		return &run.RefusedError{Status: 429, Title: "The key is used too often", RetryAfter: after,
			Detail: "the key " + name + " is good for fewer calls a second, or fewer bytes; nothing was done, come again later"}
	}
	return nil
}

// Spent counts bytes that came with a call whose length was not known before, or was more
// than what Within was told: the next call with the key waits for them.
func (c *Catalog) Spent(name string, bytes int64) { c.rateOf(name).Spend(0, bytes, time.Now()) }

// rateOf gives what a key is good for; nil: for everything.
func (c *Catalog) rateOf(name string) *Rate {
	c.mu.Lock()
	defer c.mu.Unlock()
	for i := range c.keys {
		if c.keys[i].Name == name {
			return c.keys[i].rate
		}
	}
	return nil
}

// usedEvery is how often it is written down that a key was used.
const usedEvery = time.Minute

// thing gives what kind:name names.
func (c *Catalog) thing(on string) access.Thing {
	kind, name, _ := strings.Cut(on, ":")
	return c.Thing(kind, name)
}

// Permits tells whether a presented key permits something on something, as kind:name, and
// gives its name. The error is ErrNoKey, or ErrNotPermitted.
func (c *Catalog) Permits(ctx context.Context, presented, may, on string, now time.Time) (name string, err error) {
	thing := c.thing(on)
	k, err := c.presented(ctx, presented, now)
	if err != nil {
		return "", err
	}
	if !k.permits(may, thing) {
		return k.Name, fmt.Errorf("%w: %s on %s", ErrNotPermitted, may, on)
	}
	return k.Name, nil
}

// WhoHas gives who calls with a presented key. The error is ErrNoKey, or says that the key
// is used too often.
func (c *Catalog) WhoHas(ctx context.Context, presented, from string, now time.Time) (*access.Who, error) {
	k, err := c.presented(ctx, presented, now)
	if err == nil {
		err = c.Within(k.Name, 0)
	}
	if err != nil {
		return nil, err
	}
	return &access.Who{Kind: access.Key, Name: k.Name, Title: k.Name, Rights: k.Rights, From: from}, nil
}

// presented finds the key that somebody presents, and notes now and then that it is used.
func (c *Catalog) presented(ctx context.Context, secret string, now time.Time) (Key, error) {
	hash := sha256.Sum256([]byte(secret))
	if err := c.lookAtKeys(now); err != nil {
		return Key{}, err
	}
	k, first := c.find(hash[:], now)
	if k == nil {
		return Key{}, ErrNoKey
	}
	if !first {
		return *k, nil
	}
	return *k, c.store.Write(ctx, func(tx *store.Tx) error { return tx.KeyUsed(k.Name, now) })
}

// UsedKeys tells when each key was used last, of those that were.
func (c *Catalog) UsedKeys() map[string]time.Time {
	c.mu.Lock()
	defer c.mu.Unlock()
	out := map[string]time.Time{}
	for i := range c.keys {
		if at := c.keys[i].UsedAt; at != nil {
			out[c.keys[i].Name] = *at
		}
	}
	return out
}

// KeysWereUsed notes when keys were used in another partition, where that is later than what is known here.
func (c *Catalog) KeysWereUsed(ctx context.Context, used map[string]time.Time) error {
	later := map[string]time.Time{}
	c.mu.Lock()
	for i := range c.keys {
		k := &c.keys[i]
		if at, is := used[k.Name]; is && (k.UsedAt == nil || at.After(*k.UsedAt)) {
			k.UsedAt, later[k.Name] = &at, at
		}
	}
	c.mu.Unlock()
	if len(later) == 0 {
		return nil
	}
	return c.store.Write(ctx, func(tx *store.Tx) error {
		for name, at := range later {
			if err := tx.KeyUsed(name, at); err != nil {
				return err
			}
		}
		return nil
	})
}

// keysFor is how long keys are taken from memory: the command line may have made or ended
// one beside.
const keysFor = 2 * time.Second

func (c *Catalog) lookAtKeys(now time.Time) error {
	c.mu.Lock()
	fresh := now.Sub(c.keysAt).Abs() < keysFor
	if !fresh {
		c.keysAt = now
	}
	c.mu.Unlock()
	if fresh {
		return nil
	}
	return c.loadKeys()
}

// find looks for a key that is good now; first tells that its use is to be noted.
func (c *Catalog) find(hash []byte, now time.Time) (k *Key, first bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	var found *known
	for i := range c.keys {
		if subtle.ConstantTimeCompare(c.keys[i].hash, hash) == 1 {
			found = &c.keys[i]
		}
	}
	if found == nil || found.Until != nil && !now.Before(*found.Until) {
		return nil, false
	}
	if first = found.UsedAt == nil || now.Sub(*found.UsedAt) >= usedEvery; first {
		found.UsedAt = &now
	}
	out := found.Key
	return &out, first
}

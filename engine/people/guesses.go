package people

import (
	"crypto/sha256"
	"encoding/base64"
	"net/netip"
	"sync"
	"time"
)

// guesses slow down whoever guesses at many accounts from one address.
type guesses struct {
	mu  sync.Mutex
	all map[string]*guessed
}

type guessed struct {
	failures int
	since    time.Time
}

// So many failures from one address within guessedFor are taken; then it is asked to wait
// until that is over. So many addresses are kept in mind.
const (
	guessedMost = 30
	guessedFor  = 10 * time.Minute
	guessedKept = 10_000
)

// network is from where a call is: an address, or for IPv6 the network that one household
// or machine has (RFC 6177).
func network(from string) string {
	a, err := netip.ParseAddr(from)
	if ap, bad := netip.ParseAddrPort(from); err != nil && bad == nil {
		a, err = ap.Addr(), nil
	}
	if err != nil {
		return from
	}
	a = a.Unmap().WithZone("")
	if a.Is6() {
		p, _ := a.Prefix(64)
		return p.String()
	}
	return a.String()
}

// enter refuses an address from which too many have failed.
func (g *guesses) enter(from string, now time.Time) error {
	g.mu.Lock()
	defer g.mu.Unlock()
	one := g.all[network(from)]
	if one == nil || now.Sub(one.since) >= guessedFor || one.failures < guessedMost {
		return nil
	}
	return &LockedError{one.since.Add(guessedFor)}
}

// failed counts one.
func (g *guesses) failed(from string, now time.Time) {
	g.mu.Lock()
	defer g.mu.Unlock()
	at := network(from)
	one := g.all[at]
	if one == nil || now.Sub(one.since) >= guessedFor {
		if len(g.all) >= guessedKept {
			g.forget(now)
		}
		one = &guessed{since: now}
		g.all[at] = one
	}
	one.failures++
}

// forget lets go of those that are over, and of all where none is: the accounts themselves
// are locked all the same.
func (g *guesses) forget(now time.Time) {
	for at, one := range g.all {
		if now.Sub(one.since) >= guessedFor {
			delete(g.all, at)
		}
	}
	if len(g.all) >= guessedKept {
		clear(g.all)
	}
}

// hashed gives a token as the keeper of sessions keeps it.
func hashed(token string) string {
	h := sha256.Sum256([]byte(token))
	return base64.RawURLEncoding.EncodeToString(h[:])
}

// Package line is the line between the application and its runners: programs beside systems that
// only somebody else's network can reach.
//
// A runner connects outward and nothing connects to it. Both sides hold a messaging engine of their
// own (nats-server, as a library); the runner's is a leaf of the application's, over a WebSocket at
// the address at which people reach the application, so that every proxy that lets a browser through
// lets a runner through. Reconnecting, waiting and the frames are the engine's, not ours.
//
// It promises that a stranger gets nothing: the key is asked for before anything of the engine is
// shown, and once more by the engine itself. Each runner has an account of its own there, in which
// nothing is but what is said to it and what it says; it may listen to what it is asked and answer,
// and no more. A key that is withdrawn cuts the line at once.
package line

import (
	"errors"
	"fmt"
	"regexp"
	"time"

	"github.com/nats-io/nats-server/v2/server"
)

// The subjects that are spoken of, within the account of a runner.
const (
	// Do is asked of the runner: Do and the name of what is to be done.
	Do = "do."
	// Told is told by the runner, unasked: Told and the name of what it is.
	Told = "told."
	// Own is what a runner keeps to itself.
	Own = "own."
)

// MostBytes is the largest thing that is said at once, headers and all. Bodies are carried as
// they are in memory, so this bounds a message, too.
const MostBytes = 48 << 20

// beat is how often each side sees whether the other is there; after two without a word the line is
// taken for cut.
const beat = 2 * time.Second

// maxPings is how many beats may go without a word.
const maxPings = 2

var nameForm = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,62}$`)

// CheckName says what is wrong with the name of a runner, or nil.
func CheckName(name string) error {
	if !nameForm.MatchString(name) {
		return fmt.Errorf("%q is no name of a runner: small letters, digits and hyphens, at most 63", name)
	}
	return nil
}

// Path is where the line begins at the application's address; the engine puts its own word behind it.
const Path = "/line"

// leafPath is that word: by it the engine knows a leaf.
const leafPath = "/leafnode"

// ErrAway tells that a runner is not there, or its line is cut.
var ErrAway = errors.New("the runner is away")

// quiet are the settings of an engine that nobody is to notice.
func quiet() *server.Options {
	return &server.Options{
		NoSigs: true, NoLog: true, MaxPayload: MostBytes, MaxControlLine: 4096, PingInterval: beat, MaxPingsOut: maxPings,
		MaxPending: 2 * MostBytes, WriteDeadline: 10 * time.Second, NoSystemAccount: false,
	}
}

// ready waits until an engine takes connections.
func ready(s *server.Server) error {
	go s.Start()
	if !s.ReadyForConnections(20 * time.Second) {
		s.Shutdown()
		return errors.New("the engine of the line does not start")
	}
	return nil
}

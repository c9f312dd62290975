package connect

import (
	"strings"
	"sync"

	"github.com/google/uuid"
)

// Answers brings answers that come by a broker to those who wait for them. Each question
// goes out with a key of its own; an answer carries it back. The zero value is ready. It
// is safe for concurrent use.
type Answers[T any] struct {
	mu    sync.Mutex
	waits map[string]chan T
	late  func(id string, answer T)
}

// Expect gives the key of one try of a question, and where its first answer comes. done
// ends the wait.
func (a *Answers[T]) Expect(id string) (key string, answer <-chan T, done func()) {
	key = id + "." + uuid.NewString()[:8] // each try hears its own answer alone
	wait := make(chan T, 1)
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.waits == nil {
		a.waits = map[string]chan T{}
	}
	a.waits[key] = wait
	return key, wait, func() {
		a.mu.Lock()
		delete(a.waits, key)
		a.mu.Unlock()
	}
}

// Late says who is told of the answers for which nobody waits: those that come late, or
// a second time.
func (a *Answers[T]) Late(told func(id string, answer T)) {
	a.mu.Lock()
	a.late = told
	a.mu.Unlock()
}

// Hears hands an answer to whoever waits for it.
func (a *Answers[T]) Hears(key string, answer T) {
	a.mu.Lock()
	wait, late := a.waits[key], a.late
	delete(a.waits, key)
	a.mu.Unlock()
	id, _, made := strings.Cut(key, ".")
	switch {
	case wait != nil:
		wait <- answer // it has room for one
	case late != nil && made:
		late(id, answer)
	}
}

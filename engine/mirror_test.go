package engine

import (
	"errors"
	"os"
	"path/filepath"
	"sync"

	"readyferry/store"
	"readyferry/store/mirror"
)

// mirrors are the logs of the journals that tests write, by folder. With READYFERRY_MIRROR=1 every
// journal of every test here goes into a log, and a file that follows it must hold the same behind the
// test: the histories of all of them say whether a commit may be repeated elsewhere. A test that starts
// the engine anew does so over a file that was made from the log, as a member does that takes over.
var mirrors struct {
	mu     sync.Mutex
	all    map[string]*mirror.Log
	unlike map[string]bool // folders whose journals a test has changed by itself
}

func mirrored() bool { return os.Getenv("READYFERRY_MIRROR") != "" }

func openStore(dir string) (*store.Store, error) {
	_, err := os.Stat(filepath.Join(dir, store.File))
	mirrors.mu.Lock()
	l := mirrors.all[dir]
	if l == nil && err != nil && mirrored() {
		l = &mirror.Log{}
		if mirrors.all == nil {
			mirrors.all = map[string]*mirror.Log{}
		}
		mirrors.all[dir] = l
	}
	unlike := mirrors.unlike[dir]
	mirrors.mu.Unlock()
	if l == nil { // or a test has put the journal there
		return store.OpenUnsynced(dir)
	}
	if err == nil && !unlike {
		// A start over a journal is a takeover: what was written is known from the log alone.
		if err := errors.Join(store.Discard(dir), os.RemoveAll(filepath.Join(dir, "loads"))); err != nil {
			return nil, err
		}
	}
	return mirror.Open(dir, l)
}

// tampered tells that a test has changed the journal of a folder by itself, so that no copy has it.
func tampered(dir string) {
	mirrors.mu.Lock()
	defer mirrors.mu.Unlock()
	if mirrors.unlike == nil {
		mirrors.unlike = map[string]bool{}
	}
	mirrors.unlike[dir] = true
}

// same says what a file that follows the log of a closed journal does not have as that has it.
func same(dir string) error {
	mirrors.mu.Lock()
	l, unlike := mirrors.all[dir], mirrors.unlike[dir]
	mirrors.mu.Unlock()
	if l == nil || unlike {
		return nil
	}
	return mirror.Same(dir, l)
}

// Package folder is what the systems have in common whose messages are files in folders,
// wherever the folders lie. A system gives a Tree, which knows how to list, read, write and
// rename there; taking files in and writing them is the same for all.
//
// Taking: a file is whole when its size and time have not changed for a while. It becomes
// one message, or one for each of its lines or records, and is moved, renamed or removed
// behind the commit that stores them. What comes again because the process died between the
// two is told by name, size and time, so it is inside once.
//
// Writing: a file is written under another name and renamed when it is whole, so nobody
// reads half of one. A try that is made again finds what an earlier one has written.
//
// Names that come from messages never leave the folder that a connection names.
package folder

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"strings"
	"time"
	"unicode/utf8"

	"readyferry/connect"
	"readyferry/connect/reach"
	"readyferry/core/retry"
)

// Info is a file or folder within a folder.
type Info struct {
	Name     string // within its folder
	Dir      bool
	Size     int64
	Modified time.Time
}

// Tree is an open connection to a place with files. Names are paths below it, with
// slashes and without .. in them; "" is the place itself. It is used by one goroutine at a
// time, but for Close, which ends what is under way. Errors are *Refused where the system
// says no, and wrap fs.ErrNotExist where something is not there.
type Tree interface {
	// List gives the files and folders of a folder, links left out, at most so many.
	List(dir string, most int) ([]Info, error)
	Stat(name string) (Info, error)
	Open(name string, offset int64) (io.ReadCloser, error)
	Create(name string) (io.WriteCloser, error) // anew, whatever was there
	Append(name string) (io.WriteCloser, error)
	Rename(from, to string) error // in place of what was there
	Remove(name string) error
	MakeDir(name string) error // where it is not there yet; its parent is
	io.Closer
}

// Putter is a Tree on which a file is there at once and whole, so that it needs no other
// name before.
type Putter interface {
	Put(name string, body Body) error
}

// Refused is what a system answers that does not do as it is asked.
type Refused struct {
	Code    string // the system's own word, or one of ours
	Outcome retry.Outcome
	Err     error
}

// Error implements error.
func (e *Refused) Error() string { return e.Err.Error() }

// Unwrap gives what was wrong.
func (e *Refused) Unwrap() error { return e.Err }

// errName tells that a name leaves the place, or is none.
var errName = errors.New("the name is not allowed")

// Link is a connection to a place with files.
type Link struct {
	C *connect.Connection
	// Join opens the place.
	Join func(ctx context.Context, w *reach.Way) (Tree, error)
	// Wakes gives a channel through which changes in a folder are told, and what ends
	// that; nil where a system does not tell.
	Wakes func(dir string) (<-chan struct{}, func(), error)

	idle idle
}

// Close implements connect.Link.
func (l *Link) Close() error { return l.idle.close() }

// with uses an open tree, one that is idle or a new one.
func (l *Link) with(ctx context.Context, use func(t Tree) error) error {
	t := l.idle.take()
	if t == nil {
		joining, cancel := context.WithTimeout(ctx, l.C.TimeLimit)
		defer cancel()
		made, err := l.Join(joining, nil)
		if err != nil {
			return err
		}
		t = patient(made, l.C.TimeLimit)
	}
	stop := context.AfterFunc(ctx, func() { _ = t.Close() })
	err := use(t)
	if !stop() {
		return errors.Join(ctx.Err(), err)
	}
	var refused *Refused
	if err != nil && !errors.As(err, &refused) && !errors.Is(err, errName) && !errors.Is(err, fs.ErrNotExist) {
		_ = t.Close() // nobody knows what it is in the middle of
		return err
	}
	l.idle.give(t)
	return err
}

// Check implements connect.Link.
func (l *Link) Check(ctx context.Context) (connect.Report, error) {
	ctx, cancel := context.WithTimeout(ctx, 3*l.C.TimeLimit)
	defer cancel()
	var w reach.Way
	t, err := l.Join(ctx, &w)
	if err != nil {
		return w.Report(err, "", "the folder"), nil
	}
	defer func() { _ = t.Close() }()
	some, err := patient(t, l.C.TimeLimit).List("", mostShown+1)
	if err != nil {
		return w.Report(&reach.Error{Step: "looking into the folder", Err: err,
			Repair: "look at the folder in the address, and at what the user may read"}, ""), nil
	}
	w.Did("the folder is there, with %s", counted(len(some), mostShown))
	return w.Report(nil, "the folder is there"), nil
}

// mostShown is up to how many entries are counted for people.
const mostShown = 1000

func counted(n, most int) string {
	switch {
	case n > most:
		return fmt.Sprintf("more than %d entries", most)
	case n == 1:
		return "1 entry"
	}
	return fmt.Sprintf("%d entries", n)
}

// Below puts together a path from what people and messages say, or gives an error where it
// would leave the place: it has dots, begins at the root, or holds what no name holds.
func Below(parts ...string) (string, error) {
	var all []string
	for _, part := range parts {
		for _, name := range strings.Split(part, "/") {
			if name == "" && part == "" {
				continue
			}
			if err := checkName(name); err != nil {
				return "", fmt.Errorf("%w: %q %w", errName, part, err)
			}
			all = append(all, name)
		}
	}
	if len(all) > 64 {
		return "", fmt.Errorf("%w: it lies %d folders deep; at most 64 are", errName, len(all))
	}
	return path.Join(all...), nil
}

func checkName(name string) error {
	switch {
	case name == "":
		return errors.New("begins or ends with a slash, or has two in a row")
	case name == "." || name == "..":
		return errors.New("has dots in place of a name")
	case len(name) > 255:
		return errors.New("has a name of more than 255 bytes")
	case !utf8.ValidString(name) || strings.ContainsFunc(name, func(r rune) bool {
		return r < ' ' || r == 0x7F || r == '/' ||
			r == '\\'
	}):
		return errors.New("has a character that no name has")
	}
	return nil
}

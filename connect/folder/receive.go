package folder

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"

	"readyferry/connect"
	"readyferry/core/records"
)

const (
	mostListed = 100_000 // files of one look; the others are seen when these are gone
	mostDeep   = 16      // folders below the one that is looked into
	batchFiles = 16      // in one commit
	batchParts = 64
	batchBytes = 2 << 20
)

type take = func(context.Context, []connect.Arrival) ([]connect.Taken, error)

// Receive implements connect.Receiver. The mark is where it stands within a file of which
// some parts are stored.
func (l *Link) Receive(ctx context.Context, settings connect.Settings, mark []byte, take take) error {
	in, err := readIntake(settings)
	if err != nil {
		return err
	}
	r := &receiving{link: l, in: in, take: take, seen: map[string]sight{},
		trouble: func(err error) { connect.TellTrouble(ctx, err) }}
	if len(mark) > 0 {
		_ = json.Unmarshal(mark, &r.place) // else from the beginning: what is stored is told
	}
	defer r.leave()
	wakes, stop, err := l.wakes(&in)
	if err != nil {
		return err
	}
	defer stop()
	for ready := false; ; {
		wait, err := r.once(ctx)
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if err != nil {
			return err
		}
		if !ready {
			ready = true
			connect.TellReady(ctx)
		}
		if wait > keptIdle {
			r.leave()
		}
		timer := time.NewTimer(wait)
		select {
		case <-ctx.Done():
		case <-timer.C:
		case <-wakes:
		}
		timer.Stop()
	}
}

// wakes tells of changes where the system does, and never where it does not.
func (l *Link) wakes(in *intake) (<-chan struct{}, func(), error) {
	if l.Wakes == nil || in.below {
		return nil, func() {}, nil
	}
	return l.Wakes(in.folder)
}

// place is how far a file was read whose parts are messages.
type place struct {
	File string        `json:"file"` // its id
	At   records.Place `json:"at"`
	Done bool          `json:"done"` // all of it is stored
}

// sight is how a file was when it was last looked at.
type sight struct {
	size     int64
	modified time.Time
	since    time.Time // it has been like that
	trouble  string    // why it is left alone; "" when it is not
}

// receiving takes the files of one intake.
type receiving struct {
	link  *Link
	in    intake
	take  take
	tree  Tree
	stop  func() bool
	place place
	seen  map[string]sight
	// trouble hears of files that are left alone.
	trouble func(error)
}

// once looks into the folder, takes what is whole, and says when to look again.
func (r *receiving) once(ctx context.Context) (wait time.Duration, err error) {
	if r.tree == nil {
		joining, cancel := context.WithTimeout(ctx, r.link.C.TimeLimit)
		defer cancel()
		t, err := r.link.Join(joining, nil)
		if err != nil {
			return 0, err
		}
		r.tree = patient(t, r.link.C.TimeLimit)
		r.stop = context.AfterFunc(ctx, func() { _ = t.Close() })
	}
	files, wait, err := r.look(time.Now())
	if err != nil {
		return 0, err
	}
	connect.TellBehind(ctx, int64(len(files)))
	for len(files) > 0 {
		n, err := r.some(ctx, files)
		if err != nil {
			return 0, err
		}
		files = files[n:]
		connect.TellBehind(ctx, int64(len(files)))
	}
	return wait, nil
}

// leave closes the tree until it is needed again.
func (r *receiving) leave() {
	if r.tree != nil {
		r.stop()
		_ = r.tree.Close()
		r.tree = nil
	}
}

// look lists what may be taken, in order, and says when to look again.
func (r *receiving) look(now time.Time) (files []file, wait time.Duration, err error) {
	var all []file
	if err := r.list(r.in.folder, 0, &all); err != nil {
		return nil, 0, err
	}
	seen := make(map[string]sight, len(all))
	wait = r.in.every
	for _, f := range all {
		s, known := r.seen[f.path]
		if !known || s.size != f.size || !s.modified.Equal(f.modified) {
			s = sight{size: f.size, modified: f.modified, since: now}
		}
		seen[f.path] = s
		switch left := r.in.settled - now.Sub(s.since); {
		case s.trouble != "":
		case left <= 0 && (known || r.in.settled == 0): // 0 for a sample alone
			files = append(files, f)
		default:
			wait = min(wait, max(left, 10*time.Millisecond))
		}
	}
	r.seen = seen
	slices.SortFunc(files, func(a, b file) int {
		if r.in.order == "time" {
			if c := a.modified.Compare(b.modified); c != 0 {
				return c
			}
		}
		return cmp.Compare(a.path, b.path)
	})
	return files, wait, nil
}

func (r *receiving) list(dir string, deep int, all *[]file) error {
	entries, err := r.tree.List(dir, mostListed)
	if err != nil {
		if deep > 0 && errors.Is(err, fs.ErrNotExist) {
			return nil // it went away meanwhile
		}
		return fmt.Errorf("looking into the folder %s: %w", named(dir), err)
	}
	for _, e := range entries {
		name := path.Join(dir, e.Name)
		switch {
		case checkName(e.Name) != nil || strings.Contains(e.Name, "/"):
		case e.Dir:
			if r.in.below && deep < mostDeep && !strings.HasPrefix(e.Name, ".") && (r.in.then != "move" || e.Name != r.in.to) {
				if err := r.list(name, deep+1, all); err != nil {
					return err
				}
			}
		case r.in.fits(e.Name) && len(*all) < mostListed:
			*all = append(*all, file{name, e.Size, e.Modified})
		}
	}
	return nil
}

func named(dir string) string {
	if dir == "" {
		return "of the connection"
	}
	return dir
}

// some takes one file by its parts, or several whole ones, and tells how many are done.
func (r *receiving) some(ctx context.Context, files []file) (n int, err error) {
	if r.in.take != "file" {
		return 1, r.parts(ctx, &files[0])
	}
	var batch []connect.Arrival
	var taken []*file
	size := 0
	for ; n < len(files) && len(batch) < batchFiles && size < batchBytes; n++ {
		f := &files[n]
		body, err := r.read(f)
		if err != nil {
			return n, err
		}
		if body == nil {
			continue
		}
		batch, taken, size = append(batch, f.arrival(&r.in, 0, body)), append(taken, f), size+len(body)
	}
	if len(batch) == 0 {
		return n, nil
	}
	if _, err := r.take(ctx, batch); err != nil {
		return n, err
	}
	for _, f := range taken {
		if err := r.done(f); err != nil {
			return n, err
		}
	}
	return n, nil
}

// read reads a whole file; nil when it is none that can be taken now.
func (r *receiving) read(f *file) ([]byte, error) {
	if f.size > records.Largest {
		r.leaveAlone(f, fmt.Sprintf("it has %d bytes; a message has at most %d", f.size, records.Largest))
		return nil, nil
	}
	in, err := r.tree.Open(f.path, 0)
	if err != nil {
		return nil, r.spoiled(f, err)
	}
	body, err := io.ReadAll(io.LimitReader(in, records.Largest+1))
	if err = errors.Join(err, in.Close()); err != nil {
		return nil, r.spoiled(f, err)
	}
	if int64(len(body)) != f.size {
		delete(r.seen, f.path) // somebody writes it still
		return nil, nil
	}
	if body == nil {
		body = []byte{}
	}
	return body, nil
}

// spoiled leaves a file alone that alone cannot be read; other errors end the receiver.
func (r *receiving) spoiled(f *file, err error) error {
	var refused *Refused
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil // somebody has taken it away
	case errors.As(err, &refused):
		r.leaveAlone(f, err.Error())
		return nil
	}
	return fmt.Errorf("reading the file %s: %w", f.path, err)
}

// leaveAlone keeps from trying a file again before it has changed.
func (r *receiving) leaveAlone(f *file, why string) {
	s := r.seen[f.path]
	s.trouble = why
	r.seen[f.path] = s
	r.trouble(fmt.Errorf("the file %s is left alone: %s", f.path, why))
}

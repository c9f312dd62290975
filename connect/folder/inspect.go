package folder

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"

	"readyferry/connect"
	"readyferry/core/message"
	"readyferry/core/records"
)

// Inspect implements connect.Inspector: it looks whether the folder is there, how many files
// an intake finds, and whether a delivery may write.
func (l *Link) Inspect(ctx context.Context, u connect.Use) connect.Step {
	text := func(name string) string {
		if n := u.Settings.Get(name); n != nil && (n.Kind == message.String || n.Kind == message.Bool) {
			return n.Text
		}
		return ""
	}
	failed := func(err error, repair string) connect.Step {
		return connect.Step{Detail: fmt.Sprintf("%s: %v", u.Flow, err), Repair: repair}
	}
	if strings.Contains(text("folder"), "${") {
		return connect.Step{OK: true, Detail: u.Flow + ": the folder depends on the message"}
	}
	dir, err := Below(text("folder"))
	if err != nil {
		return failed(err, "write it without dots, and without a slash at its ends")
	}
	in, err := readIntake(u.Settings)
	if u.Intake && err != nil {
		return failed(err, "correct the intake")
	}
	fits := 0
	err = l.with(ctx, func(t Tree) error {
		entries, err := t.List(dir, mostListed)
		for _, e := range entries {
			if !e.Dir && in.fits(e.Name) {
				fits++
			}
		}
		if err == nil && !u.Intake {
			err = writable(t, dir)
		}
		return err
	})
	switch {
	case errors.Is(err, fs.ErrNotExist) && !u.Intake && text("make") == "true":
		return connect.Step{OK: true, Detail: fmt.Sprintf("%s: the folder %s is made with the first file", u.Flow,
			named(dir))}
	case errors.Is(err, fs.ErrNotExist):
		return failed(fmt.Errorf("the folder %s is not there", named(dir)), "make it, or name another one")
	case err != nil:
		return failed(err, "look at what the user may do there")
	case u.Intake:
		return connect.Step{OK: true, Detail: fmt.Sprintf("%s: the folder %s is there, and %d files fit", u.Flow,
			named(dir), fits)}
	}
	return connect.Step{OK: true, Detail: fmt.Sprintf("%s: the folder %s is there, and may be written to", u.Flow,
		named(dir))}
}

// writable writes an empty file and removes it.
func writable(t Tree, dir string) error {
	name := path.Join(dir, ours+"test.part")
	f, err := t.Create(name)
	if err != nil {
		return err
	}
	return errors.Join(f.Close(), t.Remove(name))
}

// mostFolders is how many folders a form offers, offeredDeep how deep they may lie.
const (
	mostFolders = 500
	offeredDeep = 3
)

// List implements connect.Lister: it lists folders.
func (l *Link) List(ctx context.Context, what string) ([]string, error) {
	if what != "folder" {
		return nil, fmt.Errorf("there are folders here, and no %s", what)
	}
	out := []string{}
	err := l.with(ctx, func(t Tree) error {
		next := []string{""}
		for deep := 0; deep < offeredDeep && len(out) < mostFolders; deep++ {
			level := next
			next = nil
			for _, dir := range level {
				entries, err := t.List(dir, mostListed)
				if err != nil && (deep == 0 || !errors.Is(err, fs.ErrNotExist)) {
					return err
				}
				for _, e := range entries {
					if e.Dir && checkName(e.Name) == nil && !strings.HasPrefix(e.Name, ".") && len(out) < mostFolders {
						out, next = append(out, path.Join(dir, e.Name)), append(next, path.Join(dir, e.Name))
					}
				}
			}
		}
		return nil
	})
	slices.Sort(out)
	return out, err
}

// Peek implements connect.Peeker: the first file that fits is read, or its first part, and
// stays where it is.
func (l *Link) Peek(ctx context.Context, settings connect.Settings) (*connect.Arrival, error) {
	in, err := readIntake(settings)
	if err != nil {
		return nil, err
	}
	in.settled = 0
	var out *connect.Arrival
	err = l.with(ctx, func(t Tree) error {
		r := &receiving{link: l, in: in, tree: t, seen: map[string]sight{}, trouble: func(error) {}}
		files, _, err := r.look(time.Now())
		if err != nil {
			return err
		}
		if len(files) == 0 {
			return fmt.Errorf("no file fits in the folder %s", named(in.folder))
		}
		f := &files[0]
		if in.take == "file" {
			body, err := r.read(f)
			if err == nil && body == nil {
				err = fmt.Errorf("the file %s cannot be read: %s", f.path, r.seen[f.path].trouble)
			}
			a := f.arrival(&in, 0, body)
			out = &a
			return err
		}
		reader, err := records.Open(func(offset int64) (io.ReadCloser, error) { return t.Open(f.path, offset) },
			records.Cutting{By: in.take, Separator: in.separator, Element: in.element}, records.Place{})
		if err != nil {
			return fmt.Errorf("the file %s: %w", f.path, err)
		}
		one, err := reader.Next()
		if err != nil && errors.Is(err, io.EOF) {
			err = errors.New("it has none")
		}
		if err != nil {
			err = fmt.Errorf("the first message of the file %s: %w", f.path, err)
		}
		a := f.arrival(&in, 1, one.Body)
		out = &a
		return errors.Join(err, reader.Close())
	})
	if err != nil {
		return nil, err
	}
	return out, nil
}

// Read reads a whole file, as large as a message may be. Errors are as those of a Tree.
func (l *Link) Read(ctx context.Context, name string) (body []byte, err error) {
	at, err := Below(name)
	if err != nil {
		return nil, errors.Join(fmt.Errorf("%w: %w", connect.ErrCannotSend, err), connect.ErrBadData)
	}
	err = l.with(ctx, func(t Tree) error {
		f, err := t.Open(at, 0)
		if err != nil {
			return err
		}
		body, err = io.ReadAll(io.LimitReader(f, records.Largest+1))
		if err = errors.Join(err, f.Close()); err == nil && len(body) > records.Largest {
			err = fmt.Errorf("%w: the file %s has more than %d bytes", connect.ErrCannotSend, name, records.Largest)
		}
		return err
	})
	return body, err
}

// ContentType says what a file is by the ending of its name.
func ContentType(name string) string { return contentType(name, "file") }

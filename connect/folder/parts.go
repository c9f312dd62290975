package folder

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"strings"

	"readyferry/connect"
	"readyferry/core/records"
)

// shownRest is how much of a file that cannot be cut becomes a message, in bytes.
const shownRest = 1 << 20

// parts takes the lines or records of a file, from where it stands.
func (r *receiving) parts(ctx context.Context, f *file) error {
	if r.place.File != f.id() {
		r.place = place{File: f.id()}
	}
	for !r.place.Done {
		ended, err := r.batches(ctx, f)
		if err != nil {
			if left := r.spoiled(f, err); left != nil || r.seen[f.path].trouble != "" || errors.Is(err, fs.ErrNotExist) {
				return left
			}
			return err
		}
		if ended {
			break
		}
	}
	return r.done(f)
}

// batches stores the parts of a file, one batch in a commit, with the place behind them.
func (r *receiving) batches(ctx context.Context, f *file) (ended bool, err error) {
	reader, err := records.Open(func(offset int64) (io.ReadCloser, error) { return r.tree.Open(f.path, offset) },
		records.Cutting{By: r.in.take, Separator: r.in.separator, Element: r.in.element}, r.place.At)
	if err != nil {
		return r.broken(ctx, f, nil, err)
	}
	defer func() { _ = reader.Close() }()
	for {
		var batch []connect.Arrival
		size, at := 0, r.place.At
		for len(batch) < batchParts && size < batchBytes && err == nil {
			var one records.Record
			if one, err = reader.Next(); err == nil {
				batch, size, at = append(batch, f.arrival(&r.in, one.Behind.N, one.Body)), size+len(one.Body), one.Behind
			}
		}
		switch {
		case errors.Is(err, io.EOF):
			return true, r.store(ctx, batch, place{f.id(), at, true})
		case err != nil:
			if stored := r.store(ctx, batch, place{f.id(), at, false}); stored != nil {
				return false, stored
			}
			return r.broken(ctx, f, reader, err)
		}
		if err := r.store(ctx, batch, place{f.id(), at, false}); err != nil {
			return false, err
		}
	}
}

func (r *receiving) store(ctx context.Context, batch []connect.Arrival, behind place) error {
	if len(batch) == 0 {
		r.place = behind
		return nil
	}
	mark, err := json.Marshal(behind)
	if err != nil {
		return err
	}
	batch[len(batch)-1].Mark = mark
	if _, err := r.take(ctx, batch); err != nil {
		return err
	}
	r.place = behind
	return nil
}

// broken keeps the rest of a file that cannot be cut, as it is, for a person to repair.
func (r *receiving) broken(ctx context.Context, f *file, reader io.Closer, err error) (ended bool, _ error) {
	var wrong *records.BrokenError
	if !errors.As(err, &wrong) {
		return false, err
	}
	if reader != nil {
		_ = reader.Close() // some protocols read one file at a time
	}
	in, err := r.tree.Open(f.path, wrong.At.Offset)
	if err != nil {
		return false, err
	}
	rest, err := io.ReadAll(io.LimitReader(in, shownRest))
	if err = errors.Join(err, in.Close()); err != nil {
		return false, err
	}
	a := f.arrival(&r.in, wrong.At.N+1, rest)
	a.Headers[0].Value = contentType(f.path, "file")
	a.Refused = fmt.Sprintf("the file %s cannot be cut into messages %v", path.Base(f.path), wrong)
	if left := f.size - wrong.At.Offset - int64(len(rest)); left > 0 {
		a.Refused += fmt.Sprintf("; %d more bytes behind these stay in the file alone", left)
	}
	return true, r.store(ctx, []connect.Arrival{a}, place{f.id(), wrong.At, true})
}

// done settles a file whose messages are stored.
func (r *receiving) done(f *file) (err error) {
	dir, name := path.Split(f.path)
	switch r.in.then {
	case "remove":
		err = r.tree.Remove(f.path)
	case "rename":
		err = r.aside(f, dir, name+r.in.ending)
	default:
		into := path.Join(dir, r.in.to)
		if err = makeAll(r.tree, into); err == nil {
			err = r.aside(f, into, name)
		}
	}
	delete(r.seen, f.path)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("the file %s is taken, and stays where it is: %w", f.path, err)
	}
	return nil
}

// aside renames a file so that it takes the place of no other.
func (r *receiving) aside(f *file, dir, name string) error {
	ending := path.Ext(name)
	for n := range 10_000 {
		to := path.Join(dir, name)
		if n > 0 {
			to = path.Join(dir, fmt.Sprintf("%s-%d%s", strings.TrimSuffix(name, ending), n, ending))
		}
		_, err := r.tree.Stat(to)
		if errors.Is(err, fs.ErrNotExist) {
			return r.tree.Rename(f.path, to)
		}
		if err != nil {
			return err
		}
	}
	return errors.New("there are too many of its name")
}

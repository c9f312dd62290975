package ftp

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/textproto"
	"path"
	"strings"

	client "github.com/jlaffaye/ftp"

	"readyferry/connect"
	"readyferry/connect/folder"
	"readyferry/core/retry"
)

// The answers of servers (RFC 959, 4.2.1) that say more than their first digit.
const (
	codeNotThere = 550
	codeNoName   = 553 // what some servers say of a file in a folder that is not there
	codeFull     = 552
	codeNoRoom   = 452
)

// said puts what a server refuses into the words that all systems with files have.
func said(err error) error {
	var no *textproto.Error
	if err == nil || !errors.As(err, &no) {
		return err
	}
	out := &folder.Refused{Code: fmt.Sprint(no.Code), Outcome: retry.Never,
		Err: fmt.Errorf("the server answers %d: %s", no.Code, connect.ShortText(no.Msg))}
	switch {
	case no.Code == codeFull, no.Code == codeNoRoom:
		out.Code, out.Outcome = folder.CodeFull, retry.Again
	case no.Code >= 400 && no.Code < 500:
		out.Outcome = retry.Again
	}
	return out
}

// isNotThere tells whether a server says that something is not there, or that it does not
// say whether it is.
func isNotThere(err error) bool {
	var no *textproto.Error
	return errors.As(err, &no) && no.Code == codeNotThere
}

// List implements folder.Tree. Some servers give an empty list for what is not there.
func (t *tree) List(dir string, most int) ([]folder.Info, error) {
	entries, err := t.c.List(t.at(dir))
	if (err == nil && len(entries) == 0 || isNotThere(err)) && dir != "" {
		if is, missing := t.Stat(dir); missing != nil {
			return nil, missing
		} else if !is.Dir {
			return nil, &fs.PathError{Op: "list", Path: dir, Err: fs.ErrNotExist}
		}
	}
	if err != nil {
		return nil, said(err)
	}
	var out []folder.Info
	for _, e := range entries {
		if e.Type != client.EntryTypeLink && e.Name != "." && e.Name != ".." && len(out) < most {
			out = append(out, info(e))
		}
	}
	t.exactly(dir, out)
	return out, nil
}

// mostExact is how many files of a folder are asked for their times one by one.
const mostExact = 500

// exactly asks for the times of files where the list of a server has them to the day or
// minute alone, and the server tells them (MDTM, RFC 3659, 3). Where it does not, they stay
// as the list has them.
func (t *tree) exactly(dir string, list []folder.Info) {
	if t.c.IsTimePreciseInList() || !t.c.IsGetTimeSupported() || len(list) > mostExact {
		return
	}
	for i := range list {
		if list[i].Dir {
			continue
		}
		at, err := t.c.GetTime(t.at(path.Join(dir, list[i].Name)))
		if err != nil {
			return
		}
		list[i].Modified = at
	}
}

func info(e *client.Entry) folder.Info {
	return folder.Info{Name: path.Base(e.Name), Dir: e.Type == client.EntryTypeFolder, Size: int64(e.Size),
		Modified: e.Time}
}

// Stat implements folder.Tree. Servers that cannot tell of one file are asked for all of
// its folder.
func (t *tree) Stat(name string) (folder.Info, error) {
	if name == "" {
		return folder.Info{Dir: true}, nil
	}
	e, err := t.c.GetEntry(t.at(name))
	if err == nil {
		return info(e), nil
	}
	var no *textproto.Error
	if errors.As(err, &no) && no.Code != codeNotThere && no.Code/100 == 4 {
		return folder.Info{}, said(err)
	}
	if errors.As(err, &no) && no.Code == codeNotThere {
		return folder.Info{}, &fs.PathError{Op: "stat", Path: name, Err: fs.ErrNotExist}
	}
	if no == nil && !strings.Contains(err.Error(), "not supported") {
		return folder.Info{}, err
	}
	entries, err := t.c.List(t.at(path.Dir(name)))
	if err != nil && !isNotThere(err) {
		return folder.Info{}, said(err)
	}
	for _, e := range entries {
		if path.Base(e.Name) == path.Base(name) {
			return info(e), nil
		}
	}
	return folder.Info{}, &fs.PathError{Op: "stat", Path: name, Err: fs.ErrNotExist}
}

// Open implements folder.Tree.
func (t *tree) Open(name string, offset int64) (io.ReadCloser, error) {
	r, err := t.c.RetrFrom(t.at(name), uint64(offset))
	if err == nil {
		return r, nil
	}
	if isNotThere(err) {
		if _, missing := t.Stat(name); errors.Is(missing, fs.ErrNotExist) {
			return nil, missing
		}
	}
	return nil, said(err)
}

// Create implements folder.Tree.
func (t *tree) Create(name string) (io.WriteCloser, error) { return t.write(name, t.c.Stor), nil }

// Append implements folder.Tree.
func (t *tree) Append(name string) (io.WriteCloser, error) { return t.write(name, t.c.Append), nil }

func (t *tree) write(name string, how func(path string, r io.Reader) error) io.WriteCloser {
	r, w := io.Pipe()
	out, at := &writing{PipeWriter: w, of: t, name: name, done: make(chan error, 1)}, t.at(name)
	go func() {
		err := how(at, r)
		_ = r.CloseWithError(errors.Join(io.ErrClosedPipe, err)) // who writes still is told
		out.done <- err
	}()
	return out
}

// writing is a file that is written: the client reads what is written here.
type writing struct {
	*io.PipeWriter
	of   *tree
	name string
	done chan error
}

// Write implements io.Writer.
func (w *writing) Write(p []byte) (int, error) {
	n, err := w.PipeWriter.Write(p)
	if err != nil {
		err = nil // Close says why
		n = len(p)
	}
	return n, err
}

// Close implements io.Closer: it waits until the server says that it has the file.
func (w *writing) Close() error {
	_ = w.PipeWriter.Close()
	err := <-w.done
	var no *textproto.Error
	missed := isNotThere(err) || errors.As(err, &no) && no.Code == codeNoName
	if dir := path.Dir(w.name); missed && dir != "." {
		if _, missing := w.of.Stat(dir); errors.Is(missing, fs.ErrNotExist) {
			return missing
		}
	}
	return said(err)
}

// Rename implements folder.Tree. Servers that do not rename in place of another file say
// so; then that is removed before.
func (t *tree) Rename(from, to string) error {
	err := t.c.Rename(t.at(from), t.at(to))
	var no *textproto.Error
	if errors.As(err, &no) && no.Code >= 500 {
		if is, there := t.Stat(to); there == nil && !is.Dir {
			if err := t.c.Delete(t.at(to)); err != nil {
				return said(err)
			}
			err = t.c.Rename(t.at(from), t.at(to))
		}
	}
	return said(err)
}

// Remove implements folder.Tree.
func (t *tree) Remove(name string) error {
	err := t.c.Delete(t.at(name))
	if isNotThere(err) {
		if _, missing := t.Stat(name); errors.Is(missing, fs.ErrNotExist) {
			return missing
		}
	}
	return said(err)
}

// MakeDir implements folder.Tree.
func (t *tree) MakeDir(name string) error {
	err := t.c.MakeDir(t.at(name))
	if err != nil {
		if is, there := t.Stat(name); there == nil && is.Dir {
			return nil
		}
	}
	return said(err)
}

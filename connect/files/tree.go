package files

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path"
	"syscall"

	"readyferry/connect/folder"
	"readyferry/core/retry"
)

// tree is a folder of this machine. Everything goes through its root, which no name and no
// link leads out of.
type tree struct{ root *os.Root }

// Close implements folder.Tree.
func (t *tree) Close() error { return t.root.Close() }

// name gives a path as the root knows it.
func name(p string) string {
	if p == "" {
		return "."
	}
	return p
}

// List implements folder.Tree. What is neither a file nor a folder is left out.
func (t *tree) List(dir string, most int) (out []folder.Info, err error) {
	f, err := t.root.Open(name(dir))
	if err != nil {
		return nil, said(err)
	}
	defer func() { _ = f.Close() }()
	for len(out) < most {
		entries, err := f.ReadDir(min(most-len(out), 1000))
		for _, e := range entries {
			if !e.IsDir() && !e.Type().IsRegular() {
				continue
			}
			is, err := e.Info()
			if err != nil {
				continue // it went away meanwhile
			}
			out = append(out, info(is))
		}
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, said(err)
		}
	}
	return out, nil
}

func info(is fs.FileInfo) folder.Info {
	return folder.Info{Name: is.Name(), Dir: is.IsDir(), Size: is.Size(), Modified: is.ModTime()}
}

// Stat implements folder.Tree.
func (t *tree) Stat(p string) (folder.Info, error) {
	is, err := t.root.Lstat(name(p))
	if err != nil {
		return folder.Info{}, said(err)
	}
	return info(is), nil
}

// Open implements folder.Tree. It opens files alone: a pipe would wait for whoever writes.
func (t *tree) Open(p string, offset int64) (io.ReadCloser, error) {
	f, err := t.root.OpenFile(p, os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, said(err)
	}
	is, err := f.Stat()
	if err == nil && !is.Mode().IsRegular() {
		err = &folder.Refused{Code: folder.CodeDenied, Outcome: retry.Never, Err: errors.New("it is no file")}
	}
	if err == nil {
		_, err = f.Seek(offset, io.SeekStart)
	}
	if err != nil {
		return nil, errors.Join(said(err), f.Close())
	}
	return f, nil
}

// Create implements folder.Tree.
func (t *tree) Create(p string) (io.WriteCloser, error) {
	return t.write(p, os.O_WRONLY|os.O_CREATE|os.O_TRUNC)
}

// Append implements folder.Tree.
func (t *tree) Append(p string) (io.WriteCloser, error) {
	return t.write(p, os.O_WRONLY|os.O_CREATE|os.O_APPEND)
}

func (t *tree) write(p string, how int) (io.WriteCloser, error) {
	f, err := t.root.OpenFile(p, how|syscall.O_NONBLOCK, 0o640)
	if err != nil {
		return nil, said(err)
	}
	if is, err := f.Stat(); err != nil || !is.Mode().IsRegular() {
		return nil, errors.Join(&folder.Refused{Code: folder.CodeDenied, Outcome: retry.Never,
			Err: errors.New("it is no file")}, f.Close())
	}
	return &synced{f}, nil
}

// synced is a file whose bytes are on the disk when it is closed.
type synced struct{ *os.File }

// Write implements io.Writer.
func (f *synced) Write(b []byte) (int, error) {
	n, err := f.File.Write(b)
	return n, said(err)
}

// Close implements io.Closer.
func (f *synced) Close() error { return said(errors.Join(f.Sync(), f.File.Close())) }

// Rename implements folder.Tree. The folder is on the disk behind it.
func (t *tree) Rename(from, to string) error {
	if err := t.root.Rename(from, to); err != nil {
		return said(err)
	}
	dir, err := t.root.Open(name(path.Dir(to)))
	if err != nil {
		return said(err)
	}
	_ = dir.Sync() // some file systems cannot, and need not
	return dir.Close()
}

// Remove implements folder.Tree.
func (t *tree) Remove(p string) error { return said(t.root.Remove(p)) }

// MakeDir implements folder.Tree.
func (t *tree) MakeDir(p string) error {
	err := t.root.Mkdir(p, 0o750)
	if errors.Is(err, fs.ErrExist) {
		return nil
	}
	return said(err)
}

// said puts what the machine refuses into the words that all systems with files have.
func said(err error) error {
	refused := func(code string, o retry.Outcome) error {
		return &folder.Refused{Code: code, Outcome: o, Err: plain(err)}
	}
	switch {
	case err == nil:
		return nil
	case errors.Is(err, syscall.ENOSPC), errors.Is(err, syscall.EDQUOT):
		return refused(folder.CodeFull, retry.Again)
	case errors.Is(err, fs.ErrPermission), errors.Is(err, syscall.EROFS), errors.Is(err, syscall.EISDIR),
		errors.Is(err, syscall.ENOTDIR),
		errors.Is(err, syscall.ELOOP), errors.Is(err, syscall.ENAMETOOLONG):
		return refused(folder.CodeDenied, retry.Never)
	}
	var at *fs.PathError
	if errors.As(err, &at) && at.Err != nil && at.Err.Error() == "path escapes from parent" {
		return refused(folder.CodeDenied, retry.Never)
	}
	return err
}

// plain leaves out the call that failed, and where.
func plain(err error) error {
	var at *fs.PathError
	if errors.As(err, &at) {
		return at.Err
	}
	return err
}

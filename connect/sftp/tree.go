package sftp

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"

	client "github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"

	"readyferry/connect/folder"
	"readyferry/core/retry"
)

// tree is a folder at a server.
type tree struct {
	conn    *folder.Metered
	ssh     *ssh.Client
	files   *client.Client
	base    string          // without links
	folders map[string]bool // that are known to be folders, and no links
}

// Close implements folder.Tree.
func (t *tree) Close() error {
	_ = t.conn.Close() // first, so that nobody waits for the server's good-bye
	_ = t.files.Close()
	_ = t.ssh.Close()
	return nil
}

// within gives the whole path of a name, when no folder on the way to it is a link.
func (t *tree) within(name string, itself bool) (string, error) {
	t.conn.Allow()
	dir := path.Dir(name)
	if itself {
		dir = name
	}
	if dir == "." {
		dir = ""
	}
	return path.Join(t.base, name), t.known(dir)
}

func (t *tree) known(dir string) error {
	if t.folders[dir] {
		return nil
	}
	above := path.Dir(dir)
	if above == "." {
		above = ""
	}
	if err := t.known(above); err != nil {
		return err
	}
	is, err := t.files.Lstat(path.Join(t.base, dir))
	switch {
	case err != nil:
		return said(err)
	case !is.IsDir():
		return &folder.Refused{Code: folder.CodeDenied, Outcome: retry.Never,
			Err: fmt.Errorf("%s is a link, or no folder", dir)}
	}
	t.folders[dir] = true
	return nil
}

// List implements folder.Tree.
func (t *tree) List(dir string, most int) ([]folder.Info, error) {
	at, err := t.within(dir, true)
	if err != nil {
		return nil, err
	}
	entries, err := t.files.ReadDir(at)
	if err != nil {
		return nil, said(err)
	}
	var out []folder.Info
	for _, e := range entries {
		if (e.IsDir() || e.Mode().IsRegular()) && e.Name() != "." && e.Name() != ".." && len(out) < most {
			out = append(out, info(e))
		}
	}
	return out, nil
}

func info(is fs.FileInfo) folder.Info {
	return folder.Info{Name: is.Name(), Dir: is.IsDir(), Size: is.Size(), Modified: is.ModTime()}
}

// Stat implements folder.Tree.
func (t *tree) Stat(name string) (folder.Info, error) {
	at, err := t.within(name, false)
	if err != nil {
		return folder.Info{}, err
	}
	is, err := t.files.Lstat(at)
	if err != nil {
		return folder.Info{}, said(err)
	}
	return info(is), nil
}

// regular refuses what is there and is no file.
func (t *tree) regular(at string) error {
	is, err := t.files.Lstat(at)
	if err != nil {
		return said(err)
	}
	if !is.Mode().IsRegular() {
		return &folder.Refused{Code: folder.CodeDenied, Outcome: retry.Never, Err: errors.New("it is a link, or no file")}
	}
	return nil
}

// Open implements folder.Tree.
func (t *tree) Open(name string, offset int64) (io.ReadCloser, error) {
	at, err := t.within(name, false)
	if err == nil {
		err = t.regular(at)
	}
	if err != nil {
		return nil, err
	}
	f, err := t.files.Open(at)
	if err != nil {
		return nil, said(err)
	}
	if _, err := f.Seek(offset, io.SeekStart); err != nil {
		return nil, errors.Join(said(err), f.Close())
	}
	return &reading{f, t.conn}, nil
}

// reading is a file that is read; each piece may be as large as an answer.
type reading struct {
	*client.File
	conn *folder.Metered
}

// Read implements io.Reader.
func (r *reading) Read(p []byte) (int, error) {
	r.conn.Allow()
	n, err := r.File.Read(p)
	if err != nil && !errors.Is(err, io.EOF) {
		err = said(err)
	}
	return n, err
}

// Create implements folder.Tree.
func (t *tree) Create(name string) (io.WriteCloser, error) {
	return t.write(name, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, io.SeekStart)
}

// Append implements folder.Tree.
func (t *tree) Append(name string) (io.WriteCloser, error) {
	return t.write(name, os.O_WRONLY|os.O_CREATE|os.O_APPEND, io.SeekEnd)
}

func (t *tree) write(name string, how, from int) (io.WriteCloser, error) {
	at, err := t.within(name, false)
	if err != nil {
		return nil, err
	}
	if err := t.regular(at); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	f, err := t.files.OpenFile(at, how)
	if err != nil {
		return nil, said(err)
	}
	if _, err := f.Seek(0, from); err != nil {
		return nil, errors.Join(said(err), f.Close())
	}
	_, syncs := t.files.HasExtension("fsync@openssh.com")
	return &writing{f, syncs}, nil
}

// writing is a file that is written; it is on the server's disk when it is closed, where
// the server can do that.
type writing struct {
	*client.File
	syncs bool
}

// Write implements io.Writer.
func (w *writing) Write(p []byte) (int, error) {
	n, err := w.File.Write(p)
	return n, said(err)
}

// Close implements io.Closer.
func (w *writing) Close() error {
	var err error
	if w.syncs {
		err = w.Sync()
	}
	return said(errors.Join(err, w.File.Close()))
}

// Rename implements folder.Tree. Servers without the extension for it do not rename in
// place of another file, so that is removed before.
func (t *tree) Rename(from, to string) error {
	a, err := t.within(from, false)
	if err != nil {
		return err
	}
	b, err := t.within(to, false)
	if err != nil {
		return err
	}
	if _, can := t.files.HasExtension("posix-rename@openssh.com"); can {
		return said(t.files.PosixRename(a, b))
	}
	if err := t.files.Remove(b); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return said(err)
	}
	return said(t.files.Rename(a, b))
}

// Remove implements folder.Tree.
func (t *tree) Remove(name string) error {
	at, err := t.within(name, false)
	if err != nil {
		return err
	}
	return said(t.files.Remove(at))
}

// MakeDir implements folder.Tree.
func (t *tree) MakeDir(name string) error {
	at, err := t.within(name, false)
	if err != nil {
		return err
	}
	if err := t.files.Mkdir(at); err != nil {
		if is, failed := t.files.Lstat(at); failed == nil && is.IsDir() {
			return nil
		}
		return said(err)
	}
	return nil
}

// The status codes of the protocol (draft-ietf-secsh-filexfer-02, 7; 14 and 15 of its
// version 5).
const (
	failure  = 4
	noSpace  = 14
	quotaOut = 15
)

// said puts what a server refuses into the words that all systems with files have.
func said(err error) error {
	var status *client.StatusError
	switch {
	case err == nil, errors.Is(err, fs.ErrNotExist):
		return err
	case errors.Is(err, fs.ErrPermission):
		return &folder.Refused{Code: folder.CodeDenied, Outcome: retry.Never,
			Err: errors.New("the server does not permit it")}
	case !errors.As(err, &status):
		return err
	case status.Code == noSpace, status.Code == quotaOut:
		return &folder.Refused{Code: folder.CodeFull, Outcome: retry.Again,
			Err: errors.New("the disk or quota of the server is full")}
	case status.Code == failure:
		return &folder.Refused{Code: "4", Outcome: retry.Again,
			Err: errors.New("the server says that it failed, and not why")}
	case status.Code > failure && status.Code <= 8:
		return &folder.Refused{Code: fmt.Sprint(status.Code), Outcome: retry.Never,
			Err: errors.New("the server does not understand or cannot do it")}
	}
	return &folder.Refused{Code: fmt.Sprint(status.Code), Outcome: retry.Never,
		Err: fmt.Errorf("the server refuses it (status %d)", status.Code)}
}

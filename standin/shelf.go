package standin

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/http"
	"os"
	"path"
	"path/filepath"
	"strings"
	"time"

	ftpserver "github.com/fclairamb/ftpserverlib"
	"github.com/spf13/afero"
)

// shelf is the files of a stand-in: a folder on this machine. What is written there is noted
// and answered as the stand-in is told to. It is what both protocols show.
type shelf struct {
	afero.Fs
	sys     *System
	dir     string
	now     func() time.Time
	changed func()
}

// newShelf makes the folder of a stand-in, with the folders that its definition names.
func newShelf(sys *System, now func() time.Time, changed func()) (*shelf, error) {
	within := sys.folders
	if within == "" { // in tests
		made, err := os.MkdirTemp("", "stand-in-")
		if err != nil {
			return nil, err
		}
		within = made
	}
	dir := filepath.Join(within, sys.def.Name)
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	return &shelf{afero.NewBasePathFs(afero.NewOsFs(), dir), sys, dir, now, changed}, nil
}

// shape implements shaped: each line of has is a folder.
func (s *shelf) shape(d Definition) error {
	for _, line := range d.Has {
		if !filepath.IsLocal(line) {
			return fmt.Errorf("has: %q is no folder; write it as in/new", line)
		}
		if err := s.MkdirAll(line, 0o700); err != nil {
			return fmt.Errorf("has: %s: %w", line, plainly(err))
		}
	}
	return nil
}

func plainly(err error) error {
	var at *fs.PathError
	if errors.As(err, &at) {
		return at.Err
	}
	return err
}

// serve implements speaker; a plain folder is reached without a connection.
func (s *shelf) serve(c net.Conn) { _ = c.Close() }

// close implements speaker. The files stay until the stand-in is removed.
func (s *shelf) close() error { return nil }

// forget implements forgotten: with the stand-in its files go.
func (s *shelf) forget() error { return os.RemoveAll(s.dir) }

// send implements speaker: it lays a file down, whole, as a person would.
func (s *shelf) send(m Message) error {
	name := filepath.FromSlash(strings.TrimPrefix(m.Topic, "/"))
	if !filepath.IsLocal(name) || name == "." {
		return fmt.Errorf("%q is no name of a file; write it as out/new.csv", m.Topic)
	}
	root, err := os.OpenRoot(s.dir)
	if err != nil {
		return err
	}
	defer func() { _ = root.Close() }()
	if err := root.MkdirAll(filepath.Dir(name), 0o700); err != nil {
		return plainly(err)
	}
	part := filepath.Join(filepath.Dir(name), "."+filepath.Base(name)+".part")
	if err := root.WriteFile(part, []byte(m.Body), 0o600); err != nil {
		return plainly(err)
	}
	return root.Rename(part, name)
}

// mostInside is how many files people are shown, shownText how much text of one and of all.
const (
	mostInside = 500
	shownText  = 64 << 10
	shownAll   = 1 << 20
)

// inside implements looked: the files.
func (s *shelf) inside() []Inside {
	out, left := []Inside{}, shownAll
	_ = filepath.WalkDir(s.dir, func(at string, d fs.DirEntry, err error) error {
		if err != nil || len(out) == mostInside {
			return fs.SkipAll
		}
		if name, _ := filepath.Rel(s.dir, at); !d.IsDir() && !strings.HasPrefix(d.Name(), ".") {
			one := Inside{Name: filepath.ToSlash(name)}
			if is, err := d.Info(); err == nil {
				one.Bytes = is.Size()
				if one.Bytes <= shownText && int(one.Bytes) <= left && is.Mode().IsRegular() {
					text, _ := os.ReadFile(at)
					one.Text, left = strings.ToValidUTF8(string(text), "\uFFFD"), left-len(text)
				}
			}
			out = append(out, one)
		}
		return nil
	})
	return out
}

// OpenFile implements afero.Fs.
func (s *shelf) OpenFile(name string, flag int, perm os.FileMode) (afero.File, error) {
	if flag&(os.O_WRONLY|os.O_RDWR) == 0 {
		return s.Fs.OpenFile(name, flag, perm)
	}
	if err := s.asked(name); err != nil {
		return nil, err
	}
	f, err := s.Fs.OpenFile(name, flag, perm)
	if err != nil {
		return nil, err
	}
	return &written{f, s, name}, nil
}

// Create implements afero.Fs.
func (s *shelf) Create(name string) (afero.File, error) {
	return s.OpenFile(name, os.O_RDWR|os.O_CREATE|os.O_TRUNC, 0o600)
}

// asked says what the stand-in says to a file that is to be written.
func (s *shelf) asked(name string) error {
	status, _, _, delay := s.sys.decide(s.now(), "WRITE", name)
	if status == never {
		delay = maxDelay * time.Millisecond // longer than anybody waits
	}
	time.Sleep(delay)
	if status >= 200 && status < 300 {
		return nil
	}
	s.note("WRITE", name, max(status, 0), "")
	switch status {
	case 0, never:
		s.sys.cut()
		return io.ErrUnexpectedEOF
	case http.StatusUnauthorized, http.StatusForbidden:
		return os.ErrPermission
	case http.StatusInsufficientStorage:
		return ftpserver.ErrStorageExceeded
	}
	return errors.New(http.StatusText(status))
}

func (s *shelf) note(method, name string, status int, body string) {
	s.sys.note(Call{At: s.now(), Method: method, Path: name, Status: status, Body: body, Headers: map[string]string{}})
	s.changed()
}

// hidden tells whether a file is one that is not whole yet.
func hidden(name string) bool { return strings.HasPrefix(path.Base(filepath.ToSlash(name)), ".") }

// noteFile notes a file that is there, whole.
func (s *shelf) noteFile(name string) {
	f, err := s.Open(name)
	if err != nil {
		return
	}
	body, _ := io.ReadAll(io.LimitReader(f, maxBody))
	_ = f.Close()
	s.note("WRITE", name, http.StatusOK, strings.ToValidUTF8(string(body), "\uFFFD"))
}

// written is a file that is written, and noted when it is closed.
type written struct {
	afero.File
	of   *shelf
	name string
}

// Close implements io.Closer.
func (f *written) Close() error {
	err := f.File.Close()
	if err == nil && !hidden(f.name) {
		f.of.noteFile(f.name)
	}
	return err
}

// Rename implements afero.Fs: a file that is whole gets its name, or one is moved.
func (s *shelf) Rename(from, to string) error {
	err := s.Fs.Rename(from, to)
	switch {
	case err != nil:
	case hidden(from):
		s.noteFile(to)
	default:
		s.note("MOVE", from+" to "+to, http.StatusOK, "")
	}
	return err
}

// Remove implements afero.Fs.
func (s *shelf) Remove(name string) error {
	err := s.Fs.Remove(name)
	if err == nil && !hidden(name) {
		s.note("REMOVE", name, http.StatusOK, "")
	}
	return err
}

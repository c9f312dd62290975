package store

import (
	"archive/tar"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

// A backup is a tar archive (POSIX.1-2001, pax) of what a data folder holds: the database as
// it was at one moment, the key to its secrets, the files of loads, and what simulated
// systems keep. Its last member, manifest.json, names each file with its size and SHA-256;
// an archive without it was cut off.

// backupFormat is what a manifest begins with.
const backupFormat = "readyferry-backup/1"

const manifestFile = "manifest.json"

// Manifest says what a backup holds.
type Manifest struct {
	Format string         `json:"format"`
	Made   time.Time      `json:"made"`
	Schema string         `json:"schema"` // the last migration of the database
	Files  []ManifestFile `json:"files"`
}

// ManifestFile is a file of a backup.
type ManifestFile struct {
	Name   string `json:"name"` // with slashes, below the data folder
	Size   int64  `json:"size"`
	SHA256 string `json:"sha256"`
}

// Backup writes a backup of a data folder. The application may be at work there: the
// database is taken at one moment, and nobody waits for it. tell hears how many bytes of
// the database were written so far, of about how many.
func Backup(ctx context.Context, dir string, to io.Writer, tell func(done, of int64)) (*Manifest, error) {
	if _, err := os.Stat(filepath.Join(dir, dbFile)); err != nil {
		return nil, fmt.Errorf("there is no journal in %s: %w", dir, err)
	}
	temp, err := os.MkdirTemp(dir, "backup-")
	if err != nil {
		return nil, fmt.Errorf("making room for the backup: %w", err)
	}
	defer os.RemoveAll(temp)
	m := &Manifest{Format: backupFormat, Made: time.Now().UTC()}
	// Files of loads are gone when these are done, and there before they are noted: what is
	// linked before or behind the moment of the database has all that it knows.
	if err := link(dir, temp); err != nil {
		return nil, err
	}
	if m.Schema, err = snapshot(ctx, dir, temp, tell); err != nil {
		return nil, err
	}
	if err := link(dir, temp); err != nil {
		return nil, err
	}
	return m, m.write(ctx, temp, to)
}

// snapshot copies databases as they are at one moment, without what was deleted.
func snapshot(ctx context.Context, dir, temp string, tell func(done, of int64)) (schema string, err error) {
	files := []string{dbFile}
	found, err := filepath.Glob(filepath.Join(dir, "stand-ins", "*.db"))
	if err != nil {
		return "", err
	}
	for _, f := range found {
		files = append(files, filepath.Join("stand-ins", filepath.Base(f)))
	}
	for part := 1; part < MostPartitions; part++ { // each as it is at a moment of its own
		if name := filepath.Join(PartDir("", part), dbFile); size(filepath.Join(dir, name)) > 0 {
			files = append(files, name)
		}
	}
	for _, name := range files {
		into := filepath.Join(temp, name)
		if err := os.MkdirAll(filepath.Dir(into), 0o700); err != nil {
			return "", err
		}
		db, err := connect(filepath.Join(dir, name), "_txlock=deferred", 1)
		if err != nil {
			return "", err
		}
		of := size(filepath.Join(dir, name))
		stop := watch(into, func(done int64) { tell(done, of) })
		err = db.WithContext(ctx).Exec("VACUUM INTO ?", into).Error
		stop()
		if name == dbFile && err == nil {
			err = db.Raw("SELECT id FROM migrations ORDER BY id DESC LIMIT 1").Scan(&schema).Error
		}
		if pool, bad := db.DB(); bad == nil {
			err = errors.Join(err, pool.Close())
		}
		if err != nil {
			return "", fmt.Errorf("copying %s: %w", name, err)
		}
	}
	return schema, nil
}

// watch tells twice a second how large a file has become, until it is stopped.
func watch(file string, tell func(int64)) (stop func()) {
	done := make(chan struct{})
	go func() {
		tick := time.NewTicker(500 * time.Millisecond)
		defer tick.Stop()
		for {
			select {
			case <-done:
				return
			case <-tick.C:
				tell(size(file))
			}
		}
	}()
	return func() { close(done) }
}

func size(file string) int64 {
	info, err := os.Stat(file)
	if err != nil {
		return 0
	}
	return info.Size()
}

// link takes what is no database into the folder of a backup, as it is now.
func link(dir, temp string) error {
	tops := []string{keyFile, saltFile, "loads", "stand-ins"}
	for part := 1; part < MostPartitions; part++ {
		tops = append(tops, filepath.Join(PartDir("", part), keyFile))
	}
	for _, top := range tops {
		err := filepath.WalkDir(filepath.Join(dir, top), func(path string, d fs.DirEntry, err error) error {
			name, bad := filepath.Rel(dir, path)
			switch {
			case errors.Is(err, fs.ErrNotExist):
				return nil // there is none, or it went away just now
			case err != nil || bad != nil:
				return errors.Join(err, bad)
			case d.IsDir():
				return os.MkdirAll(filepath.Join(temp, name), 0o700)
			case !d.Type().IsRegular() || isDatabase(name):
				return nil
			}
			return linkFile(path, filepath.Join(temp, name))
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// isDatabase tells of the files of a database of a simulated system.
func isDatabase(name string) bool {
	return filepath.Dir(name) == "stand-ins" && strings.Contains(filepath.Base(name), ".db")
}

func linkFile(from, to string) error {
	if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
		return err
	}
	err := os.Link(from, to)
	if errors.Is(err, fs.ErrExist) || errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// write makes the archive of what was gathered.
func (m *Manifest) write(ctx context.Context, temp string, to io.Writer) error {
	archive := tar.NewWriter(to)
	err := filepath.WalkDir(temp, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		if err := ctx.Err(); err != nil {
			return err
		}
		name, err := filepath.Rel(temp, path)
		if err != nil {
			return err
		}
		return m.add(archive, path, filepath.ToSlash(name))
	})
	if err != nil {
		return err
	}
	text, err := json.MarshalIndent(m, "", "  ")
	if err != nil {
		return err
	}
	head := &tar.Header{Name: manifestFile, Mode: 0o600, Size: int64(len(text)), ModTime: m.Made, Format: tar.FormatPAX}
	if err := archive.WriteHeader(head); err != nil {
		return err
	}
	if _, err := archive.Write(text); err != nil {
		return err
	}
	return archive.Close()
}

func (m *Manifest) add(archive *tar.Writer, path, name string) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return err
	}
	n := info.Size()
	if err := archive.WriteHeader(&tar.Header{Name: name, Mode: 0o600, Size: n, ModTime: m.Made,
		Format: tar.FormatPAX}); err != nil {
		return err
	}
	sum := sha256.New()
	if _, err := io.CopyN(io.MultiWriter(archive, sum), f, n); err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	m.Files = append(m.Files, ManifestFile{name, n, hex.EncodeToString(sum.Sum(nil))})
	return nil
}

// Restore makes a data folder of a backup. The folder must not be there, or be empty; it
// appears when all of the backup is in it and as its manifest says.
func Restore(ctx context.Context, from io.Reader, dir string) (*Manifest, error) {
	if some, err := os.ReadDir(dir); err == nil && len(some) > 0 {
		return nil, fmt.Errorf("%s is not empty; restore into another folder, or move it away", dir)
	}
	if err := os.MkdirAll(filepath.Dir(filepath.Clean(dir)), 0o700); err != nil {
		return nil, err
	}
	temp, err := os.MkdirTemp(filepath.Dir(filepath.Clean(dir)), ".restoring-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(temp)
	m, err := unpackAll(ctx, from, temp)
	if err != nil {
		return nil, err
	}
	if err := os.Remove(dir); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	return m, os.Rename(temp, dir)
}

// unpackAll writes the files of an archive, and compares them with its manifest.
func unpackAll(ctx context.Context, from io.Reader, temp string) (*Manifest, error) {
	archive, got := tar.NewReader(from), []ManifestFile(nil)
	for {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		head, err := archive.Next()
		if errors.Is(err, io.EOF) {
			return nil, errors.New("it is no whole backup: it ends without its manifest")
		}
		if err != nil {
			return nil, fmt.Errorf("it is no backup: %w", err)
		}
		if head.Name == manifestFile {
			return agree(archive, got)
		}
		name := filepath.FromSlash(head.Name)
		if head.Typeflag != tar.TypeReg || !filepath.IsLocal(name) {
			return nil, fmt.Errorf("it is no backup: %q is no file of a data folder", head.Name)
		}
		sum, err := unpackFile(archive, filepath.Join(temp, name))
		if err != nil {
			return nil, fmt.Errorf("%s: %w", head.Name, err)
		}
		got = append(got, ManifestFile{head.Name, head.Size, sum})
	}
}

func unpackFile(from io.Reader, to string) (sum string, err error) {
	if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
		return "", err
	}
	f, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return "", err
	}
	hash := sha256.New()
	_, err = io.Copy(io.MultiWriter(f, hash), from)
	return hex.EncodeToString(hash.Sum(nil)), errors.Join(err, f.Sync(), f.Close())
}

// mostManifest bounds a manifest, in bytes.
const mostManifest = 64 << 20

// agree reads the manifest and compares what was unpacked with it.
func agree(from io.Reader, got []ManifestFile) (*Manifest, error) {
	var m Manifest
	if err := json.NewDecoder(io.LimitReader(from, mostManifest)).Decode(&m); err != nil {
		return nil, fmt.Errorf("its manifest cannot be read: %w", err)
	}
	switch {
	case m.Format != backupFormat:
		return nil, fmt.Errorf("it is of the form %q; this release reads %s", m.Format, backupFormat)
	case m.Schema > lastMigration:
		return nil, fmt.Errorf("it was made by a later release (%s)", m.Schema)
	case len(got) != len(m.Files):
		return nil, fmt.Errorf("it has %d files, and its manifest names %d", len(got), len(m.Files))
	}
	for _, f := range got {
		if !slices.Contains(m.Files, f) {
			return nil, fmt.Errorf("%s is not as it was when the backup was made", f.Name)
		}
	}
	if !slices.ContainsFunc(got, func(f ManifestFile) bool { return f.Name == dbFile }) {
		return nil, errors.New("it has no journal")
	}
	return &m, nil
}

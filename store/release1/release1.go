// Package release1 holds a data folder as the first release left it, with work of
// every kind under way, for tests of what later releases make of it. README.md
// says what is in it.
package release1

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	_ "embed" // the folder
	"errors"
	"io"
	"os"
	"path/filepath"
)

//go:embed data.tar.gz
var data []byte

// Unpack lays the folder out in dir, which must exist.
func Unpack(dir string) error {
	z, err := gzip.NewReader(bytes.NewReader(data))
	if err != nil {
		return err
	}
	for r := tar.NewReader(z); ; {
		h, err := r.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		path := filepath.Join(dir, filepath.Clean("/"+h.Name))
		if h.FileInfo().IsDir() {
			if err := os.MkdirAll(path, 0o700); err != nil {
				return err
			}
			continue
		}
		content, err := io.ReadAll(r)
		if err != nil {
			return err
		}
		if err := os.WriteFile(path, content, 0o600); err != nil {
			return err
		}
	}
}

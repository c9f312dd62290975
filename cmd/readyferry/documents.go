package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"readyferry/connect/systems"
	"readyferry/core/expr"
	"readyferry/core/flow"
	"readyferry/core/plan"
	"readyferry/worker"
)

// readFlow reads a flow document and the files beside it that it may refer to:
// schemas, and the tables under tables/. given are files that come before those.
func readFlow(r *plan.Reader, file string, given map[string][]byte) (*plan.Plan, []flow.Finding, error) {
	src, err := os.ReadFile(file)
	if err != nil {
		return nil, nil, err
	}
	files := map[string][]byte{}
	if bytes.Contains(src, []byte("$ref")) || bytes.Contains(src, []byte("$schema")) ||
		bytes.Contains(src, []byte("$dynamicRef")) ||
		bytes.Contains(src, []byte("lookup")) || bytes.Contains(src, []byte("schema")) {
		if files, err = neighbours(filepath.Dir(file)); err != nil {
			return nil, nil, err
		}
	}
	maps.Copy(files, given)
	p, findings := r.Read(src, files)
	return p, findings, nil
}

// tableFlag reads --table NAME=FILE.csv as files of a flow.
func tableFlag(texts []string) (map[string][]byte, error) {
	files := map[string][]byte{}
	for _, text := range texts {
		name, file, ok := strings.Cut(text, "=")
		if !ok || name == "" {
			return nil, fmt.Errorf("--table %q must be written NAME=FILE.csv", text)
		}
		b, err := os.ReadFile(file)
		if err != nil {
			return nil, err
		}
		if err := expr.CheckTable(b); err != nil {
			return nil, fmt.Errorf("--table %q: %w", text, err)
		}
		files[expr.TableFile(name)] = b
	}
	return files, nil
}

// neighbours reads the JSON files and tables below a folder, by their path from it.
func neighbours(dir string) (map[string][]byte, error) {
	files := map[string][]byte{}
	for _, root := range []string{dir, filepath.Dir(dir)} { // schemas stand beside the flow, or beside its folder
		err := filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
			rel, relErr := filepath.Rel(root, path)
			_, isTable := expr.TableName(filepath.ToSlash(rel))
			switch {
			case err != nil || relErr != nil:
				return nil // what cannot be read cannot be referred to; the reader will say so
			case d.IsDir() && strings.Count(rel, string(filepath.Separator)) >= 4,
				d.IsDir() && strings.HasPrefix(d.Name(), ".") && rel != ".":
				return fs.SkipDir
			case d.IsDir() || !slices.Contains([]string{".json", ".avsc", ".proto"}, filepath.Ext(path)) && !isTable ||
				len(files) >= 500:
				return nil
			}
			if _, known := files[filepath.ToSlash(rel)]; known {
				return nil
			}
			if info, err := d.Info(); err != nil || info.Size() > flow.MaxSize {
				return nil
			}
			b, err := os.ReadFile(path)
			if err == nil {
				files[filepath.ToSlash(rel)] = b
			}
			return nil
		})
		if err != nil {
			return nil, err
		}
	}
	return files, nil
}

func printJSON(w io.Writer, v any) error {
	e := json.NewEncoder(w)
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	return e.Encode(v)
}

// reader reads flows that may name any system that the application has.
func reader(o *configured) (*plan.Reader, error) {
	kinds, err := systems.Kinds()
	if err != nil {
		return nil, err
	}
	scripts, err := worker.New("") // they end with this process
	if err != nil {
		return nil, err
	}
	r, err := plan.NewReaderWith(scripts, kinds...)
	if err != nil {
		return nil, err
	}
	return r, o.put(r, nil)
}

func readInput(c *cobra.Command, file string) ([]byte, error) {
	if file == "-" {
		return io.ReadAll(c.InOrStdin())
	}
	return os.ReadFile(file)
}

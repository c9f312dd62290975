package main

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"readyferry/connect"
	"readyferry/connect/systems"
	"readyferry/core/plan"
	"readyferry/engine"
	"readyferry/engine/bundle"
	"readyferry/store"
)

// place is an instance: a folder that is not served, or an address with a key.
type place struct {
	data, url, key string
	configured
}

func (p *place) flags(c *cobra.Command, url, what string) {
	p.configured.flags(c.Flags())
	c.Flags().StringVar(&p.data, "data", "", "data folder "+what+", which is not served")
	c.Flags().StringVar(&p.url, url, "", "address of a running instance "+what+", in place of a folder")
	c.Flags().StringVar(&p.key, "key", "", "key for it, or @FILE to read it from one")
}

func (p *place) check() error {
	if (p.data == "") == (p.url == "") {
		return errors.New("name a folder that is not served, or the address of a running instance with its key")
	}
	if file, is := strings.CutPrefix(p.key, "@"); is {
		b, err := os.ReadFile(file)
		if err != nil {
			return err
		}
		p.key = strings.TrimSpace(string(b))
	}
	return nil
}

// within opens a folder that is not served, as an engine that does nothing by itself.
func (p *place) within(do func(e *engine.Engine) error) (err error) {
	s, err := store.Open(p.data)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, s.Close()) }()
	all, err := systems.All(systems.Surroundings{})
	if err != nil {
		return err
	}
	reader, err := plan.NewReader(all.Kinds()...)
	if err != nil {
		return err
	}
	if err := p.put(reader, all); err != nil {
		return err
	}
	e, err := engine.New(engine.Config{Store: s, Reader: reader, Systems: all, Outside: &connect.Outside{},
		Log: slog.New(slog.NewTextHandler(io.Discard, nil))})
	if err != nil {
		return err
	}
	defer e.Stop()
	return do(e)
}

// patience is how long another instance may take.
const bundlePatience = 5 * time.Minute

// ask calls another instance; no redirect is followed, so the key goes nowhere else.
func (p *place) ask(ctx context.Context, method, path string, body, into any) error {
	b, err := json.Marshal(body)
	if err != nil {
		return err
	}
	ctx, stop := context.WithTimeout(ctx, bundlePatience)
	defer stop()
	req, err := http.NewRequestWithContext(ctx, method, strings.TrimSuffix(p.url, "/")+path, bytes.NewReader(b))
	if err != nil {
		return err
	}
	req.Header.Set("Authorization", "Bearer "+p.key)
	req.Header.Set("Content-Type", "application/json")
	client := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	res, err := client.Do(req)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	answer, err := io.ReadAll(io.LimitReader(res.Body, 4*bundle.MostBytes))
	if err != nil {
		return err
	}
	if res.StatusCode != http.StatusOK {
		var problem struct{ Title, Detail string }
		_ = json.Unmarshal(answer, &problem)
		return &exitError{1, fmt.Errorf("%s answers %d: %s: %s", p.url, res.StatusCode, problem.Title, problem.Detail)}
	}
	return json.Unmarshal(answer, into)
}

func (p *place) export(ctx context.Context) (files bundle.Files, err error) {
	if p.url != "" {
		var out struct{ Files bundle.Files }
		err = p.ask(ctx, http.MethodGet, "/api/v1/export", nil, &out)
		return out.Files, err
	}
	err = p.within(func(e *engine.Engine) (err error) {
		files, err = e.Bundle.Export()
		return err
	})
	return files, err
}

// taking is how a bundle is taken.
type taking struct{ preview, remove, keep bool }

func (p *place) take(ctx context.Context, files bundle.Files, t taking, note string) (out []bundle.Change, err error) {
	if p.url != "" {
		return out, p.ask(ctx, http.MethodPost, "/api/v1/import", map[string]any{"files": files, "preview": t.preview,
			"removeOthers": t.remove, "keepConnections": t.keep, "note": note}, &out)
	}
	o := bundle.Options{RemoveOthers: t.remove, KeepConnections: t.keep, By: machine().String(), Note: note}
	return out, p.within(func(e *engine.Engine) (err error) {
		if t.preview {
			out, err = e.Bundle.Preview(files, o)
		} else {
			out, err = e.Bundle.Import(ctx, files, o)
		}
		return err
	})
}

func exportCommand() *cobra.Command {
	var p place
	c := &cobra.Command{Use: "export FOLDER",
		Short: "Write flows, samples, tables, connections and people as a folder of open files",
		Args:  cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			if err := p.check(); err != nil {
				return err
			}
			files, err := p.export(c.Context())
			if err != nil {
				return err
			}
			if err := writeFolder(args[0], files); err != nil {
				return err
			}
			fmt.Fprintf(c.OutOrStdout(), "%d files\n", len(files))
			return nil
		}}
	p.flags(c, "from", "to export")
	return c
}

func importCommand() *cobra.Command {
	var p place
	var t taking
	var asJSON bool
	var note string
	c := &cobra.Command{Use: "import FOLDER", Short: "Take a folder that export has written, in one transaction",
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			if err := p.check(); err != nil {
				return err
			}
			files, err := readFolder(args[0])
			if err != nil {
				return err
			}
			out, err := p.take(c.Context(), files, t, note)
			if err != nil {
				return &exitError{1, err}
			}
			return tellChanges(c, out, t.preview, asJSON)
		}}
	p.flags(c, "to", "to import into")
	c.Flags().BoolVar(&t.preview, "preview", false, "say what it would change, and change nothing")
	c.Flags().BoolVar(&t.remove, "remove-others", false, "remove what is not in the folder; people stay")
	c.Flags().BoolVar(&t.keep, "keep-connections", false, "leave connections that are there already as they are")
	c.Flags().StringVar(&note, "note", "", "a word for those who come after, which versions keep")
	c.Flags().BoolVar(&asJSON, "json", false, "print the changes as JSON")
	return c
}

func promoteCommand() *cobra.Command {
	var from, to place
	var t taking
	var publish bool
	var note string
	c := &cobra.Command{Use: "promote FLOW", Short: "Take a flow's draft with its samples to another instance",
		Long: "Takes the draft of a flow with its files and samples to another instance, as a draft, or with --publish as a new\n" +
			"version. Connections and tables are those of the other place, with its addresses and secrets.",
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			if err := errors.Join(from.check(), to.check()); err != nil {
				return err
			}
			all, err := from.export(c.Context())
			if err != nil {
				return err
			}
			one := promoted(all, args[0], publish)
			if len(one) == 0 {
				return fmt.Errorf("there is no flow named %s", args[0])
			}
			t.keep = true
			out, err := to.take(c.Context(), one, t, note)
			if err != nil {
				return &exitError{1, err}
			}
			return tellChanges(c, out, t.preview, false)
		}}
	c.Flags().StringVar(&from.data, "data", "", "data folder that it is in, which is not served")
	c.Flags().StringVar(&from.url, "from", "", "address of the instance that it is in, in place of a folder")
	c.Flags().StringVar(&from.key, "from-key", "", "key for that, or @FILE")
	c.Flags().StringVar(&to.url, "to", "", "address of the instance that it goes to")
	c.Flags().StringVar(&to.key, "key", "", "key for that, or @FILE")
	c.Flags().BoolVar(&t.preview, "preview", false, "say what it would change, and change nothing")
	c.Flags().BoolVar(&publish, "publish", false, "put it to work there as a new version")
	c.Flags().StringVar(&note, "note", "", "a word for those who come after, which the version keeps")
	return c
}

// promoted gives the part of a bundle that is one flow's draft.
func promoted(all bundle.Files, name string, publish bool) bundle.Files {
	out := bundle.Files{}
	at := "flows/" + name + "/"
	for file, content := range all {
		rest, in := strings.CutPrefix(file, at)
		if in && rest != "live.yaml" && !strings.HasPrefix(rest, "live-files/") {
			out[file] = content
		}
	}
	if len(out) > 0 {
		out[at+"state.json"] = fmt.Appendf(nil, `{"live": %v}`, publish)
	}
	return out
}

func tellChanges(c *cobra.Command, all []bundle.Change, preview, asJSON bool) error {
	if asJSON {
		if all == nil {
			all = []bundle.Change{}
		}
		return json.NewEncoder(c.OutOrStdout()).Encode(all)
	}
	for _, one := range all {
		line := one.Does + " " + one.Kind + " " + one.Name
		if one.Detail != "" {
			line += ": " + one.Detail
		}
		fmt.Fprintln(c.OutOrStdout(), line)
	}
	if len(all) == 0 {
		fmt.Fprintln(c.OutOrStdout(), "nothing is different")
	} else if preview {
		fmt.Fprintln(c.OutOrStdout(), "nothing was changed: this is a preview")
	}
	return nil
}

// ofBundles are the folders of a bundle that export writes anew.
var ofBundles = []string{"flows", "connections", "tables", "calendars", "alarms", "people.json"}

func writeFolder(dir string, files bundle.Files) error {
	if err := files.Check(); err != nil {
		return err
	}
	for _, old := range ofBundles { // what is no more goes; all else in the folder stays
		if err := os.RemoveAll(filepath.Join(dir, old)); err != nil {
			return err
		}
	}
	for name, content := range files {
		file := filepath.Join(dir, filepath.FromSlash(name))
		if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
			return err
		}
		if err := os.WriteFile(file, content, 0o600); err != nil {
			return err
		}
	}
	return nil
}

func readFolder(dir string) (bundle.Files, error) {
	files := bundle.Files{}
	err := filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !d.Type().IsRegular() {
			return err
		}
		rel, err := filepath.Rel(dir, path)
		if err != nil {
			return err
		}
		name := filepath.ToSlash(rel)
		first, _, _ := strings.Cut(name, "/")
		if !slices.Contains(ofBundles, first) {
			return nil // a README, say
		}
		files[name], err = os.ReadFile(path)
		return err
	})
	if err == nil && len(files) == 0 {
		err = fmt.Errorf("there is nothing in %s that export has written", dir)
	}
	return files, err
}

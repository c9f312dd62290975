package main

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/spf13/pflag"

	"readyferry/core/access"
	"readyferry/engine"
	"readyferry/engine/bundle"
)

// kept is a folder that what runs here is kept in step with, as export writes it.
type kept struct {
	dir string

	mu    sync.Mutex
	has   map[string]bool // kind and name
	looks string          // the folder, when it was taken
}

func (k *kept) flags(f *pflag.FlagSet) {
	f.StringVar(&k.dir, "flows", "", "folder, as export writes it, that flows are kept in step with, and whatever else is in\n"+
		"it: what stands there is changed there alone")
}

// Folder implements api.Kept.
func (k *kept) Folder() string { return k.dir }

// Keeps implements api.Kept.
func (k *kept) Keeps(kind, name string) bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	return kind == access.Flow || k.has[kind+" "+name]
}

// folders are those of a bundle, by the kind of what is in them.
var folders = map[string]string{"connections": access.Connection, "tables": access.Table, "calendars": "calendar",
	"alarms": "alarm"}

// take takes the folder, where it has changed since it was last.
func (k *kept) take(ctx context.Context, e *engine.Engine, log *slog.Logger) error {
	looks, err := looksLike(k.dir)
	if err != nil {
		return fmt.Errorf("the folder of flows: %w", err)
	}
	k.mu.Lock()
	same := looks == k.looks
	k.mu.Unlock()
	if same {
		return nil
	}
	files, err := readFolder(k.dir)
	if err != nil {
		return fmt.Errorf("the folder of flows: %w", err)
	}
	has := map[string]bool{}
	for name := range files {
		top, rest, _ := strings.Cut(name, "/")
		if kind := folders[top]; kind != "" {
			has[kind+" "+strings.TrimSuffix(rest, filepath.Ext(rest))] = true
		}
	}
	changes, err := e.Bundle.Import(ctx, files, bundle.Options{RemoveFlows: true, KeepPaused: true, By: "folder"})
	k.mu.Lock()
	defer k.mu.Unlock()
	k.looks = looks // also where it was not taken: it is said once
	if err != nil {
		return fmt.Errorf("the folder of flows was not taken, and what ran before goes on: %w", err)
	}
	k.has = has
	for _, c := range changes {
		log.Info("the folder of flows has changed", "does", c.Does, "kind", c.Kind, "name", c.Name, "detail", c.Detail)
	}
	return nil
}

// looksLike gives what tells a state of a folder from others: names, sizes, times of its files.
func looksLike(dir string) (string, error) {
	var b strings.Builder
	err := filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		info, err := d.Info()
		if errors.Is(err, fs.ErrNotExist) {
			return nil // it went away just now
		}
		if err == nil && info.Mode().IsRegular() {
			fmt.Fprintf(&b, "%s %d %d\n", path, info.Size(), info.ModTime().UnixNano())
		}
		return err
	})
	return b.String(), err
}

// folderEach is how often it is looked whether the folder has changed.
const folderEach = 2 * time.Second

// follow takes the folder, and follows it from then on.
func (k *kept) follow(ctx context.Context, e *engine.Engine, log *slog.Logger) error {
	if k.dir == "" {
		return nil
	}
	if err := k.take(ctx, e, log); err != nil {
		return err
	}
	go every(ctx, folderEach, func() {
		if err := k.take(ctx, e, log); err != nil {
			log.Error(err.Error())
		}
	})
	return nil
}

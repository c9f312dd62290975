// Package files is the system of folders of this machine, and of those that are mounted
// there. Connections reach the folders that the operator names when the application is
// started, and what lies below them, and nothing else: a name that leaves them is refused
// whatever dots, links or absolute paths it holds (os.Root sees to that).
package files

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"github.com/fsnotify/fsnotify"

	"readyferry/connect"
	"readyferry/connect/folder"
	"readyferry/connect/reach"
	"readyferry/core/system"
)

// Kind is the name of the system in documents.
const Kind = "files"

const connectionSchema = `{"required": ["address"], "properties": {
	"address": {"type": "string", "title": "Folder", "default": "file:///", "description":
		"file:///folder below one that the application was started for (--files), or stand-in://name", "examples": ["file:///srv/exchange"]}}}`

// New makes the system. allowed are the folders that the operator names, standIns is the
// one of simulated folders, "" where there are none.
func New(allowed []string, standIns string) connect.System {
	p := &places{allowed, standIns}
	return connect.System{
		Kind: system.Kind{
			Name: Kind, Title: "Files", Summary: "A folder of this machine, or one that is mounted there.",
			Sentence: "write {name}[ into {folder}] at {to}",
			Intake:   system.Schema(folder.IntakeSchema), Deliver: system.Schema(folder.DeliverSchema),
		},
		Notes: append([]string{"Folders are reached below those that the application was started for: readyferry serve --files /srv/exchange, " +
			"as often as there are some."}, folder.Notes...),
		Outcomes: folder.Outcomes(), Connection: system.Schema(connectionSchema), Check: p.check,
		Says: folder.Says,
		Open: func(_ context.Context, c *connect.Connection) (connect.Link, error) {
			l := &folder.Link{C: c}
			l.Join = func(_ context.Context, w *reach.Way) (folder.Tree, error) { return p.open(c, w) }
			l.Wakes = func(dir string) (<-chan struct{}, func(), error) { return p.wakes(c, dir) }
			return l, nil
		},
	}
}

// places is where folders may lie.
type places struct {
	allowed  []string
	standIns string
}

// check says what is wrong with the address of a folder. Whether it may be reached is said
// when it is: programs that only check documents are started for no folders.
func (p *places) check(c *connect.Connection, found connect.Found) {
	u, err := url.Parse(c.Address)
	local := err == nil && u.Scheme == "file" && u.Host == "" && strings.HasPrefix(u.Path, "/")
	standIn := err == nil && u.Scheme == reach.StandInScheme && u.Host != "" && u.Path == ""
	if !local && !standIn || u.RawQuery != "" || u.Fragment != "" {
		found("/address", "wrong-value", fmt.Sprintf("%q is no address of a folder", c.Address),
			"write it as file:///folder, or stand-in://name for one that ships with the application")
	}
}

// open opens the folder of a connection.
func (p *places) open(c *connect.Connection, w *reach.Way) (*tree, error) {
	u, err := url.Parse(c.Address)
	if err != nil {
		return nil, &reach.Error{Step: "reading the address", Err: err, Repair: "write it as file:///folder"}
	}
	if u.Scheme == reach.StandInScheme {
		err := errors.New("there is no such stand-in")
		if p.standIns != "" && u.Host == filepath.Base(u.Host) && u.Host != ".." {
			var root *os.Root
			if root, err = os.OpenRoot(filepath.Join(p.standIns, u.Host)); err == nil {
				w.Did("the stand-in %s is there", u.Host)
				return &tree{root: root}, nil
			}
		}
		return nil, &reach.Error{Step: "reaching the stand-in " + u.Host, Err: plain(err),
			Repair: "look at it under Stand-ins, or make one of this name and kind"}
	}
	within, below := p.allows(u.Path)
	if within == "" {
		return nil, &reach.Error{Step: "reaching " + u.Path,
			Err:    errors.New("the application was not started for this folder"),
			Repair: "start it with --files " + u.Path + ", or with a folder around it"}
	}
	w.Did("%s is a folder that the application was started for", within)
	root, err := os.OpenRoot(within)
	if err != nil {
		return nil, &reach.Error{Step: "opening " + within, Err: plain(err),
			Repair: "look whether it is there, and what this program may do there"}
	}
	if below == "." {
		return &tree{root: root}, nil
	}
	inner, err := root.OpenRoot(below)
	if err = errors.Join(err, root.Close()); err != nil {
		return nil, &reach.Error{Step: "opening " + u.Path, Err: plain(err),
			Repair: "look whether it is there, and what this program may do there"}
	}
	return &tree{root: inner}, nil
}

// allows gives the folder of the operator around a path, and the path below it; "" where
// there is none. Links within the path are not looked at here: whoever opens it below the
// folder is not led out of it by them.
func (p *places) allows(path string) (within, below string) {
	path = filepath.Clean(path)
	for _, dir := range p.allowed {
		abs, err := filepath.Abs(dir)
		if err != nil {
			continue
		}
		if rel, err := filepath.Rel(abs, path); err == nil && filepath.IsLocal(rel) && len(abs) > len(within) {
			within, below = abs, rel
		}
	}
	return within, below
}

// wakes tells of changes in a folder. Where that cannot be told it looks now and then, as
// for other systems.
func (p *places) wakes(c *connect.Connection, dir string) (<-chan struct{}, func(), error) {
	t, err := p.open(c, nil)
	if err != nil {
		return nil, nil, err
	}
	name := filepath.Join(t.root.Name(), filepath.FromSlash(dir))
	_ = t.Close()
	watch, err := fsnotify.NewWatcher()
	if err != nil {
		return nil, func() {}, nil
	}
	if err := watch.Add(name); err != nil {
		_ = watch.Close()
		return nil, func() {}, nil
	}
	changed := make(chan struct{}, 1)
	go func() {
		for {
			select {
			case _, open := <-watch.Events:
				if !open {
					return
				}
				select {
				case changed <- struct{}{}:
				default:
				}
			case _, open := <-watch.Errors:
				if !open {
					return
				}
			}
		}
	}()
	return changed, func() { _ = watch.Close() }, nil
}

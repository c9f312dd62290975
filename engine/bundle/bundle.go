// Package bundle moves what people have made from one instance to another: flows with
// their files and samples, connections without secrets, tables with their rows, rules
// of alarms with their calendars, and people with their roles, as a folder of open files that is nice to keep
// in git.
//
//	flows/NAME/flow.yaml         the draft
//	flows/NAME/files/…           its files
//	flows/NAME/samples/NAME.json its samples, in their order
//	flows/NAME/live.yaml         the live version, where the draft is another; its files in live-files/…
//	flows/NAME/state.json        whether it is live and paused
//	connections/NAME.yaml        without secrets
//	tables/NAME.yaml, NAME.json  definition and rows
//	calendars/NAME.ics, NAME.json their times, and what they are called
//	alarms/NAME.json             rules of alarms
//	people.json                  names and roles, no passwords
//
// It promises: what a preview names is what the import does, no more and no less; an import
// is one transaction, so one that fails changes nothing at all; a second import of the same
// changes nothing.
package bundle

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"

	"readyferry/core/access"
	"readyferry/core/flow"
	jsonfmt "readyferry/core/format/json"
	compiled "readyferry/core/plan"
	"readyferry/core/table"
	"readyferry/engine/catalog"
	"readyferry/engine/design"
)

// Files are the files of a bundle, by path with slashes.
type Files map[string][]byte

// The largest that a bundle may be.
const (
	MostFiles = 100_000
	MostBytes = 256 << 20
)

// Bundles makes and takes bundles.
type Bundles struct {
	*design.Designs
	across known // what runners need
}

// New makes it.
func New(g *design.Designs) *Bundles {
	b := &Bundles{Designs: g}
	g.Catalog.OnChange(b.across.forget)
	return b
}

type state struct {
	Live   bool `json:"live"`
	Paused bool `json:"paused"`
}

type person struct {
	Name   string         `json:"name"`
	Title  string         `json:"title"`
	Grants []access.Grant `json:"grants"`
	Ended  bool           `json:"ended,omitempty"`
}

// lines writes a value as JSON that is read and compared line by line.
func lines(v any) []byte {
	b, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		panic(err) // the values are our own
	}
	return append(b, '\n')
}

// Export gives all that can be moved.
func (b *Bundles) Export() (Files, error) {
	out := Files{}
	return out, errors.Join(b.exportFlows(out), b.exportConnections(out), b.exportTables(out), b.exportAlarms(out),
		b.exportPeople(out))
}

func (b *Bundles) exportFlows(out Files) error {
	flows, err := b.Store.Flows()
	if err != nil {
		return err
	}
	for _, f := range flows {
		at := "flows/" + f.Name + "/"
		out[at+"flow.yaml"] = []byte(f.Draft)
		files, err := b.Store.Files(f.Name)
		if err != nil {
			return err
		}
		for name, content := range files {
			out[at+"files/"+name] = content
		}
		samples, err := b.Store.Samples(f.Name)
		if err != nil {
			return err
		}
		for i, s := range samples {
			out[fmt.Sprintf("%ssamples/%03d.json", at, i+1)] = pretty(s.Document)
		}
		out[at+"state.json"] = lines(state{f.Live > 0, f.Paused})
		if f.Live == 0 {
			continue
		}
		v, err := b.Store.Version(f.Name, f.Live)
		if err != nil {
			return err
		}
		if v.Document == f.Draft && design.SameFiles(v.Files, files) {
			continue
		}
		out[at+"live.yaml"] = []byte(v.Document)
		own, err := catalog.UnpackFiles(v.Files)
		if err != nil {
			return err
		}
		for name, content := range compiled.WithoutConfig(own) {
			out[at+"live-files/"+name] = content
		}
	}
	return nil
}

func pretty(doc []byte) []byte {
	var to bytes.Buffer
	if json.Indent(&to, doc, "", "  ") != nil {
		return doc
	}
	return append(to.Bytes(), '\n')
}

func (b *Bundles) exportConnections(out Files) error {
	rows, err := b.Store.Connections()
	if err != nil {
		return err
	}
	for _, r := range rows {
		if out["connections/"+r.Name+".yaml"], err = asYAML(r.Document); err != nil {
			return fmt.Errorf("the connection %s: %w", r.Name, err)
		}
	}
	return nil
}

func asYAML(document []byte) ([]byte, error) {
	d, err := jsonfmt.Decode(document)
	if err != nil {
		return nil, err
	}
	return flow.Write(d.Root)
}

func (b *Bundles) exportTables(out Files) error {
	all, err := b.Store.Tables()
	if err != nil {
		return err
	}
	for _, t := range all {
		if out["tables/"+t.Name+".yaml"], err = asYAML(t.Document); err != nil {
			return fmt.Errorf("the table %s: %w", t.Name, err)
		}
		d, findings := table.Read(t.Document)
		if d == nil {
			return findings[0]
		}
		if out["tables/"+t.Name+".json"], err = b.RowsOf(d, t.Version); err != nil {
			return fmt.Errorf("the table %s: %w", t.Name, err)
		}
	}
	return nil
}

func (b *Bundles) exportPeople(out Files) error {
	rows, err := b.Store.People()
	if err != nil {
		return err
	}
	all := make([]person, 0, len(rows))
	for _, r := range rows {
		p := person{Name: r.Name, Title: r.Title, Ended: r.Ended}
		if err := json.Unmarshal(r.Grants, &p.Grants); err != nil {
			return err
		}
		all = append(all, p)
	}
	if len(all) > 0 {
		out["people.json"] = lines(all)
	}
	return nil
}

// Check says what is wrong with the paths of a bundle, or nil: none leaves it.
func (f Files) Check() error {
	size := 0
	for name, content := range f {
		if name != path.Clean(name) || strings.HasPrefix(name, "/") || strings.HasPrefix(name, "../") ||
			strings.Contains(name, `\`) {
			return fmt.Errorf("%q is no path within the bundle", name)
		}
		size += len(content)
	}
	if len(f) > MostFiles || size > MostBytes {
		return fmt.Errorf("a bundle has up to %d files and %d MB", MostFiles, MostBytes>>20)
	}
	return nil
}

// below lists the names of folders or files directly below one, sorted.
func (f Files) below(dir, end string) (out []string) {
	for name := range f {
		rest, in := strings.CutPrefix(name, dir+"/")
		if !in {
			continue
		}
		if end == "" {
			if first, _, deeper := strings.Cut(rest, "/"); deeper {
				out = append(out, first)
			}
		} else if base, is := strings.CutSuffix(rest, end); is && !strings.Contains(base, "/") {
			out = append(out, base)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// Names lists what a bundle has of a sort, such as flows, sorted.
func (f Files) Names(sort string) []string { return f.below(sort, "") }

// in gives the files below a folder, by the rest of their paths.
func (f Files) in(dir string) map[string][]byte {
	out := map[string][]byte{}
	for name, content := range f {
		if rest, in := strings.CutPrefix(name, dir+"/"); in {
			out[rest] = content
		}
	}
	return out
}

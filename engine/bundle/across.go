package bundle

import (
	"errors"
	"fmt"
	"sync"

	"readyferry/core/flow"
	"readyferry/core/step"
	"readyferry/core/table"
	"readyferry/engine/catalog"
)

// Across is what a runner needs for the flows that are called there.
type Across struct {
	Files   Files
	Secrets map[string][]string // of its connections, by name

	tables map[string]int64 // their versions
}

// known is what was given last, by runner, until something has changed: every call asks for it.
type known struct {
	mu  sync.Mutex
	all map[string]*Across
}

func (k *known) forget() {
	k.mu.Lock()
	k.all = nil
	k.mu.Unlock()
}

// Across gives what a runner needs for the flows that live flows call there: these as they are live,
// what they call, the tables that they look into and the connections that they use, as reached from
// the runner itself. It is the same one as before as long as nothing has changed.
func (b *Bundles) Across(runner string) (*Across, error) {
	b.across.mu.Lock()
	defer b.across.mu.Unlock()
	if out := b.across.all[runner]; out != nil {
		if same, err := b.sameTables(out); same || err != nil {
			return out, err
		}
	}
	out, err := b.gatherAcross(runner)
	if err == nil {
		if b.across.all == nil {
			b.across.all = map[string]*Across{}
		}
		b.across.all[runner] = out
	}
	return out, err
}

// sameTables tells whether the rows are as they were given.
func (b *Bundles) sameTables(a *Across) (bool, error) {
	for name, version := range a.tables {
		t, err := b.Store.TableInfo(name)
		if err != nil || t.Version != version {
			return false, err
		}
	}
	return true, nil
}

func (b *Bundles) gatherAcross(runner string) (*Across, error) {
	out := &Across{Files: Files{}, Secrets: map[string][]string{}, tables: map[string]int64{}}
	taken := map[string]bool{}
	for _, name := range b.Catalog.CalledAt()[runner] {
		if err := b.takeAcross(out, name, runner, taken); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// takeAcross puts a flow and what it needs into what a runner is given.
func (b *Bundles) takeAcross(out *Across, name, runner string, taken map[string]bool) error {
	f := b.Catalog.Flow(name)
	if taken[name] || f == nil || f.Live == nil {
		return nil // whoever calls it is told there
	}
	taken[name] = true
	v, err := b.Store.Version(name, f.Version)
	if err != nil {
		return err
	}
	files, err := catalog.UnpackFiles(v.Files)
	if err != nil {
		return err
	}
	at := "flows/" + name + "/"
	out.Files[at+"flow.yaml"] = []byte(v.Document)
	for file, content := range files { // with the values that it was published with
		out.Files[at+"files/"+file] = content
	}
	out.Files[at+"state.json"] = lines(state{Live: true, Paused: f.Paused})
	for _, u := range f.Live.Uses {
		switch {
		case u.Kind == step.UseFlow && u.Runner == "":
			err = errors.Join(err, b.takeAcross(out, u.Name, runner, taken))
		case u.Kind == step.UseConnection:
			err = errors.Join(err, b.connectionAcross(out, u.Name, runner))
		case u.Kind == step.UseTable && !f.Live.HasTable(u.Name):
			err = errors.Join(err, b.tableAcross(out, u.Name))
		}
	}
	return err
}

// connectionAcross gives a connection as it is reached from the runner; one that is not reached from
// there has no business in a flow there, and its secrets stay.
func (b *Bundles) connectionAcross(out *Across, name, runner string) error {
	c := b.Catalog.Connection(name)
	if c == nil || c.At != runner {
		return nil
	}
	document, err := flow.Write(c.Settings.Without("at").Without("secret-from").Without("hold"))
	out.Files["connections/"+name+".yaml"], out.Secrets[name] = document, c.SignIn.Secrets
	return err
}

func (b *Bundles) tableAcross(out *Across, name string) error {
	t, err := b.Store.TableInfo(name)
	if err != nil {
		return fmt.Errorf("the table %s: %w", name, err)
	}
	d, findings := table.Read(t.Document)
	if d == nil {
		return findings[0]
	}
	out.tables[name] = t.Version
	if out.Files["tables/"+name+".yaml"], err = asYAML(t.Document); err != nil {
		return err
	}
	out.Files["tables/"+name+".json"], err = b.RowsOf(d, t.Version)
	return err
}

package bundle

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"

	"readyferry/core/flow"
	"readyferry/core/step"
	"readyferry/engine/catalog"
	"readyferry/engine/design"
	"readyferry/engine/journal"
	"readyferry/store"
)

func (b *Bundles) flows(p *plan, f Files, o Options) error {
	names := f.below("flows", "")
	for _, name := range names {
		if err := b.flow(p, f, name, o); err != nil {
			return err
		}
	}
	if !o.RemoveOthers && !o.RemoveFlows {
		return nil
	}
	rows, err := b.Store.Flows()
	if err != nil {
		return err
	}
	for _, r := range rows {
		if !slices.Contains(names, r.Name) {
			if err := b.Ended(r.Name); err != nil {
				return fmt.Errorf("the flow %s cannot be removed: %w", r.Name, err)
			}
			p.will(Change{"flow", r.Name, "removes", ""}, func(tx *store.Tx) error { return tx.DeleteFlow(r.Name) })
		}
	}
	return nil
}

// flow plans what is done to one flow: its draft, its samples, what is live and whether it is
// paused.
func (b *Bundles) flow(p *plan, f Files, name string, o Options) error {
	at := "flows/" + name
	draft, files := f[at+"/flow.yaml"], f.in(at+"/files")
	read, findings := b.Catalog.Reader().Read(draft, files)
	if read == nil {
		return refuse("the flow "+name+" cannot be taken", findings)
	}
	if read.Document.Name != name {
		return fmt.Errorf("%w: %s/flow.yaml is of %q", journal.ErrDecision, at, read.Document.Name)
	}
	var s state
	if text := f[at+"/state.json"]; text != nil {
		if err := json.Unmarshal(text, &s); err != nil {
			return fmt.Errorf("%w: %s/state.json: %w", journal.ErrDecision, at, err)
		}
	}
	old, err := b.Store.Flow(name)
	there := err == nil
	if err != nil && !errors.Is(err, journal.ErrNotFound) {
		return err
	}
	had, err := b.Store.Files(name)
	if err != nil {
		return err
	}
	if old.Draft != string(draft) || !maps.EqualFunc(had, files, bytes.Equal) {
		c := Change{"flow", name, "adds", read.Document.Title}
		if there {
			c.Does = "changes"
		}
		p.will(c, func(tx *store.Tx) error {
			return b.saveDraft(tx, name, read.Document.Title, draft, files, had)
		})
	}
	if err := b.samples(p, f, name, o); err != nil {
		return err
	}
	return b.liveAs(p, f, name, s, old, o)
}

func (b *Bundles) saveDraft(tx *store.Tx, name, title string, draft []byte, files, had map[string][]byte) error {
	row, err := tx.Flow(name)
	if err != nil && !errors.Is(err, journal.ErrNotFound) {
		return err
	}
	row.Name, row.Title, row.Draft, row.UpdatedAt = name, title, string(draft), b.Now()
	row.Revision++
	row.Edits++
	if err := tx.SaveFlow(&row); err != nil {
		return err
	}
	for file := range had {
		if files[file] == nil {
			if err := tx.SaveFile(name, file, nil); err != nil {
				return err
			}
		}
	}
	for file, content := range files {
		if err := tx.SaveFile(name, file, content); err != nil {
			return err
		}
	}
	return nil
}

func (b *Bundles) samples(p *plan, f Files, name string, o Options) error {
	rows, err := b.Store.Samples(name)
	if err != nil {
		return err
	}
	had := map[string][]byte{}
	for _, r := range rows {
		had[r.Name] = r.Document
	}
	var kept []string
	for _, file := range f.below("flows/"+name+"/samples", ".json") {
		var s catalog.Sample
		if err := json.Unmarshal(f["flows/"+name+"/samples/"+file+".json"], &s); err != nil || s.Name == "" {
			return fmt.Errorf("%w: flows/%s/samples/%s.json is no sample: %w", journal.ErrDecision, name, file, err)
		}
		kept = append(kept, s.Name)
		doc, err := json.Marshal(s)
		if err != nil {
			return err
		}
		was, there := had[s.Name]
		if there && sameJSON(was, doc) {
			continue
		}
		c := Change{"sample", name + ": " + s.Name, "adds", ""}
		if there {
			c.Does = "changes"
		}
		p.will(c, func(tx *store.Tx) error { return catalog.SaveSample(tx, name, s) })
	}
	for _, r := range rows {
		if (o.RemoveOthers || o.RemoveFlows) && !slices.Contains(kept, r.Name) {
			p.will(Change{"sample", name + ": " + r.Name, "removes", ""},
				func(tx *store.Tx) error { return tx.DeleteSample(name, r.Name) })
		}
	}
	return nil
}

// liveAs plans that what is live in the bundle is live here.
func (b *Bundles) liveAs(p *plan, f Files, name string, s state, old store.Flow, o Options) error {
	at := "flows/" + name
	if !s.Live {
		return nil
	}
	document, files := f[at+"/live.yaml"], f.in(at+"/live-files")
	if document == nil {
		document, files = f[at+"/flow.yaml"], f.in(at+"/files")
	}
	read, findings := b.Catalog.Reader().Read(document, files)
	if read == nil || flow.HasErrors(findings) {
		return refuse("the live version of "+name+" cannot be taken", findings)
	}
	if err := b.reaches(f, read.Uses, name); err != nil {
		return err
	}
	packed, err := design.Pack(read.Keeps(files))
	if err != nil {
		return err
	}
	same := false
	if old.Live > 0 {
		v, err := b.Store.Version(name, old.Live)
		if err != nil {
			return err
		}
		same = v.Document == string(document) && bytes.Equal(v.Files, packed)
	}
	needs, err := b.Catalog.NeedsSecond(name, read.Document.Area)
	if err != nil {
		return err
	}
	if !same && needs {
		if err := b.asks(p, name, string(document), packed, f[at+"/live.yaml"] != nil, o); err != nil {
			return err
		}
	} else if !same {
		v := store.Version{Flow: name, Document: string(document), Files: packed, Rules: int(flow.RulesNow),
			PublishedAt: b.Now(),
			By:          o.By, Note: o.Note}
		p.will(Change{"flow", name, "publishes", "a new version"}, func(tx *store.Tx) error {
			return b.GoesLive(tx, name, &v, read)
		})
	}
	if s.Paused != old.Paused && (!o.KeepPaused || old.Name == "") {
		does := map[bool]string{true: "pauses", false: "resumes"}[s.Paused]
		p.will(Change{"flow", name, does, ""}, func(tx *store.Tx) error {
			row, err := tx.Flow(name)
			if err != nil {
				return err
			}
			row.Paused = s.Paused
			return tx.SaveFlow(&row)
		})
	}
	return nil
}

// asks plans that a second person is asked for what would go live.
func (b *Bundles) asks(p *plan, name, document string, packed []byte, other bool, o Options) error {
	if other {
		return fmt.Errorf("%w: publishing %s needs a second person here, who publishes the draft; the bundle has another live version: "+
			"publish or undo the draft where it comes from", journal.ErrDecision, name)
	}
	a := store.Asked{Flow: name, Mark: design.Mark(document, packed), By: o.By, Note: o.Note, At: b.Now()}
	was, err := b.Store.Asked(name)
	if err != nil && !errors.Is(err, journal.ErrNotFound) || was.Mark == a.Mark {
		return err
	}
	p.will(Change{"flow", name, "asks", "for a second person who publishes it"},
		func(tx *store.Tx) error { return tx.AskFor(&a) })
	return nil
}

// reaches refuses a live version that uses a connection which is neither here nor in the bundle.
func (b *Bundles) reaches(f Files, uses []step.Use, name string) error {
	for _, u := range uses {
		if u.Kind == step.UseConnection && f["connections/"+u.Name+".yaml"] == nil && b.Catalog.Connection(u.Name) == nil {
			return fmt.Errorf("%w: the flow %s uses the connection %s, which is neither here nor in the bundle",
				journal.ErrDecision,
				name, u.Name)
		}
	}
	return nil
}

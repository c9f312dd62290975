// Package demo holds the scenario of Larkfield Libraries, an invented county
// library service: flows, connections, samples and stand-ins as the open files
// that the application reads. All names, codes and numbers are made up.
package demo

import (
	"bytes"
	"context"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"math/rand/v2"
	"net/http"
	"path"
	"strings"
	"time"

	"readyferry/core/expr"
	"readyferry/engine"
	"readyferry/engine/catalog"
	"readyferry/engine/design"
	"readyferry/standin"
)

//go:embed flows connections samples stand-ins branch schemas tables reference databases calendars alarms
var files embed.FS

// key is what the demo's callers send; it guards nothing but made-up data.
const key = "larkfield-demo-key"

// Load puts the demo's documents into an engine and publishes its flows. What
// a person has changed since an earlier load stays: a flow that exists already
// is left alone. databases is the folder of simulated databases.
func Load(ctx context.Context, e *engine.Engine, set *standin.Set, databases string) error {
	if _, err := circulation(databases); err != nil {
		return err
	}
	if err := each("stand-ins", func(_ string, b []byte) error {
		var d standin.Definition
		if err := json.Unmarshal(b, &d); err != nil {
			return err
		}
		if _, err := set.Get(d.Name); err == nil {
			return nil // a person may have changed it
		}
		if err := set.Define(d); err != nil {
			return err
		}
		return e.Design.SaveStandIn(ctx, d)
	}); err != nil {
		return err
	}
	if err := loadCalendars(ctx, e); err != nil {
		return err
	}
	create := int64(0)
	account, public, err := serviceAccount()
	if err != nil {
		return err
	}
	if err := each("connections", func(name string, b []byte) error {
		if name == cloud {
			if e.Catalog.Connection(cloud) != nil {
				return nil
			}
			if err := trusts(ctx, e, set, public); err != nil {
				return err
			}
			b = bytes.Replace(b, []byte("  key-id: demo\n"), []byte("  key-id: demo\n"+account), 1)
		}
		_, err := e.Design.SaveConnection(ctx, name, b, &create)
		return unlessThere(err)
	}); err != nil {
		return err
	}
	if err := loadTables(ctx, e); err != nil {
		return err
	}
	var fresh []string
	// The flow that reads a queue or topic comes before the one that fills it.
	for _, name := range []string{"interloan-asks", "hold-requests", "delivery-notes", "circulation-returns", "totes",
		"pickups",
		"return-scans", "overdue-notices",
		"post-bookings", "post-purchases", "post-room", "member-changes", "patron-lookup", "patron-desk", "opening-hours",
		"loan-changes", "member-load", "supplier-news", "shelf-readings",
		"returned-items", "loan-reminders", "loan-statistics", "kiosk-payments",
		"stack-requests", "nightly-catalogue", "home-visits", "mail-replies", "branch-slips",
		"stowmere-card", "stowmere-loans"} {
		if e.Watch.IntakeOf(name) != nil {
			continue
		}
		if err := loadFlow(ctx, e, name); err != nil {
			return fmt.Errorf("flow %s: %w", name, err)
		}
		fresh = append(fresh, name)
	}
	// All are there before the first is live: some name each other.
	for _, name := range fresh {
		if _, _, err := e.Design.Publish(ctx, name, design.Word{Sure: true}); err != nil {
			return fmt.Errorf("flow %s: %w", name, err)
		}
	}
	return loadAlarms(ctx, e)
}

// circulation is the simulated database of the circulation desk.
func circulation(dir string) (*standin.Database, error) {
	script, err := files.ReadFile("databases/circulation.db.sql")
	if err != nil {
		return nil, err
	}
	return standin.NewDatabase(dir, "circulation.db", string(script))
}

// loadTables makes the tables of reference data that are not there yet.
func loadTables(ctx context.Context, e *engine.Engine) error {
	entries, err := fs.Glob(files, "reference/*.yaml")
	if err != nil {
		return err
	}
	create := int64(0)
	for _, file := range entries {
		name := strings.TrimSuffix(path.Base(file), ".yaml")
		document, err := files.ReadFile(file)
		if err != nil {
			return err
		}
		if _, err := e.Design.SaveTable(ctx, name, document, &create); errors.Is(err, engine.ErrConflict) {
			continue
		} else if err != nil {
			return fmt.Errorf("table %s: %w", name, err)
		}
		rows, err := files.ReadFile("reference/" + name + ".csv")
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return err
		}
		if _, err := e.Design.Import(ctx, name, "csv", rows, false, false); err != nil {
			return fmt.Errorf("table %s: %w", name, err)
		}
	}
	return nil
}

func loadFlow(ctx context.Context, e *engine.Engine, name string) error {
	document, err := files.ReadFile("flows/" + name + ".yaml")
	if err != nil {
		return err
	}
	own := map[string][]byte{}
	if bytes.Contains(document, []byte("$ref: schemas/")) {
		if err := each("schemas", func(file string, b []byte) error {
			own["schemas/"+file+".json"] = b
			return nil
		}); err != nil {
			return err
		}
	}
	if bytes.Contains(document, []byte("lookup(")) {
		if err := each("tables", func(table string, b []byte) error {
			own[expr.TableFile(table)] = b
			return nil
		}); err != nil {
			return err
		}
	}
	if err := e.Design.CreateFlow(ctx, name, document, own); err != nil {
		return err
	}
	if err := each("samples/"+name, func(_ string, b []byte) error {
		var s catalog.Sample
		if err := json.Unmarshal(b, &s); err != nil {
			return err
		}
		return e.Design.SaveSample(ctx, name, s)
	}); err != nil {
		return err
	}
	return nil
}

func each(dir string, do func(name string, content []byte) error) error {
	entries, err := fs.ReadDir(files, dir)
	if err != nil {
		return err
	}
	for _, f := range entries {
		b, err := files.ReadFile(path.Join(dir, f.Name()))
		if err != nil {
			return err
		}
		if err := do(strings.TrimSuffix(f.Name(), path.Ext(f.Name())), b); err != nil {
			return fmt.Errorf("%s/%s: %w", dir, f.Name(), err)
		}
	}
	return nil
}

func unlessThere(err error) error {
	if err == engine.ErrConflict {
		return nil
	}
	return err
}

// first are the kinds of message that come at once, so that every page has
// life within seconds: a shelf copy, two for the partners, an ebook, a forgotten
// shelf, a missing card, another for the partners.
var first = []int{70, 30, 31, 10, 44, 48, 32}

// Trickle posts a made-up hold request and a return every so often until ctx ends; the
// first ones come quickly and cover all that can happen.
func Trickle(ctx context.Context, address string, every time.Duration, databases string) {
	db, err := circulation(databases)
	if err != nil {
		slog.Debug("the demo's trickle has no database", "error", err)
	}
	client := &http.Client{Timeout: 10 * time.Second}
	r := rand.New(rand.NewPCG(20811, uint64(time.Now().UnixNano())))
	base := 21000 + r.IntN(9)*1000
	van := vanCompany(ctx, client, address)
	for n := 0; ; n++ {
		van.takes(ctx, n)
		kind, pause := r.IntN(100), every/2+time.Duration(r.Int64N(int64(every)))
		if n < len(first) {
			kind, pause = first[n], every/8
		}
		send := func(method, path, kind, body string) {
			req, err := http.NewRequestWithContext(ctx, method, address+"/in"+path, strings.NewReader(body))
			if err != nil {
				return
			}
			if kind != "" {
				req.Header.Set("Content-Type", kind)
			}
			req.Header.Set("X-Api-Key", key)
			id := fmt.Sprintf("demo-%d-%d", base+n, time.Now().UnixNano())
			if path == "/overdue" {
				id = fmt.Sprintf("OD-%d", base+n) // people look for it by this
			}
			req.Header.Set("Request-Id", id)
			req.Header.Set("X-Sender", pick(r, "friends", "friends", "school", "circus"))
			if res, err := client.Do(req); err == nil {
				_ = res.Body.Close()
			} else if ctx.Err() == nil {
				slog.Debug("the demo's trickle could not post", "error", err)
			}
		}
		post := func(path, kind, body string) { send(http.MethodPost, path, kind, body) }
		post("/hold-requests/"+pick(r, "web", "kiosk", "desk"), "application/json", hold(r, base+n, kind))
		post("/returns/"+pick(r, branches...), "application/json", scan(r, base+n))
		if n%40 == 3 {
			post("/overdue", "text/csv", overdue(r))
		}
		if n%3 == 1 {
			post("/branch-slips", "application/json", slip(r, base+n))
		}
		if n%4 == 2 {
			post("/stowmere-loans", "application/json", lend(r, base+n))
		}
		switch n % 5 {
		case 1:
			post("/member-changes", "application/json", fmt.Sprintf(`{"member": "M-%d"}`, 100+r.IntN(60)))
		case 2:
			post(
				"/post-room",
				"application/json",
				fmt.Sprintf(
					`{"ref": "PO-%d", "kind": %q, "branch": %q}`,
					base+n,
					pick(r, "booking", "booking", "purchase"),
					pick(r, branches...),
				),
			)
		case 3:
			send(http.MethodGet, "/patrons/"+pick(r, "LC4417203", "LC2090118", "LC8821530", "LC0000000"), "", "")
		}
		brokers(ctx, client, address, r, n)
		if n%5 == 4 {
			pay(ctx, client, address, r, base+n)
		}
		if db != nil && n%6 == 4 {
			at := time.Now().UTC().Format(time.RFC3339)
			err := db.Exec(
				"UPDATE loans SET state = ?, changed = ? WHERE loan = ?",
				pick(r, "out", "overdue", "back"),
				at,
				1+r.IntN(3),
			)
			if err == nil && n%12 == 4 {
				err = db.Exec(
					"INSERT INTO loans (card, item, state, changed) VALUES (?, ?, 'out', ?)",
					pick(r, "LC4417203", "LC2090118", "LC1177042"),
					fmt.Sprintf("31408%06d", r.IntN(1000000)),
					at,
				)
			}
			if err != nil {
				slog.Debug("the demo's trickle could not change the database", "error", err)
			}
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(pause):
		}
	}
}

var branches = []string{"MARL", "STOW", "ELMB", "HART", "QUAY"}

// Runner is the one that stands in the closed network of the branch Stowmere.
const Runner = "stowmere"

// Slips is the system in that network that prints.
const Slips = "stowmere-slips"

// Branch gives the systems in that network: no others reach them but the runner.
func Branch() (out []standin.Definition, err error) {
	err = each("branch", func(_ string, b []byte) error {
		var d standin.Definition
		err := json.Unmarshal(b, &d)
		out = append(out, d)
		return err
	})
	return out, err
}

// slip makes up what is to be fetched from a shelf at Stowmere.
func slip(r *rand.Rand, n int) string {
	return fmt.Sprintf(`{"slip": "SL-%d", "shelf": "LOC %d", "title": %q}`, n, 1+r.IntN(40),
		pick(r, "The Tidal Mill at Stowmere", "Hedges of the Lower Valley", "A Ferryman's Almanac", "Salt Roads",
			"Bells over Marlow Quay"))
}

// lend makes up a request for a book of Stowmere's.
func lend(r *rand.Rand, n int) string {
	return fmt.Sprintf(`{"request": "SR-%d", "card": "ST%04d", "shelf": "LOC %d", "title": "Salt Roads"}`, n,
		r.IntN(500), 1+r.IntN(40))
}

// scan makes up an item that is handed back.
func scan(r *rand.Rand, n int) string {
	return fmt.Sprintf(
		`{"scan": "RS-%d", "item": "31408-%05d-%d", "home": %q}`,
		n,
		r.IntN(100000),
		r.IntN(10),
		pick(r, branches...),
	)
}

// overdue makes up a list of what is overdue.
func overdue(r *rand.Rand) string {
	list := "card,name,item,title,days\r\n"
	patrons := []string{
		`LC 4417 203,"o'neil, maud"`,
		`LC 2090 118,"adeyemi, tunde"`,
		`LC 8821 530,"brandt, ilse"`,
		`LC 1177 042,"okafor, ngozi"`,
	}
	for range 8 + r.IntN(8) {
		list += fmt.Sprintf(
			"%s,31408-%05d-%d,%s,%d\r\n",
			pick(r, patrons...),
			r.IntN(100000),
			r.IntN(10),
			pick(r, "The Long Quay", "Winter Birds", `"Bread, Salt"`, "Tide Tables"),
			r.IntN(30),
		)
	}
	return list
}

func pick(r *rand.Rand, from ...string) string { return from[r.IntN(len(from))] }

// hold makes up a request; kind is between 0 and 99.
func hold(r *rand.Rand, n, kind int) string {
	type copied struct {
		Branch string `json:"branch"`
		Shelf  string `json:"shelf,omitempty"`
	}
	m := map[string]any{
		"request": fmt.Sprintf("HR-%d", n),
		"patron": map[string]string{
			"card": fmt.Sprintf("LC %04d %03d", 1000+r.IntN(9000), r.IntN(1000)),
			"name": pick(
				r,
				"o'neil, maud",
				"adeyemi, tunde",
				"brandt, ilse",
				"dray, osei",
				"lindqvist, per",
				"okafor, ngozi",
			),
		},
		"item": fmt.Sprintf("31408-%05d-%d", r.IntN(100000), r.IntN(10)), "format": "book",
	}
	branch := pick(r, branches...)
	switch {
	case kind < 20:
		m["format"] = "ebook"
	case kind < 42:
		m["format"], m["copies"] = "audio", []copied{}
	case kind < 46:
		m["copies"] = []copied{{Branch: branch}} // the catalogue forgot the shelf
	case kind < 50:
		m["patron"] = map[string]string{"name": "dray, osei"}
	case kind < 54:
		m["status"] = "cancelled"
	default:
		m["copies"] = []copied{{branch, pick(r, "F KEL", "F DRE", "910 HAR", "J PIC", "LP MOR")}}
	}
	b, err := json.Marshal(m)
	if err != nil {
		return "{}"
	}
	return string(b)
}

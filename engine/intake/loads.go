package intake

import (
	"context"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"
	"time"

	"readyferry/connect/sql"
	"readyferry/core/expr"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
	"readyferry/core/step"
	"readyferry/engine/journal"
	"readyferry/store"
)

// MaxLoadFile is the largest file of a bulk load, in bytes.
const MaxLoadFile = 1 << 30

// NewLoad is what a person asks to load.
type NewLoad struct {
	Flow, Title, Format  string // csv or jsonl with a file, or query
	Connection, SQL, Key string
	Filter               string
	At                   time.Time // it begins by itself then; zero: when a person begins it
	Cron, Zone           string    // a query begins again and again, each time behind where it stood
	File                 io.Reader // nil for a query
}

var columnName = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*$`)

// AddLoad keeps what is to be loaded and counts it; nothing becomes a message
// before a person begins it.
func (k *Intakes) AddLoad(ctx context.Context, n NewLoad) (*store.Load, error) {
	wrong := func(format string, args ...any) error {
		return fmt.Errorf("%w: %w", journal.ErrDecision, fmt.Errorf(format, args...))
	}
	f := k.Catalog.Flow(n.Flow)
	if f == nil {
		return nil, journal.ErrNotFound
	}
	if f.Live == nil {
		return nil, wrong("%s was never published; publish it first", n.Flow)
	}
	if in := &f.Live.Document.Intake; in.Format != "json" && in.Format != "auto" {
		return nil, wrong("records become JSON, and the intake of %s reads %s", n.Flow, in.Format)
	}
	if _, err := k.filter(n.Filter); err != nil {
		return nil, wrong("filter: %w", err)
	}
	next, err := k.firstLoad(&n)
	if err != nil {
		return nil, wrong("%w", err)
	}
	l := &store.Load{
		ID:         store.NewID(),
		Flow:       n.Flow,
		Title:      n.Title,
		Format:     n.Format,
		Connection: n.Connection,
		SQL:        strings.TrimRight(strings.TrimSpace(n.SQL), ";"),
		Key:        n.Key,
		Filter:     n.Filter,
		State:      store.LoadCounting,
		Cron:       n.Cron,
		Zone:       n.Zone,
		NextAt:     next,
		CreatedAt:  k.Now(),
	}
	switch n.Format {
	case "query":
		c := k.Catalog.Connection(n.Connection)
		switch {
		case c == nil || c.Kind != sql.Kind:
			return nil, wrong("there is no SQL connection named %q", n.Connection)
		case l.SQL == "":
			return nil, wrong("the query is missing")
		case !columnName.MatchString(n.Key):
			return nil, wrong("name the column by which the rows are read in order, such as id")
		}
		if _, names := step.BindNames(l.SQL, func(int) string { return "?" }); len(names) > 0 {
			return nil, wrong("the query names :%s; a load has no parameters", names[0])
		}
	case "csv", "jsonl":
		if n.File == nil {
			return nil, wrong("the file is missing")
		}
		to, err := k.Store.NewLoadFile(l.ID)
		if err != nil {
			return nil, err
		}
		size, err := io.Copy(to, io.LimitReader(n.File, MaxLoadFile+1))
		if err = errors.Join(err, to.Sync(), to.Close()); err != nil {
			return nil, errors.Join(fmt.Errorf("keeping the file: %w", err), k.dropLoadFile(l.ID))
		}
		if size > MaxLoadFile {
			return nil, errors.Join(wrong("the file has more than %d bytes", MaxLoadFile), k.dropLoadFile(l.ID))
		}
		if err := k.Store.KeepLoadFile(ctx, l.ID); err != nil {
			return nil, errors.Join(fmt.Errorf("keeping the file: %w", err), k.dropLoadFile(l.ID))
		}
	default:
		return nil, wrong("a load reads csv, jsonl or a query, not %q", n.Format)
	}
	if err := k.Store.Write(ctx, func(tx *store.Tx) error { return tx.SaveLoad(l) }); err != nil {
		return nil, errors.Join(err, k.dropLoadFile(l.ID))
	}
	k.goOnLoading(l.ID)
	return l, nil
}

// filter compiles the condition over record; nil where there is none.
func (k *Intakes) filter(source string) (*expr.Program, error) {
	if strings.TrimSpace(source) == "" {
		return nil, nil
	}
	env, err := k.Catalog.Reader().Env().With("record")
	if err != nil {
		return nil, err
	}
	return env.CompileBool(source)
}

func passes(filter *expr.Program, body []byte) (bool, error) {
	if filter == nil {
		return true, nil
	}
	r, err := jsonfmt.Decode(body)
	if err != nil {
		return true, nil // the intake will say so; it must not vanish
	}
	return filter.EvalBool(&expr.Scope{Locals: map[string]*message.Node{"record": r.Root}})
}

// SetLoad begins, pauses, resumes or stops a load.
func (k *Intakes) SetLoad(ctx context.Context, id store.ID, do string) error {
	from := map[string][]store.LoadState{
		"start": {store.LoadReady, store.LoadScheduled}, "pause": {store.LoadRunning}, "resume": {store.LoadPaused,
			store.LoadFailed},
		"stop": {store.LoadCounting, store.LoadReady, store.LoadScheduled, store.LoadRunning, store.LoadPaused,
			store.LoadFailed},
	}[do]
	to := map[string]store.LoadState{"start": store.LoadRunning, "pause": store.LoadPaused,
		"resume": store.LoadRunning,
		"stop":   store.LoadStopped}[do]
	err := k.Store.Write(ctx, func(tx *store.Tx) error {
		l, err := tx.Load(id)
		if err != nil {
			return err
		}
		if !slices.Contains(from, l.State) {
			return fmt.Errorf("%w: the load is %s", journal.ErrDecision, l.State)
		}
		l.State, l.Error, l.FinishedAt = to, "", nil
		if to == store.LoadStopped {
			now := k.Now()
			l.FinishedAt, l.NextAt = &now, nil
		}
		if to == store.LoadRunning && l.Cron == "" {
			l.NextAt = nil
		}
		return tx.SaveLoad(&l)
	})
	if err != nil {
		return err
	}
	k.Announce(journal.EventLoads)
	if to == store.LoadStopped {
		return k.dropLoadFile(id)
	}
	k.goOnLoading(id)
	return nil
}

// dropLoadFile removes the file of a load that has ended.
func (k *Intakes) dropLoadFile(id store.ID) error {
	return k.Store.DropLoadFile(context.WithoutCancel(k.Life.Taking()), id)
}

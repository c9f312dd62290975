package engine

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"regexp"
	"slices"
	"strings"
	"time"

	"readyferry/connect"
	"readyferry/core/expr"
	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
	"readyferry/core/step"
	"readyferry/store"
)

// TopicLoads is the event of a bulk load that has come further.
const TopicLoads = "loads"

// MaxLoadFile is the largest file of a bulk load, in bytes.
const MaxLoadFile = 1 << 30

// NewLoad is what a person asks to load.
type NewLoad struct {
	Flow, Title, Format  string // csv or jsonl with a file, or query
	Connection, SQL, Key string
	Filter               string
	File                 io.Reader // nil for a query
}

var columnName = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*$`)

// AddLoad keeps what is to be loaded and counts it; nothing becomes a message
// before a person begins it.
func (e *Engine) AddLoad(ctx context.Context, n NewLoad) (*store.Load, error) {
	wrong := func(format string, args ...any) error {
		return fmt.Errorf("%w: %w", ErrDecision, fmt.Errorf(format, args...))
	}
	f := e.flow(n.Flow)
	if f == nil {
		return nil, ErrNotFound
	}
	if f.live == nil {
		return nil, wrong("%s was never published; publish it first", n.Flow)
	}
	if in := &f.live.Document.Intake; in.Format != "json" && in.Format != "auto" {
		return nil, wrong("records become JSON, and the intake of %s reads %s", n.Flow, in.Format)
	}
	if _, err := e.filter(n.Filter); err != nil {
		return nil, wrong("filter: %w", err)
	}
	l := &store.Load{ID: store.NewID(), Flow: n.Flow, Title: n.Title, Format: n.Format, Connection: n.Connection, SQL: strings.TrimRight(strings.TrimSpace(n.SQL), ";"), Key: n.Key, Filter: n.Filter, State: store.LoadCounting, CreatedAt: e.clock()}
	switch n.Format {
	case "query":
		c := e.connection(n.Connection)
		switch {
		case c == nil || c.Kind != connect.KindSQL:
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
		to, err := e.store.NewLoadFile(l.ID)
		if err != nil {
			return nil, err
		}
		size, err := io.Copy(to, io.LimitReader(n.File, MaxLoadFile+1))
		if err = errors.Join(err, to.Sync(), to.Close()); err != nil {
			return nil, fmt.Errorf("keeping the file: %w", err)
		}
		if size > MaxLoadFile {
			return nil, wrong("the file has more than %d bytes", MaxLoadFile)
		}
	default:
		return nil, wrong("a load reads csv, jsonl or a query, not %q", n.Format)
	}
	if err := e.store.Write(ctx, func(tx *store.Tx) error { return tx.SaveLoad(l) }); err != nil {
		return nil, err
	}
	e.goOnLoading(l.ID)
	return l, nil
}

// filter compiles the condition over record; nil where there is none.
func (e *Engine) filter(source string) (*expr.Program, error) {
	if strings.TrimSpace(source) == "" {
		return nil, nil
	}
	env, err := e.reader.Env().With("record")
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
func (e *Engine) SetLoad(ctx context.Context, id store.ID, do string) error {
	from := map[string][]store.LoadState{
		"start": {store.LoadReady}, "pause": {store.LoadRunning}, "resume": {store.LoadPaused, store.LoadFailed},
		"stop": {store.LoadCounting, store.LoadReady, store.LoadRunning, store.LoadPaused, store.LoadFailed},
	}[do]
	to := map[string]store.LoadState{"start": store.LoadRunning, "pause": store.LoadPaused, "resume": store.LoadRunning, "stop": store.LoadStopped}[do]
	err := e.store.Write(ctx, func(tx *store.Tx) error {
		l, err := tx.Load(id)
		if err != nil {
			return err
		}
		if !slices.Contains(from, l.State) {
			return fmt.Errorf("%w: the load is %s", ErrDecision, l.State)
		}
		if l.State = to; to == store.LoadStopped {
			now := e.clock()
			l.FinishedAt = &now
		}
		l.Error = ""
		return tx.SaveLoad(&l)
	})
	if err != nil {
		return err
	}
	e.Events.Publish(TopicLoads)
	if to == store.LoadStopped {
		return e.dropLoadFile(id)
	}
	e.goOnLoading(id)
	return nil
}

// dropLoadFile removes the file of a load that has ended.
func (e *Engine) dropLoadFile(id store.ID) error {
	if err := os.Remove(e.store.LoadFile(id)); err != nil && !errors.Is(err, os.ErrNotExist) {
		return fmt.Errorf("the file of the load: %w", err)
	}
	return nil
}

// goOnLoading works on a load, if nobody does.
func (e *Engine) goOnLoading(id store.ID) {
	e.loadingMu.Lock()
	defer e.loadingMu.Unlock()
	if e.ctx.Err() != nil || e.bulk[id] {
		return
	}
	e.bulk[id] = true
	e.work.Go(func() {
		for {
			err := e.loadSome(id)
			e.loadingMu.Lock()
			l, readErr := e.store.Load(id)
			if err != nil || readErr != nil || e.ctx.Err() != nil || l.State != store.LoadCounting && l.State != store.LoadRunning {
				delete(e.bulk, id)
				e.loadingMu.Unlock()
				e.Events.Publish(TopicLoads)
				return
			}
			e.loadingMu.Unlock()
		}
	})
}

// loadSome counts or loads until the load ends, or its state changes. An error
// ends it as failed: what was loaded stays, and it can be resumed there.
func (e *Engine) loadSome(id store.ID) error {
	l, err := e.store.Load(id)
	if err != nil {
		return err
	}
	work := e.loadAll
	if l.State == store.LoadCounting {
		work = e.count
	}
	if err = work(&l); err == nil || e.ctx.Err() != nil {
		return nil
	}
	reason := fmt.Sprintf("at record %d: %v", l.Read+1, err)
	return e.store.Write(context.WithoutCancel(e.ctx), func(tx *store.Tx) error {
		now, err := tx.Load(id)
		if err != nil || now.State != store.LoadCounting && now.State != store.LoadRunning {
			return err
		}
		now.State, now.Error = store.LoadFailed, reason
		return tx.SaveLoad(&now)
	})
}

// loadBatch is how many records one database transaction takes.
const loadBatch = 200

// count reads all records and loads none.
func (e *Engine) count(l *store.Load) error {
	filter, err := e.filter(l.Filter)
	if err != nil {
		return err
	}
	list, err := e.recordsOf(l)
	if err != nil {
		return err
	}
	defer list.Close()
	var total, matching int64
	shown := time.Now()
	for e.ctx.Err() == nil {
		r, err := list.next()
		if err != nil && !errors.Is(err, io.EOF) {
			l.Read = total
			return err
		}
		ended := err != nil
		if !ended {
			total++
			ok, err := passes(filter, r.body)
			if err != nil {
				l.Read = total - 1
				return fmt.Errorf("filter: %w", err)
			}
			if ok {
				matching++
			}
		}
		if !ended && time.Since(shown) < 300*time.Millisecond {
			continue
		}
		shown = time.Now()
		counting := true
		err = e.store.Write(e.ctx, func(tx *store.Tx) error {
			now, err := tx.Load(l.ID)
			if err != nil {
				return err
			}
			if counting = now.State == store.LoadCounting; !counting {
				return nil
			}
			now.Total, now.Matching = total, matching
			if ended {
				now.State = store.LoadReady
			}
			return tx.SaveLoad(&now)
		})
		if err != nil || ended || !counting {
			return err
		}
		e.Events.Publish(TopicLoads)
	}
	return nil
}

// loadAll takes records as messages. Each batch is one database transaction with
// the place behind it, so that a load which is stopped, or whose process is
// killed, goes on with the next record: none is missing and none comes twice.
func (e *Engine) loadAll(l *store.Load) error {
	filter, err := e.filter(l.Filter)
	if err != nil {
		return err
	}
	list, err := e.recordsOf(l)
	if err != nil {
		return err
	}
	defer list.Close()
	for e.ctx.Err() == nil {
		f := e.flow(l.Flow)
		if f == nil || f.live == nil {
			return fmt.Errorf("the flow %s is not there any more", l.Flow)
		}
		if f.paused {
			return fmt.Errorf("the flow %s is paused; resume it, then resume the load", l.Flow)
		}
		var batch []record
		var bad error
		for len(batch) < loadBatch {
			r, err := list.next()
			if err != nil {
				bad = err
				break
			}
			batch = append(batch, r)
		}
		ended := errors.Is(bad, io.EOF)
		after, running := newAftermath(), true
		err := e.store.Write(e.ctx, func(tx *store.Tx) error {
			*after, running = *newAftermath(), true
			now, err := tx.Load(l.ID)
			if err != nil {
				return err
			}
			if running = now.State == store.LoadRunning; !running {
				return nil // a person has paused or stopped it
			}
			for _, r := range batch {
				if err := e.loadOne(tx, f, &now, filter, r, after); err != nil {
					return err
				}
			}
			if ended {
				at := e.clock()
				now.State, now.FinishedAt = store.LoadDone, &at
			}
			if err := tx.SaveLoad(&now); err != nil {
				return err
			}
			*l = now
			return nil
		})
		if err != nil {
			return err
		}
		e.after(after)
		e.Events.Publish(TopicLoads)
		if ended {
			return e.dropLoadFile(l.ID)
		}
		if !running {
			return nil
		}
		if bad != nil {
			return bad
		}
	}
	return nil
}

func (e *Engine) loadOne(tx *store.Tx, f *flowState, l *store.Load, filter *expr.Program, r record, after *aftermath) error {
	l.Read, l.Offset, l.Last = l.Read+1, r.offset, r.last
	ok, err := passes(filter, r.body)
	if err != nil {
		return fmt.Errorf("filter: %w", err)
	}
	if !ok {
		l.Skipped++
		return nil
	}
	if _, err := jsonfmt.Decode(r.body); err != nil {
		l.Refused++
	} else {
		l.Taken++
	}
	headers := []byte(`[{"name":"Content-Type","value":"application/json"}]`)
	return e.takeNew(tx, f, arrival{headers, r.body, "", fmt.Sprintf("load %s, record %d", l.Title, l.Read)}, after)
}

package main

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"readyferry/connect/systems"
	"readyferry/core/expr"
	"readyferry/core/flow"
	"readyferry/core/message"
	"readyferry/core/plan"
	"readyferry/core/retry"
	"readyferry/core/run"
	"readyferry/core/want"
)

// readFlow reads a flow document and the files beside it that it may refer to:
// JSON files, and the tables under tables/. given are files that come before those.
func readFlow(r *plan.Reader, file string, given map[string][]byte) (*plan.Plan, []flow.Finding, error) {
	src, err := os.ReadFile(file)
	if err != nil {
		return nil, nil, err
	}
	files := map[string][]byte{}
	if bytes.Contains(src, []byte("$ref")) || bytes.Contains(src, []byte("$schema")) ||
		bytes.Contains(src, []byte("$dynamicRef")) ||
		bytes.Contains(src, []byte("lookup")) {
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
			case d.IsDir() || filepath.Ext(path) != ".json" && !isTable || len(files) >= 500:
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
func reader() (*plan.Reader, error) {
	kinds, err := systems.Kinds()
	if err != nil {
		return nil, err
	}
	return plan.NewReader(kinds...)
}

func checkCommand() *cobra.Command {
	var asJSON bool
	c := &cobra.Command{
		Use: "check FLOW…", Short: "Report what is wrong with flow documents", Args: cobra.MinimumNArgs(1),
		Long: "Reports findings of flow documents with line, column and repair.\nExits with 0 without errors, 1 with " +
			"errors, 2 when a document could not be read.",
		RunE: func(c *cobra.Command, args []string) error {
			r, err := reader()
			if err != nil {
				return err
			}
			type row struct {
				File string `json:"file"`
				flow.Finding
			}
			rows, failed := []row{}, false
			for _, file := range args {
				_, findings, err := readFlow(r, file, nil)
				if err != nil {
					return err
				}
				for _, f := range findings {
					rows = append(rows, row{file, f})
					failed = failed || f.Level == flow.Error
				}
			}
			if asJSON {
				if err := printJSON(c.OutOrStdout(), map[string]any{"findings": rows}); err != nil {
					return err
				}
			} else {
				for _, r := range rows {
					fmt.Fprintf(c.OutOrStdout(), "%s: %s, %s\n", r.File, r.Level, r.Finding.Error())
				}
				if len(rows) == 0 {
					fmt.Fprintln(c.OutOrStdout(), "nothing to find fault with")
				}
			}
			if failed {
				return &exitError{1, errors.New("")}
			}
			return nil
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return c
}

func rehearseCommand() *cobra.Command {
	var at, id string
	var messages, headers, params, queries, replies, tables []string
	var every time.Duration
	var noBodies bool
	c := &cobra.Command{
		Use: "rehearse FLOW --message FILE…", Short: "Walk one message or several through a flow; nothing leaves",
		Args: cobra.ExactArgs(1),
		Long: "Walks one message through a flow and prints, as JSON, what every step did and what would be " +
			"delivered.\nOutside systems are answered by --reply, else by 200 without a body.\n\nWith --message " +
			"several times the messages come one after the other, --every apart, and meet where a step " +
			"gathers\nthem; a list of rehearsals is printed. Behind the last of them time passes until no group waits for it.",
		RunE: func(c *cobra.Command, args []string) error {
			r, err := reader()
			if err != nil {
				return err
			}
			given, err := tableFlag(tables)
			if err != nil {
				return err
			}
			p, findings, err := readFlow(r, args[0], given)
			if err != nil {
				return err
			}
			if flow.HasErrors(findings) {
				for _, f := range findings {
					fmt.Fprintf(c.ErrOrStderr(), "%s: %s, %s\n", args[0], f.Level, f.Error())
				}
				return &exitError{1, errors.New("the flow has errors and cannot be rehearsed")}
			}
			in := run.Envelope{ID: id}
			if in.ReceivedAt, err = time.Parse(time.RFC3339, at); err != nil {
				return fmt.Errorf("--at %q is no time such as 2026-03-17T09:41:00Z", at)
			}
			in.ReceivedAt = in.ReceivedAt.UTC()
			if in.Headers, err = pairs("--header", headers, ":"); err != nil {
				return err
			}
			if in.Params, err = pairs("--param", params, "="); err != nil {
				return err
			}
			if in.Query, err = pairs("--query", queries, "="); err != nil {
				return err
			}
			opt := run.Options{NoBodies: noBodies, Replies: map[string]want.Effect{}}
			began := time.Now()
			opt.Clock = func() time.Duration { return time.Since(began) }
			for _, text := range replies {
				name, e, err := reply(text)
				if err != nil {
					return err
				}
				opt.Replies[name] = e
			}
			all, options := make([]run.Envelope, len(messages)), make([]run.Options, len(messages))
			for i, file := range messages {
				all[i], options[i] = in, opt
				all[i].ReceivedAt = in.ReceivedAt.Add(time.Duration(i) * every)
				if i > 0 {
					all[i].ID = run.DeliveryID(id, fmt.Sprint("message ", i))
				}
				if all[i].Body, err = readInput(c, file); err != nil {
					return err
				}
			}
			out := run.RehearseAll(p, all, options)
			for i := range out {
				out[i].Findings = append(out[i].Findings, findings...)
			}
			if len(out) == 1 {
				return printJSON(c.OutOrStdout(), out[0])
			}
			return printJSON(c.OutOrStdout(), out)
		},
	}
	f := c.Flags()
	f.StringArrayVar(&messages, "message", nil, "file with the body, - for standard input; may be given several times")
	f.DurationVar(&every, "every", 0, "how long after one another several messages come")
	f.StringArrayVar(&headers, "header", nil, "a header, 'Name: value'")
	f.StringArrayVar(&params, "param", nil, "a parameter of the path, name=value")
	f.StringArrayVar(&queries, "query", nil, "a parameter of the query, name=value")
	f.StringArrayVar(&replies, "reply", nil, "the answer of an outside system, STEP=FILE or STEP=FILE;status=503")
	f.StringArrayVar(
		&tables,
		"table",
		nil,
		"a table for lookup and pair steps and for lookup(), NAME=FILE.csv: its first column is the key, columns from "+
			"and to are a range; those beside the flow under tables/ are there anyway",
	)
	f.StringVar(
		&at,
		"at",
		time.Now().UTC().Truncate(time.Second).Format(time.RFC3339),
		"when the message counts as received",
	)
	f.StringVar(&id, "id", "019cf2b1-77a4-7000-8000-000000000001", "id of the transaction")
	f.BoolVar(&noBodies, "no-bodies", false, "leave the messages before and after each step out")
	f.Bool("json", true, "print JSON (always)")
	_ = c.MarkFlagRequired("message")
	return c
}

func readInput(c *cobra.Command, file string) ([]byte, error) {
	if file == "-" {
		return io.ReadAll(c.InOrStdin())
	}
	return os.ReadFile(file)
}

func pairs(flag string, texts []string, separator string) ([]message.Header, error) {
	out := []message.Header{}
	for _, t := range texts {
		name, value, ok := strings.Cut(t, separator)
		if !ok {
			return nil, fmt.Errorf("%s %q must be written name%svalue", flag, t, separator)
		}
		if separator == ":" {
			name, value = strings.TrimSpace(name), strings.TrimSpace(value)
		}
		out = append(out, message.Header{Name: name, Value: value})
	}
	return out, nil
}

// reply reads STEP=FILE[;status=503][;header=Name: value].
func reply(text string) (string, want.Effect, error) {
	name, rest, ok := strings.Cut(text, "=")
	if !ok {
		return "", want.Effect{}, fmt.Errorf("--reply %q must be written STEP=FILE", text)
	}
	e := want.Effect{Status: 200}
	file, options, _ := strings.Cut(rest, ";")
	for _, o := range strings.Split(options, ";") {
		key, value, _ := strings.Cut(o, "=")
		switch strings.TrimSpace(key) {
		case "":
		case "status":
			n, err := strconv.Atoi(value)
			if err != nil || n < 100 || n > 599 {
				return "", e, fmt.Errorf("--reply %q: status must be between 100 and 599", text)
			}
			e.Status = n
		default:
			return "", e, fmt.Errorf("--reply %q: %q is not known; there is status", text, key)
		}
	}
	if file != "" {
		b, err := os.ReadFile(file)
		if err != nil {
			return "", e, err
		}
		e.Body = b
		kind := "text/plain"
		if json.Valid(b) {
			kind = "application/json"
		}
		e.Headers = []message.Header{{Name: "Content-Type", Value: kind}}
	}
	return name, e, nil
}

func evalCommand() *cobra.Command {
	var file string
	var body formatFlags
	var headers, params, queries, tables []string
	c := &cobra.Command{
		Use: "eval EXPR", Short: "Evaluate one expression", Args: cobra.ExactArgs(1),
		Long: "Evaluates an expression and prints its value as JSON. Exits with 1 when it cannot be compiled or " +
			"evaluated.\nOne whose types do not fit, but which has a value all the same, is evaluated with a warning.",
		RunE: func(c *cobra.Command, args []string) error {
			env, err := expr.New()
			if err != nil {
				return err
			}
			files, err := tableFlag(tables)
			if err != nil {
				return err
			}
			env = env.WithTables(expr.NewTables(files))
			p, unfit := env.Compile(args[0])
			if unfit != nil {
				if p, err = env.CompileUnchecked(args[0]); err != nil {
					return &exitError{1, unfit}
				}
			}
			now := time.Now().UTC().Truncate(time.Millisecond)
			m := message.Message{ID: "019cf2b1-77a4-7000-8000-000000000001", ReceivedAt: now, Format: body.name}
			scope := &expr.Scope{Now: now, Seed: m.ID + "/eval", Message: &m}
			if file != "" {
				d, raw, err := body.readMessage(c, file)
				if err != nil {
					return err
				}
				m.Body, m.Size, scope.Body = d.Root, len(raw), d.Root
			}
			for _, part := range []struct {
				flag, separator string
				from            []string
				into            **message.Node
				make            func([]message.Header) *message.Node
			}{
				{"--header", ":", headers, &scope.Headers, message.HeaderMap},
				{"--param", "=", params, &scope.Params, message.ListMap},
				{"--query", "=", queries, &scope.Query, message.ListMap},
			} {
				list, err := pairs(part.flag, part.from, part.separator)
				if err != nil {
					return err
				}
				*part.into = part.make(list)
			}
			text, err := p.EvalJSON(scope)
			switch {
			case err != nil && unfit != nil:
				return &exitError{1, unfit}
			case err != nil:
				return &exitError{1, err}
			case unfit != nil:
				fmt.Fprintf(c.ErrOrStderr(), "readyferry: a flow would refuse this: %v\n", unfit)
			}
			fmt.Fprintln(c.OutOrStdout(), text)
			return nil
		},
	}
	f := c.Flags()
	f.StringVar(&file, "message", "", "file with the body, - for standard input")
	body.add(f, "json", true)
	f.StringArrayVar(&headers, "header", nil, "a header, 'Name: value'")
	f.StringArrayVar(&params, "param", nil, "a parameter of the path, name=value")
	f.StringArrayVar(&queries, "query", nil, "a parameter of the query, name=value")
	f.StringArrayVar(&tables, "table", nil, "a table for lookup(), NAME=FILE.csv")
	f.Bool("json", true, "print JSON (always)")
	return c
}

func scheduleCommand() *cobra.Command {
	p := retry.Default()
	var seed string
	var asJSON bool
	c := &cobra.Command{
		Use: "schedule", Short: "Show when a retry plan tries again and when it gives up", Args: cobra.NoArgs,
		Long: "Prints every try of a retry plan with its earliest, planned and latest time.\nWith --json the times " +
			"are offsets from the first try in milliseconds.",
		RunE: func(c *cobra.Command, _ []string) error {
			if !c.Flags().Changed("cap") {
				p.Cap = max(p.Cap, p.First)
			}
			if err := p.Check(); err != nil {
				return &exitError{1, err}
			}
			type row struct {
				Try      int   `json:"try"`
				Earliest int64 `json:"earliest"`
				Planned  int64 `json:"planned"`
				Latest   int64 `json:"latest"`
			}
			rows := []row{}
			for _, t := range p.Schedule([]byte(seed)) {
				rows = append(
					rows,
					row{t.N, t.Earliest.Milliseconds(), t.Planned.Milliseconds(), t.Latest.Milliseconds()},
				)
			}
			if asJSON {
				return printJSON(c.OutOrStdout(), rows)
			}
			out := c.OutOrStdout()
			fmt.Fprintf(out, "%3s  %12s  %12s  %12s\n", "try", "earliest", "planned", "latest")
			ms := func(n int64) string { return (time.Duration(n) * time.Millisecond).String() }
			for _, r := range rows {
				fmt.Fprintf(out, "%3d  %12s  %12s  %12s\n", r.Try, ms(r.Earliest), ms(r.Planned), ms(r.Latest))
			}
			fmt.Fprintln(out, "then dead letter")
			return nil
		},
	}
	f := c.Flags()
	f.DurationVar(&p.First, "first", p.First, "delay before the second try")
	f.StringVar(&p.Growth, "growth", p.Growth, "constant, linear or exponential")
	f.Float64Var(&p.Factor, "factor", p.Factor, "growth factor, for exponential")
	f.DurationVar(&p.Cap, "cap", p.Cap, "longest delay")
	f.StringVar(&p.Spread, "spread", p.Spread, "none, equal or full")
	f.IntVar(&p.Tries, "tries", p.Tries, "tries in all")
	f.DurationVar(&p.Within, "within", p.Within, "no try begins later than this after the first")
	f.StringVar(&seed, "seed", "", "what the spread is computed from; a delivery uses its id")
	f.BoolVar(&asJSON, "json", false, "print JSON")
	return c
}

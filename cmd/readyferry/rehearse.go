package main

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"readyferry/core/flow"
	"readyferry/core/message"
	"readyferry/core/plan"
	"readyferry/core/run"
	"readyferry/core/step"
	"readyferry/core/table"
	"readyferry/core/want"
)

func rehearseCommand() *cobra.Command {
	var at, id string
	var messages, headers, params, queries, replies, tables []string
	var every time.Duration
	var noBodies bool
	var o configured
	c := &cobra.Command{
		Use: "rehearse FLOW --message FILE…", Short: "Walk one message or several through a flow; nothing leaves",
		Args: cobra.ExactArgs(1),
		Long: "Walks one message through a flow and prints, as JSON, what every step did and what would be " +
			"delivered.\nOutside systems are answered by --reply, else by 200 without a body.\n\nWith --message " +
			"several times the messages come one after the other, --every apart, and meet where a step " +
			"gathers\nthem; a list of rehearsals is printed. Behind the last of them time passes until no group waits for it.",
		RunE: func(c *cobra.Command, args []string) error {
			r, err := reader(&o)
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
			findings = append(findings, unknownTables(p)...)
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
	o.flags(f)
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

// unknownTables finds calls of lookup() for tables that were not given: here are no others.
func unknownTables(p *plan.Plan) (out []flow.Finding) {
	if p == nil {
		return nil
	}
	for _, u := range p.Uses {
		if u.Kind != step.UseTable || !u.Called {
			continue
		}
		if _, err := p.Tables(nil).Table(u.Name); errors.Is(err, table.ErrNoTable) {
			at := p.Document.Source.Value(u.Pointer)
			out = append(out, flow.Finding{
				Level: flow.Error, Code: "unknown-table", Step: u.Step, Pointer: u.Pointer, Line: at.Line, Column: at.Column,
				Message: err.Error(), Repair: "give it by --table " + u.Name + "=FILE.csv",
			})
		}
	}
	return out
}

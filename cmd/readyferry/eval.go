package main

import (
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"readyferry/core/expr"
	"readyferry/core/message"
)

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

package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"readyferry/core/access"
	"readyferry/engine/catalog"
	"readyferry/store"
)

func keysCommand() *cobra.Command {
	var data string
	c := &cobra.Command{
		Use: "keys", Short: "See, make and end the keys of programs",
		Long: "Sees, makes and ends the keys of programs, also while the application is at work in the folder. A key calls\n" +
			"webhooks, queues over HTTP and the API, as far as its rights go. What is done stands in the audit.",
	}
	c.PersistentFlags().StringVar(&data, "data", "data", "the data folder")
	c.AddCommand(keysList(&data), keysMake(&data),
		&cobra.Command{Use: "end NAME", Short: "End a key at once", Args: cobra.ExactArgs(1),
			RunE: func(c *cobra.Command, args []string) error {
				return beside(c.Context(), data, "keys end", access.Thing{Kind: "key", Name: args[0]},
					func(ctx context.Context, s *store.Store) error {
						return s.Write(ctx, func(tx *store.Tx) error {
							was, err := tx.DropKey(args[0])
							if err == nil && !was {
								err = fmt.Errorf("there is no key named %s", args[0])
							}
							return err
						})
					})
			}})
	return c
}

func keysList(data *string) *cobra.Command {
	var asJSON bool
	c := &cobra.Command{Use: "list", Short: "List them, with their rights", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			return beside(c.Context(), *data, "", access.Thing{}, func(_ context.Context, s *store.Store) error {
				all, err := catalog.KeysIn(s)
				if err != nil {
					return err
				}
				if asJSON {
					return json.NewEncoder(c.OutOrStdout()).Encode(all)
				}
				w := tabwriter.NewWriter(c.OutOrStdout(), 0, 8, 2, ' ', 0)
				for _, k := range all {
					rights := ""
					for _, r := range k.Rights {
						rights += strings.Join(r.May, ",") + " on " + strings.Join(r.On, ", ") + "; "
					}
					until := "no end"
					if k.Until != nil {
						until = "until " + k.Until.UTC().Format(time.RFC3339)
					}
					fmt.Fprintf(w, "%s\t%s\t%s\n", k.Name, strings.TrimSuffix(rights, "; "), until)
				}
				return w.Flush()
			})
		}}
	c.Flags().BoolVar(&asJSON, "json", false, "print them as JSON")
	return c
}

func keysMake(data *string) *cobra.Command {
	var note, until string
	var may, on []string
	c := &cobra.Command{Use: "make NAME", Short: "Make a key, and print it: it is never shown again",
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			k := catalog.Key{Name: args[0], Note: note, Rights: []catalog.Right{{May: may, On: on}}}
			if until != "" {
				at, err := time.Parse(time.RFC3339, until)
				if err != nil {
					return errors.New("--until is a time such as 2027-03-17T00:00:00Z")
				}
				k.Until = &at
			}
			return beside(c.Context(), *data, "keys make", access.Thing{Kind: "key", Name: k.Name},
				func(ctx context.Context, s *store.Store) error {
					secret, err := catalog.MakeKeyIn(ctx, s, k, time.Now().UTC().Truncate(time.Microsecond))
					if err == nil {
						fmt.Fprintln(c.OutOrStdout(), secret)
					}
					return err
				})
		}}
	c.Flags().StringVar(&note, "note", "", "what it is for")
	c.Flags().StringVar(&until, "until", "", "when it ends; never without it")
	c.Flags().StringSliceVar(&may, "may", []string{"read"}, "what it may: send, take, read, manage")
	c.Flags().StringSliceVar(&on, "on", nil,
		"on what: flow:name, queue:name, topic:name, connection:name, table:name, runner:name, area:name, or *")
	_ = c.MarkFlagRequired("on")
	return c
}

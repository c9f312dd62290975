package main

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"readyferry/core/access"
	"readyferry/engine/audit"
	"readyferry/store"
)

// faultsShown is up to how many places are named at which the chain does not hold.
const faultsShown = 100

func auditCommand() *cobra.Command {
	var data string
	c := &cobra.Command{Use: "audit", Short: "Verify or take away what people, keys and the command line have done"}
	c.PersistentFlags().StringVar(&data, "data", "data", "the data folder")
	of := func(s *store.Store) *audit.Audit { return audit.New(s, func() time.Time { return time.Now().UTC() }) }
	c.AddCommand(
		&cobra.Command{Use: "verify", Short: "Walk the chain, and say where a line was changed or is missing",
			Args: cobra.NoArgs,
			RunE: func(c *cobra.Command, _ []string) error {
				return beside(c.Context(), data, "", access.Thing{}, func(_ context.Context, s *store.Store) error {
					lines, faults, err := of(s).Verify(faultsShown)
					if err != nil {
						return err
					}
					for _, f := range faults {
						fmt.Fprintf(c.OutOrStdout(), "line %d: %s\n", f.N, f.What)
					}
					if len(faults) > 0 {
						return &exitError{1, errors.New("the audit is not as it was written")}
					}
					fmt.Fprintf(c.OutOrStdout(), "all %d lines are as they were written\n", lines)
					return nil
				})
			}},
		&cobra.Command{Use: "export", Short: "Print it as JSON lines, the newest first", Args: cobra.NoArgs,
			RunE: func(c *cobra.Command, _ []string) error {
				return beside(c.Context(), data, "", access.Thing{}, func(ctx context.Context, s *store.Store) error {
					return of(s).Export(ctx, c.OutOrStdout(), audit.Query{})
				})
			}},
	)
	return c
}

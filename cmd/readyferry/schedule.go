package main

import (
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"readyferry/core/retry"
)

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

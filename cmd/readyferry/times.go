package main

import (
	"encoding/json"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"readyferry/core/timing"
)

func timesCommand() *cobra.Command {
	var cron, zone, every, after string
	var count int
	var asJSON bool
	c := &cobra.Command{
		Use: "times", Short: "When a schedule intake is due next", Args: cobra.NoArgs,
		Example: `  readyferry times --cron "30 8 * * 1-5" --zone Europe/Dublin --count 5`,
		RunE: func(c *cobra.Command, _ []string) error {
			if (cron == "") == (every == "") {
				return fmt.Errorf("give either --cron or --every")
			}
			due, err := timing.Read(cron, zone, every)
			if err != nil {
				return err
			}
			from := time.Now()
			if after != "" {
				if from, err = time.Parse(time.RFC3339, after); err != nil {
					return fmt.Errorf("--after %q must be a point in time such as 2026-05-04T09:00:00Z", after)
				}
			}
			out := []string{}
			for _, at := range due.Times(from, count) {
				out = append(out, at.Format(time.RFC3339))
			}
			if asJSON {
				return json.NewEncoder(c.OutOrStdout()).Encode(out)
			}
			for _, at := range out {
				fmt.Fprintln(c.OutOrStdout(), at)
			}
			return nil
		},
	}
	f := c.Flags()
	f.StringVar(
		&cron,
		"cron",
		"",
		"cron expression: minute, hour, day of the month, month, day of the week; seconds may stand before",
	)
	f.StringVar(&zone, "zone", "", "time zone of the IANA database; UTC when absent")
	f.StringVar(&every, "every", "", "in place of --cron: 15m, 24h")
	f.StringVar(&after, "after", "", "times after this one (RFC 3339); now when absent")
	f.IntVar(&count, "count", 5, "so many times")
	f.BoolVar(&asJSON, "json", false, "print JSON")
	return c
}

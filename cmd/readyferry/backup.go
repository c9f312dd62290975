package main

import (
	"errors"
	"fmt"
	"io"
	"os"

	"github.com/spf13/cobra"

	"readyferry/store"
)

func backupCommand() *cobra.Command {
	var data, to string
	c := &cobra.Command{
		Use:   "backup",
		Short: "Write a backup of a data folder, also while the application works there",
		Long: "Writes a tar archive of a data folder as it is at one moment, with the key to its secrets: keep it as safe as the\n" +
			"folder itself. The application may be at work meanwhile. The last file in the archive says what the others must be.",
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) (err error) {
			var out io.Writer = c.OutOrStdout()
			if to != "-" {
				f, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
				if err != nil {
					return fmt.Errorf("%w; name a file that is not there yet with --to, or - for the standard output", err)
				}
				defer func() {
					if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
						_ = os.Remove(to) // half of a backup is none
					}
				}()
				out = f
			}
			m, err := store.Backup(c.Context(), data, out, func(done, of int64) {
				fmt.Fprintf(c.ErrOrStderr(), "%d of about %d MB\n", done>>20, of>>20)
			})
			if err != nil {
				return err
			}
			fmt.Fprintf(c.ErrOrStderr(), "%d files as of %s\n", len(m.Files), m.Made.Format("2006-01-02 15:04:05 MST"))
			return nil
		},
	}
	c.Flags().StringVar(&data, "data", "data", "the folder")
	c.Flags().StringVar(&to, "to", "", "file to write, which must not be there yet; - for the standard output")
	_ = c.MarkFlagRequired("to")
	return c
}

func restoreCommand() *cobra.Command {
	var data, from string
	c := &cobra.Command{
		Use:   "restore",
		Short: "Make a data folder of a backup",
		Long: "Makes a data folder of a backup, after comparing each file with what the backup says of it. Work that had not\n" +
			"ended goes on when the application starts there: what was delivered since the backup is delivered once more, under\n" +
			"the same Idempotency-Key.",
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			in := c.InOrStdin()
			if from != "-" {
				f, err := os.Open(from)
				if err != nil {
					return err
				}
				defer f.Close()
				in = f
			}
			m, err := store.Restore(c.Context(), in, data)
			if err != nil {
				return &exitError{1, err}
			}
			fmt.Fprintf(c.ErrOrStderr(), "%s is as it was at %s\n", data, m.Made.Format("2006-01-02 15:04:05 MST"))
			return nil
		},
	}
	c.Flags().StringVar(&data, "data", "data", "the folder, which must not be there yet or be empty")
	c.Flags().StringVar(&from, "from", "", "the backup; - for the standard input")
	_ = c.MarkFlagRequired("from")
	return c
}

package main

import (
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"readyferry/engine/verify"
	"readyferry/store"
)

func verifyCommand() *cobra.Command {
	var data string
	c := &cobra.Command{
		Use:   "verify",
		Short: "Look whether a journal keeps what is promised",
		Long: "Looks at a whole data folder, in which nobody may work meanwhile: whether every transaction has ended or waits for\n" +
			"something that exists, counts agree with what they count, bodies are there and unchanged, and tries are due when\n" +
			"their plans say. Exit code 1 and a list when not.",
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			parts, err := store.PartDirs(data)
			if err != nil {
				return err
			}
			checks, broken := 0, 0
			for _, dir := range append([]string{data}, parts...) {
				some, bad, err := verifyOne(c, dir)
				if err != nil {
					return err
				}
				checks, broken = checks+some, broken+bad
			}
			if broken > 0 {
				return &exitError{1, errors.New("the journal does not keep what is promised")}
			}
			fmt.Fprintf(c.OutOrStdout(), "%d checks hold\n", checks)
			return nil
		},
	}
	c.Flags().StringVar(&data, "data", "data", "the folder")
	return c
}

// verifyOne looks at one journal, and tells how many checks there were and how many of them do not hold.
func verifyOne(c *cobra.Command, dir string) (checks, broken int, err error) {
	s, err := store.OpenToRead(dir)
	if err != nil {
		return 0, 0, err
	}
	defer s.Close()
	findings, err := verify.Run(c.Context(), s, func(what string) {
		checks++
		fmt.Fprintf(c.ErrOrStderr(), "%s\n", what)
	})
	for _, f := range findings {
		fmt.Fprintf(c.OutOrStdout(), "not so: %s\n", f.Check)
		for _, b := range f.Broken {
			fmt.Fprintf(c.OutOrStdout(), "  %s: %s\n", b.Which, b.What)
		}
	}
	return checks, len(findings), err
}

package main

import (
	"errors"
	"fmt"
	"runtime"
	"runtime/debug"
	"time"

	"github.com/spf13/cobra"

	"readyferry/core/access"
	"readyferry/engine/audit"
	"readyferry/store"
)

func rotateKeyCommand() *cobra.Command {
	var data string
	var toFile bool
	c := &cobra.Command{
		Use: "rotate-key", Short: "Make a new key for the secrets in a folder, and seal them with it",
		Long: "Makes a new key for the secrets in a data folder that is not served, and seals every one with it, in one\n" +
			"transaction. Backups from before hold the old key, and open with it: keep them as safe as it.\n\n" +
			"The key is in the folder, or outside of it: in the variable " + store.KeyVariable + " (64 hexadecimal digits),\n" +
			"the file that " + store.KeyFileVariable + " names, or made of the passphrase " + store.PassphraseVariable + "\n" +
			"or that in the file of " + store.PassphraseFileVariable + ". To change to such a key give the new one with\n" +
			store.NextKey + " behind the name, and start the application with the variable itself from then on.",
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) (err error) {
			s, err := store.Open(data)
			if err != nil {
				return err
			}
			defer func() { err = errors.Join(err, s.Close()) }()
			a := audit.New(s, func() time.Time { return time.Now().UTC() })
			ctx, deed := a.Begin(c.Context(), machine(), "rotate-key", access.Thing{})
			n, err := s.RotateKey(ctx, toFile)
			if err != nil {
				return err
			}
			fmt.Fprintf(c.OutOrStdout(), "%d secrets are sealed with the new key\n", n)
			return a.End(ctx, deed, audit.Done)
		},
	}
	c.Flags().StringVar(&data, "data", "data", "the data folder")
	c.Flags().BoolVar(&toFile, "to-file", false,
		"the new key goes into the folder, where the old one was given by a variable")
	return c
}

func versionCommand() *cobra.Command {
	return &cobra.Command{Use: "version", Short: "Say which commit this is, and how it was built", Args: cobra.NoArgs,
		Run: func(c *cobra.Command, _ []string) {
			commit, more := builtOf()
			fmt.Fprintf(c.OutOrStdout(), "readyferry commit %s%s, %s %s/%s\n", commit, more, runtime.Version(), runtime.GOOS,
				runtime.GOARCH)
		}}
}

// builtOf gives the commit that this program was built of, and when that was made and whether it was
// changed.
func builtOf() (commit, more string) {
	commit = "not known"
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return commit, ""
	}
	changed := ""
	for _, s := range info.Settings {
		switch {
		case s.Key == "vcs.revision":
			commit = s.Value
		case s.Key == "vcs.time":
			more = ", " + s.Value
		case s.Key == "vcs.modified" && s.Value == "true":
			changed = ", with changes"
		}
	}
	return commit, more + changed
}

// versionText gives the commit in short, as others are told what runs here.
func versionText() string {
	commit, _ := builtOf()
	return commit[:min(12, len(commit))]
}

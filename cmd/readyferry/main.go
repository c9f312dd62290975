// Command readyferry runs Ready Ferry and works on its documents.
package main

import (
	"errors"
	"fmt"
	"os"

	"github.com/spf13/cobra"
)

// exitError ends the program with a code of its own.
type exitError struct {
	code int
	err  error
}

func (e *exitError) Error() string { return e.err.Error() }
func (e *exitError) Unwrap() error { return e.err }

func main() {
	root := &cobra.Command{
		Use: "readyferry", Short: "Event-driven flows with guaranteed delivery",
		SilenceUsage: true, SilenceErrors: true,
	}
	root.AddCommand(
		serveCommand(),
		demoCommand(),
		checkCommand(),
		rehearseCommand(),
		evalCommand(),
		decodeCommand(),
		encodeCommand(),
		scheduleCommand(),
		timesCommand(),
	)
	if err := root.Execute(); err != nil {
		code := 2
		var exit *exitError
		if errors.As(err, &exit) {
			code = exit.code
		}
		if text := err.Error(); text != "" {
			fmt.Fprintln(os.Stderr, "readyferry: "+text)
		}
		os.Exit(code)
	}
}

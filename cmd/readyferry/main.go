// Command readyferry runs Ready Ferry and works on its documents.
//
// serve and demo run the application until a signal ends it; work that is under
// way is on disk and goes on at the next start. The other commands need no running
// application and change nothing: they check, rehearse, evaluate and convert files.
//
// The exit code is 0 when all is well, 1 when something was found wrong with what
// was given, and 2 when the command was not understood or could not be carried out.
// Results go to the standard output, what went wrong to the standard error.
package main

import (
	"errors"
	"fmt"
	"os"

	"github.com/spf13/cobra"

	"readyferry/worker"
)

// exitError ends the program with a code of its own.
type exitError struct {
	code int
	err  error
}

func (e *exitError) Error() string { return e.err.Error() }
func (e *exitError) Unwrap() error { return e.err }

func main() {
	if len(os.Args) > 1 && os.Args[1] == worker.Argument {
		if err := worker.Serve(os.Stdin, os.Stdout); err != nil {
			fmt.Fprintln(os.Stderr, "readyferry: "+err.Error())
			os.Exit(2)
		}
		return
	}
	root := &cobra.Command{
		Use: "readyferry", Short: "Event-driven flows with guaranteed delivery",
		SilenceUsage: true, SilenceErrors: true,
	}
	root.AddCommand(
		serveCommand(),
		runnerCommand(), fleetCommand(),
		demoCommand(), branchCommand(),
		checkCommand(),
		rehearseCommand(),
		evalCommand(),
		decodeCommand(),
		encodeCommand(),
		scheduleCommand(),
		drillCommand(),
		fillCommand(),
		timesCommand(),
		verifyCommand(),
		peopleCommand(),
		keysCommand(),
		exportCommand(),
		importCommand(),
		promoteCommand(),
		auditCommand(),
		rotateKeyCommand(),
		versionCommand(),
		doctorCommand(),
		backupCommand(),
		restoreCommand(),
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

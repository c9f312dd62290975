package connect

import (
	"time"

	"readyferry/core/message"
	"readyferry/core/retry"
	"readyferry/core/step"
	"readyferry/core/system"
)

// Across makes the connection that takes the calls of flows at a runner. Nobody writes one: a flow
// that names the runner is enough. One call is one try that lasts until the other flow has ended, so
// many are under way at once, and a try may take as long as a step may wait.
//
// A try fails where the runner was lost during it, which is no fault of the message, so there are
// more of them than elsewhere.
func Across(runner string) *Connection {
	name := system.AtRunner(runner)
	return &Connection{
		Name: name, Title: "flows at " + runner, Kind: system.Runner, At: runner, SignIn: SignIn{Kind: SignInNone},
		TimeLimit: step.MostWithinAt + time.Minute, InFlight: 256, Probe: 30 * time.Second,
		Retry: &retry.Plan{First: time.Second, Growth: retry.Exponential, Factor: 2, Cap: time.Minute,
			Spread: retry.SpreadEqual,
			Tries:  30, Within: 24 * time.Hour},
		Settings: message.NewMap(message.Member{Name: "name", Value: message.NewString(name)}),
	}
}

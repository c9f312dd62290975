package system

import "strings"

// Runner is the kind of what takes a call of a flow that runs at a runner. It is no system that
// anybody makes a connection to: each runner that a flow names with at: is one by itself.
const Runner = "runner"

// AtRunner names what takes the calls of flows at a runner. No connection can have such a name.
func AtRunner(runner string) string { return Runner + ":" + runner }

// RunnerOf gives the runner whose calls a name takes.
func RunnerOf(name string) (runner string, is bool) { return strings.CutPrefix(name, Runner+":") }

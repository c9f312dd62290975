package engine

import (
	"os"
	"runtime/debug"
)

// How much memory the process takes for less work of the collector: what is alive is some
// tens of megabytes, and collecting it each time it has doubled is a tenth of all that a
// message costs. From the limit on it is collected as often as it must be.
const (
	collectAt   = 300 // percent of what is alive
	memoryLimit = 384 << 20
)

// TuneMemory sets when memory is collected, unless the operator has said so by GOGC or
// GOMEMLIMIT.
func TuneMemory() {
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(collectAt)
	}
	if os.Getenv("GOMEMLIMIT") == "" {
		debug.SetMemoryLimit(memoryLimit)
	}
}

package worker

import (
	"fmt"
	"os/exec"
	"syscall"
)

// rlimitData is RLIMIT_DATA (getrlimit(2)): since Linux 4.7 it counts all private
// memory that can be written.
const rlimitData = 2

// limitMemory lets the system give this process no more memory than this.
func limitMemory(bytes uint64) error {
	if err := syscall.Setrlimit(rlimitData, &syscall.Rlimit{Cur: bytes, Max: bytes}); err != nil {
		return fmt.Errorf("limiting the memory of a worker: %w", err)
	}
	return nil
}

// isolate keeps signals for the application from its workers: a key that ends it is
// not for them.
func isolate(cmd *exec.Cmd) { cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true} }

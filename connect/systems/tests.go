//go:build testsystem

package systems

import (
	"readyferry/connect"
	"readyferry/connect/testsystem"
)

// tests are systems that only the browser's tests have.
func tests() []connect.System { return []connect.System{testsystem.New()} }

//go:build !testsystem

package systems

import "readyferry/connect"

// tests are systems that only the browser's tests have.
func tests() []connect.System { return nil }

//go:build !linux && !darwin

package store

import "math"

// diskOf knows nothing here, so that nothing is ever held back for want of room.
func diskOf(string) (free, all int64, err error) { return math.MaxInt64, math.MaxInt64, nil }

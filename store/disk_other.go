//go:build !linux && !darwin

package store

import "math"

// freeBytes knows nothing here, so that nothing is ever held back for want of room.
func freeBytes(string) (int64, error) { return math.MaxInt64, nil }

//go:build !unix

package store

import "os"

// lockFile does nothing where there is no flock: who runs two processes on one
// folder there is not warned.
func lockFile(*os.File) error { return nil }

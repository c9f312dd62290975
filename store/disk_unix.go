//go:build linux || darwin

package store

import "syscall"

// freeBytes tells how much room is left for us where a folder lies, in bytes.
func freeBytes(dir string) (int64, error) {
	var s syscall.Statfs_t
	if err := syscall.Statfs(dir, &s); err != nil {
		return 0, err
	}
	return int64(s.Bavail) * int64(s.Bsize), nil
}

//go:build linux || darwin

package store

import "syscall"

// diskOf tells how much room is left for us where a folder lies, and how large that is, in
// bytes.
func diskOf(dir string) (free, all int64, err error) {
	var s syscall.Statfs_t
	if err := syscall.Statfs(dir, &s); err != nil {
		return 0, 0, err
	}
	return int64(s.Bavail) * int64(s.Bsize), int64(s.Blocks) * int64(s.Bsize), nil
}

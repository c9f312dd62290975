//go:build unix

package store

import (
	"os"
	"syscall"
)

func mapFile(f *os.File, size int) (b []byte, unmap func() error, err error) {
	b, err = syscall.Mmap(int(f.Fd()), 0, size, syscall.PROT_READ|syscall.PROT_WRITE, syscall.MAP_SHARED)
	return b, func() error { return syscall.Munmap(b) }, err
}

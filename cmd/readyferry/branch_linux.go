package main

import (
	"os"
	"syscall"

	"golang.org/x/sys/unix"
)

// ownNetwork has a process begin in a network of its own, in which nothing is (network_namespaces(7)). Where this
// one may not make networks it does so as who may do anything there and no more here (user_namespaces(7)).
func ownNetwork() *syscall.SysProcAttr {
	a := &syscall.SysProcAttr{Cloneflags: syscall.CLONE_NEWNET}
	if uid, gid := os.Getuid(), os.Getgid(); uid != 0 {
		a.Cloneflags |= syscall.CLONE_NEWUSER
		a.UidMappings = []syscall.SysProcIDMap{{ContainerID: 0, HostID: uid, Size: 1}}
		a.GidMappings = []syscall.SysProcIDMap{{ContainerID: 0, HostID: gid, Size: 1}}
	}
	return a
}

// insideNetwork has processes of a network of its own reach each other. In the machine's own that is so already.
func insideNetwork() error {
	s, err := unix.Socket(unix.AF_INET, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return err
	}
	defer unix.Close(s)
	lo, err := unix.NewIfreq("lo")
	if err != nil {
		return err
	}
	if err := unix.IoctlIfreq(s, unix.SIOCGIFFLAGS, lo); err != nil {
		return err
	}
	if lo.Uint16()&unix.IFF_UP != 0 {
		return nil
	}
	lo.SetUint16(lo.Uint16() | unix.IFF_UP)
	return unix.IoctlIfreq(s, unix.SIOCSIFFLAGS, lo)
}

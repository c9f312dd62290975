//go:build !linux

package main

import "syscall"

// ownNetwork gives nothing: there are no networks of a process here.
func ownNetwork() *syscall.SysProcAttr { return nil }

// insideNetwork has nothing to do in the machine's own network.
func insideNetwork() error { return nil }

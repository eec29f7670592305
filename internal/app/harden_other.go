//go:build !linux

package app

// Harden does nothing: this system has no such switch.
func Harden() error { return nil }

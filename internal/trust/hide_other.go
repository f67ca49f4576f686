//go:build !linux

package trust

// Hide does nothing: these systems offer no such thing to ask for.
func Hide() {}

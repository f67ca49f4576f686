//go:build !unix

package trust

import "io/fs"

// Access lists, which these systems have instead of modes, are not looked at.
func ownFolder(string, fs.FileInfo) error         { return nil }
func safeAbove(string, string, fs.FileInfo) error { return nil }
func secretFile(string, fs.FileInfo) error        { return nil }

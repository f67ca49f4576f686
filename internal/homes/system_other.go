//go:build !unix

package homes

import (
	"io/fs"
	"os"
	"path/filepath"
)

// On these systems a rename to another file system fails by itself, and a
// folder is known by its path only.

func device(fs.FileInfo) string { return "" }

func mark(fs.FileInfo) string { return "" }

func resolve(folder string) (string, error) { return filepath.Clean(folder), nil }

func syncOpen(*os.File) error { return nil }

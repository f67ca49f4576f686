//go:build unix

package homes

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
)

// device names the file system that a file lies on, "" where the system does
// not say.
func device(info fs.FileInfo) string {
	if st, ok := info.Sys().(*syscall.Stat_t); ok {
		return fmt.Sprint(st.Dev)
	}
	return ""
}

// mark names one folder of a file system for as long as it exists, whatever it
// is called. The number of the device is no part of it: it may be another
// after the machine was started again.
func mark(info fs.FileInfo) string {
	if st, ok := info.Sys().(*syscall.Stat_t); ok {
		return fmt.Sprint(st.Ino)
	}
	return ""
}

// resolve follows the links of a path that the settings name.
func resolve(folder string) (string, error) { return filepath.EvalSymlinks(folder) }

func syncOpen(dir *os.File) error { return dir.Sync() }

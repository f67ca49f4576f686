//go:build unix

package rounds

import (
	"errors"
	"io/fs"
	"path/filepath"

	"golang.org/x/sys/unix"
)

// FreeSpace is how many octets are free for files in a folder, or where it would be
// made.
func FreeSpace(folder string) (uint64, error) {
	var s unix.Statfs_t
	err := unix.Statfs(folder, &s)
	if errors.Is(err, fs.ErrNotExist) && filepath.Dir(folder) != folder {
		return FreeSpace(filepath.Dir(folder))
	}
	return uint64(s.Bavail) * uint64(s.Bsize), err
}

//go:build unix

package trust

import (
	"fmt"
	"io/fs"
	"os"
	"syscall"
)

// owner is the number of who owns a file.
func owner(info fs.FileInfo) (uid int, known bool) {
	stat, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return 0, false
	}
	return int(stat.Uid), true
}

func ownFolder(path string, info fs.FileInfo) error {
	if uid, known := owner(info); known && uid != os.Geteuid() {
		return fmt.Errorf("%s belongs to somebody else (user %d): name a folder of your own", path, uid)
	}
	if mode := info.Mode().Perm(); mode&0o022 != 0 {
		return fmt.Errorf(
			"others may write in %s (mode %04o): take that from them (chmod go-w), or name another folder", path, mode)
	}
	return nil
}

// safeAbove looks at a folder on the way. Where others may write in it, what is
// in it must be safe from them (the sticky bit).
func safeAbove(path, above string, info fs.FileInfo) error {
	if uid, known := owner(info); known && uid != 0 && uid != os.Geteuid() {
		return fmt.Errorf("%s is below %s, which belongs to somebody else (user %d)", path, above, uid)
	}
	if mode := info.Mode(); mode.Perm()&0o022 != 0 && mode&fs.ModeSticky == 0 {
		return fmt.Errorf("%s is below %s, in which others may write (mode %04o)", path, above, mode.Perm())
	}
	return nil
}

func secretFile(path string, info fs.FileInfo) error {
	if !info.Mode().IsRegular() {
		return nil // a pipe is for who holds its other end
	}
	uid, known := owner(info)
	if !known {
		return nil
	}
	others := fs.FileMode(0o077)
	if uid == 0 && os.Geteuid() != 0 {
		others = 0o037 // root's, for the group that a service runs in
	}
	if mode := info.Mode().Perm(); mode&others != 0 {
		return fmt.Errorf("others may read %s (mode %04o): chmod 600 %s", path, mode, path)
	}
	return nil
}

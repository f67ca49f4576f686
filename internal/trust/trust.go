// Package trust looks at what others on this machine could do to the tool's
// files, and to its memory: who may write in a folder, who may read a secret.
package trust

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
)

// Folder refuses a folder in which others than its owner may write, that is
// somebody else's, or to which the way leads through one that others could put
// something else in the place of. On systems without such modes it refuses
// nothing.
func Folder(path string) error {
	full, err := filepath.Abs(path)
	if err != nil {
		return err
	}
	if full, err = filepath.EvalSymlinks(full); err != nil {
		return err
	}
	info, err := os.Stat(full)
	if err != nil {
		return err
	}
	if !info.IsDir() {
		return fmt.Errorf("%s is not a folder", path)
	}
	if err := ownFolder(full, info); err != nil {
		return err
	}
	for above := filepath.Dir(full); ; above = filepath.Dir(above) {
		info, err := os.Stat(above)
		if err != nil {
			return err
		}
		if err := safeAbove(full, above, info); err != nil {
			return err
		}
		if above == filepath.Dir(above) {
			return nil
		}
	}
}

// ReadSecret reads a file that holds a password, a token or a key. It refuses
// one that others may read.
func ReadSecret(path string) ([]byte, error) {
	file, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	info, err := file.Stat()
	if err != nil {
		return nil, err
	}
	if err := secretFile(path, info); err != nil {
		return nil, err
	}
	Hide()
	return io.ReadAll(file)
}

// Create makes a new file that only its owner may read, in a folder in which
// nobody else may write. Something of that name is an error, a link too.
func Create(path string) (*os.File, error) {
	if err := Folder(filepath.Dir(path)); err != nil {
		return nil, err
	}
	file, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if errors.Is(err, fs.ErrExist) {
		return nil, fmt.Errorf("%s: there is something of that name; name a new file", path)
	}
	return file, err
}

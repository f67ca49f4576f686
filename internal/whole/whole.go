// Package whole writes files whole or not at all, on every system that the
// tool is built for.
package whole

import (
	"errors"
	"io"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
)

// Write gives write a temporary file beside path, syncs it, and renames it
// to path. If anything fails, path is as it was and nothing is left beside
// it. The file has mode 0600, or the mode of the file that it replaces. What
// is no regular file, such as a device or a pipe, is written to as it is.
func Write(path string, write func(w io.Writer) error) (err error) {
	return replace(path, write, func(dir, pattern string) (*os.File, error) { return os.CreateTemp(dir, pattern) }) // mode 0600
}

// Share is Write for what is to be handed on: a new file has the mode that the user's
// umask gives.
func Share(path string, write func(w io.Writer) error) error {
	return replace(path, write, func(dir, pattern string) (*os.File, error) {
		for try := 0; ; try++ {
			name := strings.Replace(pattern, "*", strconv.FormatUint(rand.Uint64(), 36), 1)
			file, err := os.OpenFile(filepath.Join(dir, name), os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o666)
			if !errors.Is(err, fs.ErrExist) || try > 100 {
				return file, err
			}
		}
	})
}

// replace writes a file that create makes beside path, and gives it its name.
func replace(path string, write func(w io.Writer) error, create func(dir, pattern string) (*os.File, error)) (err error) {
	info, statErr := os.Stat(path)
	if statErr == nil && !info.Mode().IsRegular() {
		return writeTo(path, write)
	}
	temp, err := create(filepath.Dir(path), "."+filepath.Base(path)+".*")
	if wrong := (*fs.PathError)(nil); errors.As(err, &wrong) {
		wrong.Path = path // and not the name that is nobody's
	}
	if err != nil {
		return err
	}
	defer Passing(temp.Name())()
	defer func() {
		if err != nil {
			err = errors.Join(err, ignoreClosed(temp.Close()), os.Remove(temp.Name()))
		}
	}()
	if statErr == nil {
		if err := temp.Chmod(info.Mode().Perm()); err != nil {
			return err
		}
	}
	if err := write(temp); err != nil {
		return err
	}
	if err := temp.Sync(); err != nil {
		return err
	}
	if err := temp.Close(); err != nil {
		return err
	}
	return os.Rename(temp.Name(), path)
}

var (
	passingMu sync.Mutex
	passing   = map[string]bool{}
)

// Passing notes a file or folder that is to be gone, or to have another name,
// when done is called, so that Abandon removes it if that never comes.
func Passing(path string) (done func()) {
	passingMu.Lock()
	defer passingMu.Unlock()
	passing[path] = true
	return func() {
		passingMu.Lock()
		defer passingMu.Unlock()
		delete(passing, path)
	}
}

// Abandon removes what is written at this moment, by a program that is about to
// end without waiting for it.
func Abandon() {
	passingMu.Lock()
	defer passingMu.Unlock()
	for path := range passing {
		_ = os.RemoveAll(path) // nobody is left to be told
	}
}

func ignoreClosed(err error) error {
	if errors.Is(err, os.ErrClosed) {
		return nil
	}
	return err
}

func writeTo(path string, write func(w io.Writer) error) error {
	file, err := os.OpenFile(path, os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	return errors.Join(write(file), file.Close())
}

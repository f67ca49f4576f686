package homes

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"strings"
	"time"

	"yardbroom/internal/trust"
)

// Place is a home folder as it stands on this machine.
type Place struct {
	Folder string `json:"folder"` // that the settings map
	Path   string `json:"path"`   // of the home below it, with slashes
	Held   string `json:"held"`   // where it goes when it is set aside, below Folder too
	// Mark is which folder this is to the file system, "" where it does not say.
	Mark string `json:"mark,omitempty"`
}

func (p Place) String() string { return path.Join(p.Folder, p.Path) }

// HeldAt is the full path of the folder when it is set aside.
func (p Place) HeldAt() string { return path.Join(p.Folder, p.Held) }

// Same tells whether two places are of the same folder at the same path,
// wherever it is held.
func (p Place) Same(o Place) bool {
	return p.Folder == o.Folder && p.Path == o.Path && p.Mark == o.Mark
}

// Spot is where a home is.
type Spot string

// The spots.
const (
	AtHome    Spot = "at home"
	SetAside  Spot = "set aside"
	Displaced Spot = "set aside, and its old place is taken"
	Elsewhere Spot = "neither at home nor set aside"
)

// ErrAbsent is the error for a home that is named and does not exist.
var ErrAbsent = errors.New("there is no such folder")

// Find looks at the home on this machine and says how it would be set aside
// at some time. It fails where the folder must not be touched.
func Find(h Home, at time.Time) (Place, error) {
	folder, err := realFolder(h.share.Folder)
	if err != nil {
		return Place{}, err
	}
	root, err := os.OpenRoot(folder)
	if err != nil {
		return Place{}, err
	}
	defer root.Close()
	elements := append([]string(nil), h.elements...)
	var info fs.FileInfo
	for i := range elements {
		if elements[i], err = spelling(root, elements[:i], elements[i], h.windows); err != nil {
			return Place{}, err
		}
		if info, err = step(root, path.Join(elements[:i+1]...)); err != nil {
			return Place{}, err
		}
	}
	if err := linked(root, elements, info); err != nil {
		return Place{}, err
	}
	name := elements[len(elements)-1]
	return Place{Folder: folder, Path: path.Join(elements...), Mark: mark(info),
		Held: path.Join(h.share.holding(), at.UTC().Format("20060102T150405Z")+"-"+name)}, nil
}

// realFolder resolves the mapped folder itself, which is for the settings to
// choose.
func realFolder(folder string) (string, error) {
	info, err := os.Stat(folder)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return "", fmt.Errorf("%s, which the settings' homes name, does not exist on this machine", folder)
	case err != nil:
		return "", err
	case !info.IsDir():
		return "", fmt.Errorf("%s, which the settings' homes name, is not a folder", folder)
	}
	return resolve(folder)
}

// step looks at one part of a path and refuses what is no plain folder of the
// same file system.
func step(root *os.Root, name string) (fs.FileInfo, error) {
	info, err := root.Lstat(name)
	full := path.Join(root.Name(), name)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, fmt.Errorf("%s: %w", full, ErrAbsent)
	case err != nil:
		return nil, err
	case info.Mode()&fs.ModeSymlink != 0:
		return nil, fmt.Errorf("%s is a link, and links are not followed", full)
	case !info.IsDir():
		return nil, fmt.Errorf("%s is not a folder", full)
	}
	top, err := root.Stat(".")
	if err != nil {
		return nil, err
	}
	if device(info) != device(top) {
		return nil, fmt.Errorf("%s lies on another file system than %s", full, root.Name())
	}
	return info, nil
}

// spelling finds how a part of a path is spelt on this machine, where the
// directory's way of naming files does not tell capitals from small letters.
func spelling(root *os.Root, above []string, name string, windows bool) (string, error) {
	parent := path.Join(append([]string{"."}, above...)...)
	if _, err := root.Lstat(path.Join(parent, name)); !windows || err == nil {
		return name, nil
	}
	dir, err := root.Open(parent)
	if err != nil {
		return name, err
	}
	defer dir.Close()
	names, err := dir.Readdirnames(-1)
	if err != nil {
		return name, err
	}
	var same []string
	for _, n := range names {
		if fold(n) == fold(name) {
			same = append(same, n)
		}
	}
	switch len(same) {
	case 0:
		return name, nil
	case 1:
		return same[0], nil
	}
	return name, fmt.Errorf("%s may be one of %s in %s", name, strings.Join(same, ", "), path.Join(root.Name(), parent))
}

// linked refuses a home to which a link beside it leads: it may be somebody
// else's home too.
func linked(root *os.Root, elements []string, home fs.FileInfo) error {
	parent := path.Join(append([]string{"."}, elements[:len(elements)-1]...)...)
	dir, err := root.Open(parent)
	if err != nil {
		return err
	}
	defer dir.Close()
	beside, err := dir.ReadDir(-1)
	if err != nil {
		return err
	}
	for _, b := range beside {
		if b.Type()&fs.ModeSymlink == 0 {
			continue
		}
		full := path.Join(root.Name(), parent, b.Name())
		if info, err := os.Stat(full); err == nil && os.SameFile(info, home) {
			return fmt.Errorf("the link %s leads to it, so it may be another's home too", full)
		}
	}
	return nil
}

// SetAside renames the home into the holding folder, which is made if it is
// not there. It says what it found out of place instead of doing it.
func (p Place) SetAside() error {
	return p.rename(p.Path, p.Held, func(root *os.Root) error { return prepareHolding(root, path.Dir(p.Held)) })
}

// PutBack renames the home from the holding folder to where it was.
func (p Place) PutBack() error {
	return p.rename(p.Held, p.Path, func(root *os.Root) error { return nil })
}

func (p Place) rename(from, to string, prepare func(*os.Root) error) error {
	root, err := os.OpenRoot(p.Folder)
	if err != nil {
		return err
	}
	defer root.Close()
	if err := p.is(root, from); err != nil {
		return err
	}
	if err := prepare(root); err != nil {
		return err
	}
	if err := plainWay(root, to); err != nil {
		return err
	}
	if _, err := root.Lstat(to); err == nil {
		return fmt.Errorf("%s is taken", path.Join(p.Folder, to))
	} else if !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if err := root.Rename(from, to); err != nil {
		return err
	}
	// Whoever may write into the folders above it could have put something else
	// into its place meanwhile.
	if err := p.is(root, to); err != nil {
		return errors.Join(fmt.Errorf("not the folder that was looked at was renamed; it goes back: %w", err),
			root.Rename(to, from))
	}
	return errors.Join(syncFolder(root, path.Dir(from)), syncFolder(root, path.Dir(to)))
}

// is tells whether the folder at a path is the one that was looked at, without
// a link on the way.
func (p Place) is(root *os.Root, at string) error {
	if err := plainWay(root, at); err != nil {
		return err
	}
	info, err := step(root, at)
	if err != nil {
		return err
	}
	if mark(info) != p.Mark {
		return fmt.Errorf("%s is another folder than the one that was staged", path.Join(p.Folder, at))
	}
	return nil
}

// plainWay refuses links and other file systems on the way to a path.
func plainWay(root *os.Root, to string) error {
	elements := strings.Split(to, "/")
	for i := 1; i < len(elements); i++ {
		if _, err := step(root, path.Join(elements[:i]...)); err != nil {
			return err
		}
	}
	return nil
}

// prepareHolding makes the holding folder, which nobody else may enter. It is
// one's own, and nobody else can put another in its place.
func prepareHolding(root *os.Root, name string) error {
	err := root.Mkdir(name, 0o700)
	if err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	info, err := step(root, name)
	if err != nil {
		return err
	}
	if !info.IsDir() {
		return fmt.Errorf("%s is not a folder", name)
	}
	if err := trust.Folder(path.Join(root.Name(), name)); err != nil {
		return fmt.Errorf("the holding folder: %w", err)
	}
	return nil
}

// Spot tells where the home is now.
func (p Place) Spot() (Spot, error) {
	root, err := os.OpenRoot(p.Folder)
	if err != nil {
		return "", err
	}
	defer root.Close()
	here, there := p.is(root, p.Path), p.is(root, p.Held)
	for _, err := range []error{here, there} {
		if unread := (*fs.PathError)(nil); errors.As(err, &unread) {
			return "", unread
		}
	}
	_, err = root.Lstat(p.Path)
	switch {
	case here == nil && there != nil:
		return AtHome, nil
	case there == nil && errors.Is(err, fs.ErrNotExist):
		return SetAside, nil
	case there == nil:
		return Displaced, nil
	}
	return Elsewhere, nil
}

// syncFolder makes a rename last, where the system can.
func syncFolder(root *os.Root, name string) error {
	dir, err := root.Open(name)
	if err != nil {
		return err
	}
	defer dir.Close()
	return syncOpen(dir)
}

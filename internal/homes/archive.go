package homes

import (
	"archive/tar"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"time"

	"github.com/klauspost/compress/zstd"

	"yardbroom/internal/whole"
)

// ArchiveOf returns the file that a home's archive is written to.
func ArchiveOf(shares []Share, p Place) (string, error) {
	for i := range shares {
		folder, err := realFolder(shares[i].Folder)
		if err != nil || folder != p.Folder {
			continue
		}
		if shares[i].Archive == "" {
			return "", fmt.Errorf("the settings' homes name no archive for %s", p.Folder)
		}
		into, err := resolve(shares[i].Archive)
		if err != nil {
			return "", fmt.Errorf("the archive folder: %w", err)
		}
		if within(into, folder) || within(folder, into) {
			return "", fmt.Errorf("%s and %s must not lie in each other", into, folder)
		}
		return filepath.Join(into, path.Base(p.Held)+".tar.zst"), nil
	}
	return "", fmt.Errorf("the settings' homes do not map %s any more", p.Folder)
}

// thing is what an archive has to hold of one file, folder or link.
type thing struct {
	kind fs.FileMode // its type
	size int64
	at   time.Time // last change
	link string
	sum  string // SHA-256 of a file
}

func (t thing) same(o thing) bool {
	return t.kind == o.kind && t.size == o.size && t.link == o.link && (t.kind.IsDir() || t.at.Equal(o.at))
}

// Archive writes a home that is set aside into a file, a tar archive
// compressed with Zstandard (RFC 8878), and reads it back. The file is written
// whole or not at all, and never over another. Owners, modes and times are
// kept; access lists, extended attributes, and sockets and pipes are not.
func Archive(p Place, file string) error {
	if _, err := os.Lstat(file); err == nil {
		return fmt.Errorf("%s exists already", file)
	} else if !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	held, err := p.openHeld()
	if err != nil {
		return err
	}
	defer held.Close()
	var written map[string]thing
	err = whole.Write(file, func(w io.Writer) error {
		z, err := zstd.NewWriter(w)
		if err != nil {
			return err
		}
		if written, err = writeTar(z, held); err != nil {
			return err
		}
		return z.Close()
	})
	if err != nil {
		return err
	}
	kept, _, err := readArchive(file)
	if err != nil {
		return fmt.Errorf("reading %s back: %w", file, err)
	}
	for name, t := range written {
		if k, ok := kept[name]; !ok || !k.same(t) || k.sum != t.sum {
			return fmt.Errorf("%s does not hold %s as it was read", file, name)
		}
	}
	return nil
}

// openHeld opens the folder that was set aside, so that nothing outside it is
// ever reached.
func (p Place) openHeld() (*os.Root, error) {
	root, err := os.OpenRoot(p.Folder)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	if err := p.is(root, p.Held); err != nil {
		return nil, err
	}
	held, err := root.OpenRoot(p.Held)
	if err != nil {
		return nil, err
	}
	if info, err := held.Stat("."); err != nil || mark(info) != p.Mark {
		return nil, errors.Join(fmt.Errorf("%s was exchanged while it was looked at", p.HeldAt()), err, held.Close())
	}
	return held, nil
}

// walk visits everything in a folder but the folder itself, in one order, and
// refuses what lies on another file system.
func walk(root *os.Root, visit func(name string, info fs.FileInfo) error) error {
	top, err := root.Stat(".")
	if err != nil {
		return err
	}
	var below func(dir string) error
	below = func(dir string) error {
		f, err := root.Open(dir)
		if err != nil {
			return err
		}
		list, err := f.ReadDir(-1)
		if err := errors.Join(err, f.Close()); err != nil {
			return err
		}
		for _, d := range list {
			name := path.Join(dir, d.Name())
			info, err := root.Lstat(name)
			if err != nil {
				return err
			}
			if device(info) != device(top) {
				return fmt.Errorf("%s lies on another file system", path.Join(root.Name(), name))
			}
			if err := visit(name, info); err != nil {
				return err
			}
			if info.IsDir() {
				if err := below(name); err != nil {
					return err
				}
			}
		}
		return nil
	}
	return below(".")
}

// kept tells whether an archive can hold a thing of this kind. Sockets and
// pipes hold nothing; devices are nothing that belongs into a home.
func kept(name string, info fs.FileInfo) (bool, error) {
	switch info.Mode().Type() {
	case 0, fs.ModeDir, fs.ModeSymlink:
		return true, nil
	case fs.ModeSocket, fs.ModeNamedPipe:
		return false, nil
	}
	return false, fmt.Errorf("%s is neither file nor folder nor link (%s)", name, info.Mode())
}

func writeTar(w io.Writer, root *os.Root) (map[string]thing, error) {
	all := map[string]thing{}
	out := tar.NewWriter(w)
	if err := writeTop(out, root); err != nil {
		return nil, err
	}
	err := walk(root, func(name string, info fs.FileInfo) error {
		if keep, err := kept(name, info); !keep {
			return err
		}
		t := thing{kind: info.Mode().Type(), at: info.ModTime()}
		var err error
		if t.kind == fs.ModeSymlink {
			if t.link, err = root.Readlink(name); err != nil {
				return err
			}
		}
		h, err := tar.FileInfoHeader(info, t.link)
		if err != nil {
			return err
		}
		h.Name, h.Format = name, tar.FormatPAX
		if info.IsDir() {
			h.Name += "/"
		}
		if err := out.WriteHeader(h); err != nil {
			return err
		}
		if info.Mode().IsRegular() {
			t.size = info.Size()
			if t.sum, err = copyFile(out, root, name, info); err != nil {
				return err
			}
		}
		all[name] = t
		return nil
	})
	return all, errors.Join(err, out.Close())
}

// writeTop tells whose the home itself is.
func writeTop(out *tar.Writer, root *os.Root) error {
	info, err := root.Stat(".")
	if err != nil {
		return err
	}
	h, err := tar.FileInfoHeader(info, "")
	if err != nil {
		return err
	}
	h.Name, h.Format = "./", tar.FormatPAX
	return out.WriteHeader(h)
}

// copyFile writes a file's octets and returns their sum.
func copyFile(w io.Writer, root *os.Root, name string, info fs.FileInfo) (string, error) {
	f, err := root.Open(name)
	if err != nil {
		return "", err
	}
	defer f.Close()
	if now, err := f.Stat(); err != nil || !os.SameFile(now, info) {
		return "", errors.Join(fmt.Errorf("%s was exchanged while it was read", name), err)
	}
	sum := sha256.New()
	if n, err := io.Copy(io.MultiWriter(w, sum), f); err != nil || n != info.Size() {
		return "", errors.Join(fmt.Errorf("%s changed while it was read", name), err)
	}
	return total(sum), nil
}

func total(h hash.Hash) string { return hex.EncodeToString(h.Sum(nil)) }

// readArchive reads what an archive holds, and the sum of the file.
func readArchive(file string) (map[string]thing, string, error) {
	f, err := os.Open(file)
	if err != nil {
		return nil, "", err
	}
	defer f.Close()
	ofFile := sha256.New()
	read := io.TeeReader(f, ofFile)
	z, err := zstd.NewReader(read)
	if err != nil {
		return nil, "", err
	}
	defer z.Close()
	all := map[string]thing{}
	in := tar.NewReader(z)
	for {
		h, err := in.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, "", err
		}
		t := thing{kind: h.FileInfo().Mode().Type(), at: h.ModTime, link: h.Linkname}
		if t.kind == 0 {
			sum := sha256.New()
			if t.size, err = io.Copy(sum, in); err != nil {
				return nil, "", err
			}
			t.sum = total(sum)
		}
		all[path.Clean(h.Name)] = t
	}
	if _, err := io.Copy(io.Discard, z); err != nil {
		return nil, "", err
	}
	if _, err := io.Copy(io.Discard, read); err != nil {
		return nil, "", err
	}
	return all, total(ofFile), nil
}

// CheckArchive proves that a file holds everything that is in the folder that
// was set aside, by kind, size, time, link and content. It returns the SHA-256 of
// the file.
func CheckArchive(p Place, file string) (string, error) { return checkArchive(p, file, wholeContent) }

// depth is how closely an archive is compared with the folder.
type depth bool

const (
	wholeContent  depth = true
	namesAndTimes depth = false // of kind, size, time and link only
)

func checkArchive(p Place, file string, by depth) (string, error) {
	all, sum, err := readArchive(file)
	if err != nil {
		return "", fmt.Errorf("reading %s: %w", file, err)
	}
	held, err := p.openHeld()
	if err != nil {
		return "", err
	}
	defer held.Close()
	err = walk(held, func(name string, info fs.FileInfo) error {
		if keep, err := kept(name, info); !keep {
			return err
		}
		now := thing{kind: info.Mode().Type(), at: info.ModTime()}
		if info.Mode().IsRegular() {
			now.size = info.Size()
		}
		was, ok := all[name]
		if now.kind == fs.ModeSymlink {
			if now.link, err = held.Readlink(name); err != nil {
				return err
			}
		}
		if ok && by == wholeContent && now.kind == 0 {
			if now.sum, err = copyFile(io.Discard, held, name, info); err != nil {
				return err
			}
			ok = now.sum == was.sum
		}
		if !ok || !now.same(was) {
			return fmt.Errorf("%s in %s is not in the archive %s as it is", name, p.HeldAt(), file)
		}
		return nil
	})
	return sum, err
}

// Remove removes a home that was set aside, for good, if the archive is the
// one with this SHA-256 and holds everything that is still there.
func Remove(p Place, file, sum string) error {
	now, err := checkArchive(p, file, namesAndTimes)
	if err != nil {
		return err
	}
	if now != sum {
		return fmt.Errorf("%s is not the archive that was made of it", file)
	}
	root, err := os.OpenRoot(p.Folder)
	if err != nil {
		return err
	}
	defer root.Close()
	if err := p.is(root, p.Held); err != nil {
		return err
	}
	if err := root.RemoveAll(p.Held); err != nil {
		return err
	}
	return syncFolder(root, path.Dir(p.Held))
}

// Gone tells whether nothing is where the home was held.
func (p Place) Gone() (bool, error) {
	root, err := os.OpenRoot(p.Folder)
	if err != nil {
		return false, err
	}
	defer root.Close()
	if _, err := root.Lstat(p.Held); errors.Is(err, fs.ErrNotExist) {
		return true, nil
	} else {
		return false, err
	}
}

package work

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"

	"filippo.io/age"
	"filippo.io/age/agessh"

	"yardbroom/internal/batch"
	"yardbroom/internal/sheet"
	"yardbroom/internal/trust"
)

// PasswordFile is the file that new passwords are delivered into, each of them
// before it is set. It is made once, where nobody else may write, and the
// handle is kept, so that nobody can put another in its place.
type PasswordFile struct {
	path       string
	recipients []age.Recipient

	mu   sync.Mutex
	file *os.File
	rows [][]string
}

// NewPasswordFile is a file, which must not be there yet, for new passwords. It
// is encrypted (age) for recipients, where some are given: each an age1… or SSH
// public key, or a file of them.
func NewPasswordFile(path string, to []string) (*PasswordFile, error) {
	p := &PasswordFile{path: path, rows: [][]string{{"account", "password", "dn"}}}
	if _, err := os.Lstat(p.path); !errors.Is(err, fs.ErrNotExist) {
		return nil, Wrong("--passwords %s: there is something of that name; name a new file", p.path)
	}
	if err := trust.Folder(filepath.Dir(p.path)); err != nil {
		return nil, Wrong("--passwords: %w", err)
	}
	for _, word := range to {
		r, err := recipients(word)
		if err != nil {
			return nil, Wrong("--passwords-for: %w", err)
		}
		p.recipients = append(p.recipients, r...)
	}
	return p, nil
}

// recipients reads one recipient, or a file of them.
func recipients(word string) ([]age.Recipient, error) {
	if !strings.HasPrefix(word, "age1") && !strings.HasPrefix(word, "ssh-") {
		text, err := os.ReadFile(word)
		if err != nil {
			return nil, fmt.Errorf("%q is no recipient, and no file of them: %w", word, err)
		}
		var all []age.Recipient
		for line := range strings.Lines(string(text)) {
			if line = strings.TrimSpace(line); line == "" || strings.HasPrefix(line, "#") {
				continue
			}
			r, err := recipient(line)
			if err != nil {
				return nil, fmt.Errorf("%s: %w", word, err)
			}
			all = append(all, r)
		}
		if len(all) == 0 {
			return nil, fmt.Errorf("%s names no recipient", word)
		}
		return all, nil
	}
	r, err := recipient(word)
	return []age.Recipient{r}, err
}

func recipient(text string) (age.Recipient, error) {
	if strings.HasPrefix(text, "ssh-") {
		return agessh.ParseRecipient(text)
	}
	all, err := age.ParseRecipients(strings.NewReader(text))
	if err != nil {
		return nil, err
	}
	return all[0], nil
}

// Deliver adds a password to the file, and syncs it.
func (p *PasswordFile) Deliver(l *batch.Line, password string) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	trust.Hide()
	if p.file == nil {
		file, err := trust.Create(p.path)
		if err != nil {
			return err
		}
		p.file = file
	}
	p.rows = append(p.rows, []string{sheet.SafeCell(l.Account), password, sheet.SafeCell(l.DN)})
	if len(p.recipients) > 0 {
		return p.seal()
	}
	err := writeRows(p.file, p.rows)
	p.rows = nil
	return errors.Join(err, p.file.Sync())
}

// seal writes all passwords so far, encrypted: an encrypted file takes no
// further row. The one before it stays until the new one is whole.
func (p *PasswordFile) seal() error {
	beside := p.path + ".new"
	file, err := trust.Create(beside)
	if err != nil {
		return err
	}
	sealed, err := age.Encrypt(file, p.recipients...)
	if err == nil {
		err = errors.Join(writeRows(sealed, p.rows), sealed.Close(), file.Sync())
	}
	if err != nil {
		return errors.Join(err, file.Close(), os.Remove(beside))
	}
	// The folder is nobody else's, so between these two nothing comes in.
	err = errors.Join(p.file.Close(), os.Rename(beside, p.path))
	p.file = file
	return err
}

func writeRows(w io.Writer, rows [][]string) error {
	out := csv.NewWriter(w)
	out.UseCRLF = true
	return out.WriteAll(rows)
}

package work

import (
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"unicode"
	"unicode/utf8"

	"filippo.io/age"
	"filippo.io/age/agessh"

	"yardbroom/internal/batch"
	"yardbroom/internal/directory"
	"yardbroom/internal/sheet"
	"yardbroom/internal/trust"
)

// Passwords are where new passwords are delivered: one file, or one for each person or
// manager, in a folder.
type Passwords struct {
	each       Each
	path       string
	recipients []age.Recipient

	mu    sync.Mutex
	files map[string]*passwordFile // by path
	heads map[string]string        // by the DN of a line: the name of the manager's file
}

// Each is who gets a file of their own.
type Each string

// Who may get one.
const (
	EachPerson  Each = "person"
	EachManager Each = "manager"
)

// NewPasswords is a file that is not there yet, for all new passwords, or a folder in
// which each person, or manager, gets one. Files are encrypted (age) for recipients,
// where some are given: each an age1… or SSH public key, or a file of them.
func NewPasswords(path string, each Each, to []string) (*Passwords, error) {
	p := &Passwords{each: each, path: path, files: map[string]*passwordFile{}}
	folder := filepath.Dir(path)
	switch {
	case each != "" && each != EachPerson && each != EachManager:
		return nil, Wrong("--passwords-each: %q is neither person nor manager", each)
	case each != "":
		if folder = path; os.MkdirAll(path, 0o700) != nil {
			return nil, Wrong("--passwords %s: it is no folder; --passwords-each wants one", path)
		}
	default:
		if _, err := os.Lstat(path); !errors.Is(err, fs.ErrNotExist) {
			return nil, Wrong("--passwords %s: there is something of that name; name a new file", path)
		}
	}
	if err := trust.Folder(folder); err != nil {
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

// learn finds out who the managers of a batch's accounts are, where that matters.
func (p *Passwords) learn(ctx context.Context, at *Place, b *batch.Batch) error {
	if p.each != EachManager {
		return nil
	}
	_, d, err := at.Dialect(ctx)
	if err != nil {
		return err
	}
	var dns, heads []string
	for i := range b.Lines {
		dns = append(dns, b.Lines[i].DN)
	}
	people, err := at.Get(ctx, dns)
	if err != nil {
		return err
	}
	for i := range people {
		if m := people[i].First("manager"); m != "" {
			heads = append(heads, m)
		}
	}
	found, err := at.Get(ctx, heads)
	if err != nil {
		return err
	}
	p.heads = map[string]string{}
	files := filesFor(d, found)
	for i := range people {
		p.heads[directory.FoldDN(people[i].DN)] = files[directory.FoldDN(people[i].First("manager"))]
	}
	return nil
}

// Deliver puts a password into the file of whom it is for, before it is set.
func (p *Passwords) Deliver(l *batch.Line, password string) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	path := p.path
	switch p.each {
	case EachPerson:
		path = filepath.Join(path, fileName(l.Account)+fmt.Sprintf("-%d.csv", l.N))
	case EachManager:
		name := "without-manager"
		if file := p.heads[directory.FoldDN(l.DN)]; file != "" {
			name = file
		}
		path = filepath.Join(path, name+".csv")
	}
	if p.each != "" && len(p.recipients) > 0 {
		path += ".age"
	}
	if p.files[path] == nil {
		p.files[path] = &passwordFile{path: path, recipients: p.recipients, rows: [][]string{{"account", "password", "dn"}}}
	}
	return p.files[path].add(l, password)
}

// filesFor are the names of the files of managers, by their folded DNs. No two share one:
// where logon names become alike as part of a file's name, they stand in it escaped.
func filesFor(d *directory.Dialect, managers []directory.Entry) map[string]string {
	managers = slices.SortedFunc(slices.Values(managers), func(a, b directory.Entry) int { return strings.Compare(a.DN, b.DN) })
	logons, times := make([]string, len(managers)), map[string]int{}
	for i := range managers {
		a := d.Account(&managers[i])
		logons[i] = strings.Clone(a.Name())
		times[strings.ToLower(fileName(logons[i]))]++
	}
	names, taken := map[string]string{}, map[string]bool{}
	for i, logon := range logons {
		stem := fileName(logon)
		if times[strings.ToLower(stem)] > 1 {
			stem = url.QueryEscape(logon)
		}
		name := stem
		for n := 2; taken[strings.ToLower(name)]; n++ {
			name = fmt.Sprintf("%s.%d", stem, n)
		}
		taken[strings.ToLower(name)] = true
		names[directory.FoldDN(managers[i].DN)] = "for-" + name
	}
	return names
}

// fileName is a name as it can be part of one of a file.
func fileName(name string) string {
	return strings.Map(func(r rune) rune {
		if r < utf8.RuneSelf && (unicode.IsLetter(r) || unicode.IsDigit(r) || strings.ContainsRune("-_", r)) {
			return r
		}
		return '_'
	}, name)
}

// passwordFile is a file that new passwords are delivered into, each of them
// before it is set. It is made once, where nobody else may write, and the
// handle is kept, so that nobody can put another in its place.
type passwordFile struct {
	path       string
	recipients []age.Recipient
	file       *os.File
	rows       [][]string
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

// add adds a password to the file, and syncs it.
func (p *passwordFile) add(l *batch.Line, password string) error {
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
func (p *passwordFile) seal() error {
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

package source

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/klauspost/compress/zstd"

	"github.com/go-ldap/ldap/v3"

	"yardbroom/internal/directory"
	"yardbroom/internal/ldif"
	"yardbroom/internal/whole"
)

// Manifest describes a kept survey. It is written last, so a survey without
// one is not complete and is never read.
type Manifest struct {
	Name     string    `json:"name"`
	Source   string    `json:"source"`
	Server   string    `json:"server,omitempty"`
	Dialect  string    `json:"dialect"`
	Identity Identity  `json:"identity"`
	Taken    time.Time `json:"taken"`
	Finished time.Time `json:"finished"`
	Entries  int       `json:"entries"`
	// Asked are the servers whose own sign-ins are in the survey.
	Asked []string `json:"asked,omitempty"`
	// Complete says that nothing is missing, as far as can be told. References
	// to other servers were not followed, entries outside the base left out, and
	// those that came again counted once.
	Complete  bool `json:"complete"`
	Referrals int  `json:"referrals,omitempty"`
	Outside   int  `json:"outside,omitempty"`
	Twice     int  `json:"twice,omitempty"`
	Hidden    int  `json:"hidden,omitempty"` // entries that did not show all
	// RightsRead says that what the bound account could not read is written down
	// with each entry.
	RightsRead bool `json:"rights_read,omitempty"`
}

func (m *Manifest) takeGaps(g directory.Gaps) {
	m.Complete, m.Referrals, m.Outside, m.Twice, m.Hidden = g.Whole(), g.Referrals, g.Outside, g.Twice, g.Hidden
}

// Gaps is what is missing in the survey.
func (m *Manifest) Gaps() directory.Gaps {
	return directory.Gaps{Referrals: m.Referrals, Outside: m.Outside, Twice: m.Twice, Hidden: m.Hidden}
}

const (
	dataSuffix     = ".ldif.zst"
	manifestSuffix = ".json"
)

var surveyName = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]{0,99}$`)

// Keep reads everything from a source and keeps it in dir under a name, dated
// by a clock.
func Keep(ctx context.Context, src Source, dir, name string, now func() time.Time) (*Manifest, error) {
	if !surveyName.MatchString(name) {
		return nil, fmt.Errorf("%q cannot be the name of a survey: use letters, digits, dots, dashes", name)
	}
	manifest := filepath.Join(dir, name+manifestSuffix)
	if _, err := os.Stat(manifest); err == nil {
		return nil, fmt.Errorf("a survey called %s is kept already", name)
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	m := &Manifest{Name: name, Source: src.Where(), Taken: now().UTC()}
	id, err := src.Identity(ctx)
	if err != nil {
		return nil, err
	}
	m.Identity, m.Dialect = id, id.Dialect
	if err := keepEntries(ctx, src, filepath.Join(dir, name+dataSuffix), m); err != nil {
		return nil, err
	}
	m.Finished = now().UTC()
	text, err := json.MarshalIndent(m, "", "  ")
	if err != nil {
		return nil, err
	}
	return m, whole.Write(manifest, func(w io.Writer) error {
		_, err := w.Write(append(text, '\n'))
		return err
	})
}

// keepEntries writes the entries to a compressed file, whole or not at all.
func keepEntries(ctx context.Context, src Source, path string, m *Manifest) error {
	write := func(fill func(out *ldif.Writer) error) error {
		m.Entries = 0
		return whole.Write(path, func(w io.Writer) error {
			z, err := zstd.NewWriter(w, zstd.WithEncoderLevel(zstd.SpeedFastest))
			if err != nil {
				return err
			}
			out := ldif.NewWriter(z)
			err = fill(out)
			return errors.Join(err, out.Flush(), z.Close())
		})
	}
	switch s := src.(type) {
	case *Server:
		m.Server = s.HostName()
		others := s.othersLogons(ctx, m)
		return s.retry(ctx, func() error {
			names, err := s.StoredNames(ctx, Query{Base: s.Base, Scope: ldap.ScopeWholeSubtree})
			if err != nil {
				return err
			}
			// Computed values are never among the stored ones.
			for _, name := range s.Dialect.Attributes(s.target.Keep) {
				if !slices.ContainsFunc(names, func(n string) bool { return strings.EqualFold(n, name) }) {
					names = append(names, name)
				}
			}
			return write(func(out *ldif.Writer) error {
				var about Reading
				err := s.All(ctx, names, func(e *directory.Entry) error {
					others(e)
					m.Entries++
					return out.Write(e)
				}, &about)
				m.takeGaps(about.Gaps)
				m.RightsRead = about.RightsRead
				return err
			})
		})
	case *File:
		if !s.taken.IsZero() {
			m.Taken = s.taken
		}
		m.takeGaps(s.gaps)
		m.RightsRead, m.Asked = s.rights, s.asked
		counted := *s
		if s.Broken != nil {
			counted.Broken = func(err error) { m.Complete = false; s.Broken(err) }
		}
		return write(func(out *ldif.Writer) error { return counted.copyTo(ctx, out, &m.Entries) })
	}
	return fmt.Errorf("%s cannot be kept", src.Where())
}

// othersLogons asks the other servers of the yard for their sign-ins, names
// those that answered in the manifest, and returns a function that adds the
// latest of them to an entry.
func (s *Server) othersLogons(ctx context.Context, m *Manifest) func(*directory.Entry) {
	m.Asked = []string{m.Server}
	var all []logons
	for _, o := range s.askOthers(ctx, "")() {
		if o.err == nil {
			all = append(all, o)
			m.Asked = append(m.Asked, o.name)
		}
	}
	return func(e *directory.Entry) {
		if len(all) == 0 || !e.Has("objectSid") {
			return
		}
		a := directory.AD.Account(e)
		best, server := a.LastLogon, 0
		later := func(attr string, have *directory.Moment, known directory.Moment) {
			if known.After(*have) {
				*have = known
				e.Set(attr, directory.FormatFileTime(known.Time()))
			}
		}
		for i, o := range all {
			known := o.known[a.ID]
			if known.LastLogon.After(best) {
				best, server = known.LastLogon, i+2 // the first is the one read from
			}
			later("lastLogonTimestamp", &a.LastLogonTS, known.LastLogonTS)
			later("pwdLastSet", &a.PasswordSet, known.PasswordSet)
		}
		if server > 0 {
			name, value := directory.LatestLogon(server, best)
			e.Set(name, value)
		}
	}
}

// copyTo writes all entries of the file in order, and counts them.
func (f *File) copyTo(ctx context.Context, out *ldif.Writer, entries *int) error {
	type written struct {
		text []byte
		n    int
	}
	return each(ctx, f, false, func(records []ldif.Record) written { return written{ldif.Records(records), len(records)} },
		func(w written) error {
			*entries += w.n
			return out.WriteRecords(w.text)
		})
}

// OpenKept opens a kept survey. fs.ErrNotExist is in the error of one that
// is not there.
func OpenKept(dir, name string) (*File, error) {
	if !surveyName.MatchString(name) {
		return nil, fmt.Errorf("survey %s: %w", name, fs.ErrNotExist)
	}
	m, err := readManifest(filepath.Join(dir, name+manifestSuffix))
	if err != nil {
		return nil, err
	}
	d, err := directory.DialectNamed(m.Dialect)
	if err != nil {
		return nil, fmt.Errorf("survey %s: %w", name, err)
	}
	f, err := OpenFile(filepath.Join(dir, name+dataSuffix), nil)
	if err != nil {
		return nil, err
	}
	f.name, f.taken, f.Dialect, f.server, f.asked, f.rights, f.gaps = "survey "+name, m.Taken, d, m.Server, m.Asked, m.RightsRead, m.Gaps()
	return f, nil
}

func readManifest(path string) (*Manifest, error) {
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, fmt.Errorf("survey: %w", err)
	}
	m := &Manifest{}
	if err := json.Unmarshal(text, m); err != nil {
		return nil, fmt.Errorf("survey %s: damaged manifest: %w", path, err)
	}
	return m, nil
}

// KeptFiles are the files of a kept survey; the last one says that it is there.
func KeptFiles(dir, name string) []string {
	return []string{filepath.Join(dir, name+dataSuffix), filepath.Join(dir, name+manifestSuffix)}
}

// Kept lists the kept surveys, oldest first.
func Kept(dir string) ([]*Manifest, error) {
	paths, err := filepath.Glob(filepath.Join(dir, "*"+manifestSuffix))
	if err != nil {
		return nil, err
	}
	var all []*Manifest
	for _, p := range paths {
		m, err := readManifest(p)
		if err != nil {
			return nil, err
		}
		all = append(all, m)
	}
	slices.SortFunc(all, func(a, b *Manifest) int { return a.Taken.Compare(b.Taken) })
	return all, nil
}

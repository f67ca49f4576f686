package source

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/go-ldap/ldap/v3"

	"yardbroom/internal/directory"
	"yardbroom/internal/kept"
	"yardbroom/internal/ldif"
	"yardbroom/internal/pattern"
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
	// Full is when everything was read last; FullWhy why it was then, where that was
	// not asked for.
	Full    time.Time `json:"full,omitzero"`
	FullWhy string    `json:"full_why,omitempty"`
	// Since is the survey from which was taken what had not changed; Changed and Gone
	// count what had.
	Since   string `json:"since,omitempty"`
	Changed int    `json:"changed,omitempty"`
	Gone    int    `json:"gone,omitempty"`
	// Mark is where the next survey may go on, nil where it may not; MarkWhy says why not.
	Mark    *Mark  `json:"mark,omitempty"`
	MarkWhy string `json:"mark_why,omitempty"`
	// Reading stands for what was read and by whom, as the settings had it.
	Reading string `json:"reading,omitempty"`
	// Index is the checksum of the data's index, and Seal that of all of this.
	Index uint32 `json:"index,omitempty"`
	Seal  string `json:"seal,omitempty"`
}

// seal is the checksum of what is written down about a survey.
func (m *Manifest) seal() string {
	bare := *m
	bare.Seal = ""
	text, err := json.Marshal(&bare)
	if err != nil {
		return ""
	}
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:])
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

var surveyName = pattern.Lazy(`^[A-Za-z0-9][A-Za-z0-9._-]{0,99}$`)

// Keeping says how a survey is to be kept.
type Keeping struct {
	Dir, Name string
	Now       func() time.Time
	// Full reads everything, whatever may be known already.
	Full bool
	// FullAfter is when the last reading of everything has to have been, or later; zero
	// takes one of any age.
	FullAfter time.Time
	// Reading stands for what is read and by whom, as the settings have it.
	Reading string
}

// Keep reads everything from a source and keeps it in a folder under a name. Of a server
// it reads only what has changed since the last survey of it that is kept there, where
// that can be told.
func Keep(ctx context.Context, src Source, k Keeping) (*Manifest, error) {
	if !surveyName().MatchString(k.Name) {
		return nil, fmt.Errorf("%q cannot be the name of a survey: use letters, digits, dots, dashes", k.Name)
	}
	manifest := filepath.Join(k.Dir, k.Name+manifestSuffix)
	if _, err := os.Stat(manifest); err == nil {
		return nil, fmt.Errorf("a survey called %s is kept already", k.Name)
	}
	if err := os.MkdirAll(k.Dir, 0o700); err != nil {
		return nil, err
	}
	m := &Manifest{Name: k.Name, Source: src.Where(), Taken: k.Now().UTC(), Reading: k.Reading}
	id, err := src.Identity(ctx)
	if err != nil {
		return nil, err
	}
	m.Identity, m.Dialect = id, id.Dialect
	switch s := src.(type) {
	case *Server:
		err = s.keep(ctx, &k, m)
	case *File:
		err = s.keep(ctx, &k, m)
	default:
		err = fmt.Errorf("%s cannot be kept", src.Where())
	}
	if err != nil {
		return nil, err
	}
	m.Finished = k.Now().UTC()
	m.Seal = m.seal()
	text, err := json.MarshalIndent(m, "", "  ")
	if err == nil {
		err = whole.Write(manifest, func(w io.Writer) error {
			_, err := w.Write(append(text, '\n'))
			return err
		})
	}
	if err != nil { // without it the entries are of no use
		return nil, errors.Join(err, os.Remove(filepath.Join(k.Dir, k.Name+dataSuffix)))
	}
	return m, nil
}

// write writes the entries to the file of a survey, whole or not at all.
func (k *Keeping) write(m *Manifest, fill func(out *kept.Writer) error) error {
	return whole.Write(filepath.Join(k.Dir, k.Name+dataSuffix), func(w io.Writer) error {
		out := kept.NewWriter(w)
		if err := fill(out); err != nil {
			return err
		}
		m.Entries = out.Entries()
		var err error
		m.Index, err = out.Close()
		return err
	})
}

// shapeOf is what the file of a survey has to know of a dialect's entries; mark is nil where
// nobody will ask for changes by it.
func shapeOf(d *directory.Dialect, mark *Mark) *kept.Shape {
	shape := &kept.Shape{Identity: keyOf(d), Restless: restless(d, mark), Kind: func(e *directory.Entry) string {
		return kindSeen(d, e).String()
	}}
	if mark != nil {
		shape.BackLinks = backLinks(d)
	}
	return shape
}

// keyOf tells an entry from all others: by its identity, or by its name where the reader
// may not see that.
func keyOf(d *directory.Dialect) func(*directory.Entry) string {
	identity := d.Identity.String()
	return func(e *directory.Entry) string {
		if id := e.First(identity); id != "" {
			return id
		}
		return nameless + directory.FoldDN(e.DN)
	}
}

// nameless begins the keys of entries that show no identity. No identity does.
const nameless = "name="

// keep keeps what the server holds: what has changed, or else everything.
func (s *Server) keep(ctx context.Context, k *Keeping, m *Manifest) error {
	m.Server = s.HostName()
	var why *whollyError
	err := s.retry(ctx, func() (err error) {
		m.Mark, err = s.mark(ctx)
		return inDoubt(ctx, err)
	})
	if errors.As(err, &why) {
		m.MarkWhy = why.why
	}
	if err == nil {
		err = inDoubt(ctx, s.keepChanged(ctx, k, m))
	}
	if err == nil || !errors.As(err, &why) {
		return err
	}
	m.FullWhy = why.why
	return s.keepAll(ctx, k, m)
}

// inDoubt is a whollyError for an answer that a server gives to somebody who asks for
// changes, so that one that does not take such questions is read as ever.
func inDoubt(ctx context.Context, err error) error {
	var answer *ldap.Error
	if err == nil || ctx.Err() != nil || Lost(err) || !errors.As(err, &answer) {
		return err
	}
	return wholly("asking for what has changed failed: %v", err)
}

// keepChanged keeps the last survey with what has changed since. A whollyError says why
// there is none, or why that cannot be told.
func (s *Server) keepChanged(ctx context.Context, k *Keeping, m *Manifest) error {
	since, err := k.since(m)
	if err != nil {
		return err
	}
	var old *kept.File
	var opening sync.WaitGroup
	opening.Go(func() { old, err = kept.Open(filepath.Join(k.Dir, since.Name+dataSuffix)) })
	_, _ = s.Defined(ctx, "") // which takes as long; whoever needs it asks again where that failed
	opening.Wait()
	switch {
	case errors.Is(err, kept.ErrNoIndex):
		return wholly("the survey %s cannot be gone on from: its file has no index, or a damaged one", since.Name)
	case err != nil:
		return wholly("the survey %s cannot be gone on from: %v", since.Name, err)
	}
	defer old.Close()
	if old.Sum != since.Index {
		return wholly("the survey %s is not as it was written", since.Name)
	}
	made, mark := *m, *m.Mark
	made.Mark, mark.How = &mark, since.Mark.How
	var f *follower
	err = s.retry(ctx, func() (err error) {
		if f, err = s.follow(ctx, since, old); err != nil {
			return err
		}
		if f.synced != nil {
			mark.At = base64.StdEncoding.EncodeToString(f.synced.cookie)
		}
		return s.over(ctx, &mark)
	})
	if err != nil {
		return asWholly(since, err)
	}
	made.Asked, made.Since, made.Full, made.RightsRead = since.Asked, since.Name, since.Full, since.RightsRead
	made.takeGaps(since.Gaps())
	unseen := slices.Clone(since.Mark.Unseen)
	for id, is := range f.change {
		was := f.was[id]
		if is == nil {
			made.Gone++
		} else {
			made.Changed++
		}
		if _, told := f.told[id]; is == nil && was != nil && IsGroup(was) && !told {
			unseen = append(unseen, nameOf(was)) // it may only be hidden
		}
		if was != nil && s.hides(was) {
			made.Hidden--
		}
		if is != nil && s.hides(is) {
			made.Hidden++
		}
	}
	made.Complete = made.Gaps().Whole()
	err = k.write(&made, func(out *kept.Writer) error {
		err := old.Update(ctx, out, shapeOf(s.Dialect, &mark), f.change)
		mark.Unseen = out.Unseen(unseen...)
		return err
	})
	if err != nil {
		return asWholly(since, err)
	}
	*m = made
	return nil
}

// asWholly is a whollyError for a survey that is damaged.
func asWholly(since *Manifest, err error) error {
	if errors.Is(err, kept.ErrDamaged) {
		return wholly("the survey %s is damaged", since.Name)
	}
	return err
}

// since is the survey to go on from: the last one of the same directory.
func (k *Keeping) since(m *Manifest) (*Manifest, error) {
	if k.Full {
		return nil, wholly("")
	}
	all, err := Kept(k.Dir)
	if err != nil {
		return nil, wholly("%v", err)
	}
	for _, last := range slices.Backward(all) {
		if !last.Identity.Same(m.Identity) || last.Mark == nil && last.Server == "" {
			continue
		}
		return last, k.follows(m, last)
	}
	return nil, wholly("no earlier survey of this directory is kept")
}

// follows says why the last survey cannot be gone on from, nil where it can.
func (k *Keeping) follows(m, last *Manifest) error {
	switch {
	case last.Mark == nil:
		return wholly("the survey %s cannot be gone on from: %s", last.Name, cmp.Or(last.MarkWhy, "it was kept by an earlier version"))
	case last.Seal != last.seal():
		return wholly("what is written down about the survey %s is not as it was written", last.Name)
	case last.Referrals+last.Outside+last.Twice > 0:
		return wholly("the survey %s is not whole", last.Name)
	case last.Mark.Server != m.Mark.Server || last.Server != m.Server:
		return wholly("the survey %s is of another server, or of a database that was restored", last.Name)
	case last.Mark.How != m.Mark.How && last.Mark.How != ByTime:
		return wholly("the server tells of its changes in another way than when %s was kept", last.Name)
	case last.Mark.Reader != m.Mark.Reader:
		return wholly("the survey %s was read by another account, in other groups, with another base or other attributes", last.Name)
	case m.Mark.Time.Before(last.Mark.Time):
		return wholly("the survey %s is of a time that is still to come", last.Name)
	case last.Full.Before(k.FullAfter):
		return wholly("everything was read last on %s", last.Full.Format(time.DateOnly))
	}
	return m.Mark.notBefore(last.Mark)
}

// keepAll reads and keeps everything.
func (s *Server) keepAll(ctx context.Context, k *Keeping, m *Manifest) error {
	m.Full = m.Taken
	others := s.othersLogons(ctx, m)
	return s.retry(ctx, func() error {
		if m.Mark != nil && m.Mark.How == ByCookie {
			if err := s.cookieNow(ctx, m.Mark); err != nil {
				return err
			}
		}
		names, err := s.namesToKeep(ctx, Query{Base: s.Base, Scope: ldap.ScopeWholeSubtree})
		if err != nil {
			return err
		}
		return k.write(m, func(out *kept.Writer) error {
			var about Reading
			stream := kept.NewStream(out, shapeOf(s.Dialect, m.Mark))
			err := s.All(ctx, names, func(e *directory.Entry) error {
				others(e)
				return stream.Add(e)
			}, &about)
			m.takeGaps(about.Gaps)
			m.RightsRead = about.RightsRead
			if err := errors.Join(err, stream.Flush()); err != nil {
				return err
			}
			var why *whollyError
			err = inDoubt(ctx, s.over(ctx, m.Mark))
			if errors.As(err, &why) {
				m.Mark, m.MarkWhy, err = nil, why.why, nil
			}
			if m.Mark != nil {
				m.Mark.Unseen = out.Unseen()
			}
			return err
		})
	})
}

// namesToKeep are the names of all attributes that the entries of a query carry, and of
// those that are worked out and that checks look at.
func (s *Server) namesToKeep(ctx context.Context, q Query) ([]string, error) {
	names, err := s.StoredNames(ctx, q)
	if err != nil {
		return nil, err
	}
	return s.andComputed(names), nil
}

// andComputed appends those that are worked out and that checks look at, which are never
// among the stored ones.
func (s *Server) andComputed(names []string) []string {
	for _, name := range s.Dialect.Attributes(s.target.Keep) {
		if !slices.ContainsFunc(names, func(n string) bool { return strings.EqualFold(n, name) }) {
			names = append(names, name)
		}
	}
	return names
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
	return func(e *directory.Entry) { addLogons(e, all) }
}

// addLogons adds the latest of what other servers know to an entry. They stand in the
// order of the servers that were asked, behind the first.
func addLogons(e *directory.Entry, all []logons) {
	if len(all) == 0 || !e.Has("objectSid") {
		return
	}
	a := directory.AD.Account(e)
	best, server := a.LastLogon, 0
	for i, o := range all {
		known := o.known[a.ID]
		if known.LastLogon.After(best) {
			best, server = known.LastLogon, i+2 // the first is the one read from
		}
		takeLater(e, "lastLogonTimestamp", &a.LastLogonTS, known.LastLogonTS)
		takeLater(e, "pwdLastSet", &a.PasswordSet, known.PasswordSet)
	}
	if server > 0 {
		name, value := directory.LatestLogon(server, best)
		e.Set(name, value)
	}
}

// takeLater writes down a time that is later than the one that an entry has.
func takeLater(e *directory.Entry, attr string, have *directory.Moment, known directory.Moment) {
	if known.After(*have) {
		*have = known
		e.Set(attr, directory.FormatFileTime(known.Time()))
	}
}

// keep keeps the entries of the file in its order.
func (f *File) keep(ctx context.Context, k *Keeping, m *Manifest) error {
	if !f.taken.IsZero() {
		m.Taken = f.taken
	}
	m.takeGaps(f.gaps)
	m.RightsRead, m.Asked = f.rights, f.asked
	counted := *f
	if f.Broken != nil {
		counted.Broken = func(err error) { m.Complete = false; f.Broken(err) }
	}
	d, err := directory.DialectNamed(m.Dialect)
	if err != nil {
		return err
	}
	shape := shapeOf(d, nil)
	return k.write(m, func(out *kept.Writer) error {
		return each(ctx, &counted, nil, func(records []ldif.Record) []kept.Frame {
			entries := make([]directory.Entry, len(records))
			for i := range records {
				entries[i] = records[i].Entry
			}
			return kept.Pack(entries, shape)
		}, func(frames []kept.Frame) error { return out.Add(frames...) })
	})
}

// OpenKept opens a kept survey. fs.ErrNotExist is in the error of one that
// is not there.
func OpenKept(dir, name string) (*File, error) {
	if !surveyName().MatchString(name) {
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
	if m.Identity.ID != "" {
		f.known = &m.Identity
	}
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

package source

import (
	"bufio"
	"bytes"
	"cmp"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/klauspost/compress/zstd"
	"golang.org/x/text/encoding/unicode"

	"yardbroom/internal/directory"
	"yardbroom/internal/filter"
	"yardbroom/internal/kept"
	"yardbroom/internal/ldif"
	"yardbroom/internal/whole"
)

// File is an LDIF file, plain or compressed with gzip or zstd. What it holds
// is told by looking, not by its name.
type File struct {
	// Dialect overrides what the entries themselves tell.
	Dialect *directory.Dialect
	// DefaultPolicy is the password policy of entries that name none.
	DefaultPolicy string
	// Keep are attributes to keep the texts of, besides those that checks look
	// at in any case.
	Keep directory.AttrSet
	// Broken, if set, is told of each unreadable record, and reading goes on
	// behind it.
	Broken func(error)
	// Progress, if set, is told how far reading is.
	Progress Progress

	referred func(n int) // is told of references to other servers

	name    string // for people
	path    string
	removed func() // is called when a temporary file is gone; nil for a file of somebody's

	keptAs
	learnt
	changes
}

// keptAs is what a kept survey says of itself.
type keptAs struct {
	taken   time.Time
	server  string   // that it was read from
	asked   []string // the servers whose own sign-ins it holds
	rights  bool     // it says what could not be read
	gaps    directory.Gaps
	known   *Identity
	indexed *kept.File // its index, once somebody had to know and where it has one
}

// learnt is what reading a file has shown of it.
type learnt struct {
	read    *directory.Survey
	ahead   ahead           // what will be asked for
	places  *places         // where its entries stand, once it was read with that ahead
	carried map[string]bool // the names of all attributes in it, in lower case, once somebody had to know
}

// changes are entries to be read in the place of those in the file, nil for those that are
// gone, and entries that come behind it.
type changes struct {
	before  *File // without them, whose survey the survey can be made of; nil where it cannot
	instead map[directory.Key]*directory.Entry
	more    []directory.Entry
}

// OpenFile opens a file; "-" is standard input, which is copied to a
// temporary file since it may have to be read twice.
func OpenFile(path string, stdin io.Reader) (*File, error) {
	if path != "-" {
		info, err := os.Stat(path)
		if err != nil {
			return nil, fmt.Errorf("cannot read %s: %w", path, errors.Unwrap(err))
		}
		if info.IsDir() {
			return nil, fmt.Errorf("%s is a folder, not an LDIF file", path)
		}
		return &File{name: path, path: path}, nil
	}
	spool, err := os.CreateTemp("", "yardbroom-*.ldif")
	if err != nil {
		return nil, err
	}
	defer spool.Close()
	f := &File{name: "standard input", path: spool.Name(), removed: whole.Passing(spool.Name())}
	if _, err := io.Copy(spool, stdin); err != nil {
		return nil, errors.Join(fmt.Errorf("standard input: %w", err), f.Close())
	}
	return f, nil
}

// Close removes what was made to read the file.
func (f *File) Close() error {
	if f.indexed != nil {
		f.indexed.Close()
	}
	if f.places != nil {
		f.places.Close()
	}
	if f.removed == nil {
		return nil
	}
	defer f.removed()
	return os.Remove(f.path)
}

// Where names the file.
func (f *File) Where() string { return f.name }

// open returns the file's text, whatever it is wrapped in.
func (f *File) open() (io.Reader, func(), error) {
	file, err := os.Open(f.path)
	if err != nil {
		return nil, nil, fmt.Errorf("cannot read %s: %w", f.name, errors.Unwrap(err))
	}
	closing := func() {
		file.Close()
		f.Progress.tell("reading "+f.name, Over, 0)
	}
	counted := &countedReader{
		File: file,
		tell: func(done, total int64) { f.Progress.tell("reading "+f.name, done, total) },
	}
	if info, err := file.Stat(); err == nil {
		counted.total = info.Size()
	}
	in := bufio.NewReaderSize(counted, 1<<16)
	start, _ := in.Peek(4)
	switch wrappingOf(start) {
	case gzipped:
		z, err := gzip.NewReader(in)
		if err != nil {
			closing()
			return nil, nil, fmt.Errorf("%s: damaged gzip data: %w", f.name, err)
		}
		return z, closing, nil
	case zstandard:
		z, err := zstd.NewReader(in)
		if err != nil {
			closing()
			return nil, nil, fmt.Errorf("%s: damaged zstd data: %w", f.name, err)
		}
		return z, func() { z.Close(); closing() }, nil
	case utf16Text:
		return unicode.UTF16(unicode.LittleEndian, unicode.UseBOM).NewDecoder().Reader(in), closing, nil
	case zipped:
		closing()
		return nil, nil, fmt.Errorf("%s is a zip file or a workbook, not LDIF: export the entries as LDIF", f.name)
	}
	return in, closing, nil
}

// wrapping is what the text of a file is wrapped in.
type wrapping int

const (
	plainText wrapping = iota
	gzipped
	zstandard
	utf16Text
	zipped
)

// wrappingOf tells it by the first octets of a file.
func wrappingOf(start []byte) wrapping {
	for magic, w := range map[string]wrapping{"\x1f\x8b": gzipped, "\x28\xb5\x2f\xfd": zstandard,
		"\xff\xfe": utf16Text, "\xfe\xff": utf16Text, "PK\x03\x04": zipped} {
		if bytes.HasPrefix(start, []byte(magic)) {
			return w
		}
	}
	return plainText
}

// countedReader tells how much of a file is read.
type countedReader struct {
	*os.File
	done, total int64
	tell        func(done, total int64)
}

func (r *countedReader) Read(b []byte) (int, error) {
	n, err := r.File.Read(b)
	r.done += int64(n)
	r.tell(r.done, r.total)
	return n, err
}

// fileError says what went wrong with the file, and where.
func (f *File) fileError(err error) error {
	switch {
	case errors.Is(err, io.ErrUnexpectedEOF):
		return fmt.Errorf("%s: the compressed data ends early: the file is not whole, fetch it again", f.name)
	case errors.Is(err, context.Canceled):
		return err
	}
	if wrong := (*ldif.Error)(nil); errors.As(err, &wrong) && wrong.Line == 1 && errors.Is(wrong, ldif.ErrNoPair) {
		return fmt.Errorf("%s is not LDIF, in which entries are exported: %w", f.name, err)
	}
	return fmt.Errorf("%s: %w", f.name, err)
}

// noOthers leaves out the attributes that have no number, which is all that judging needs.
func noOthers(string) bool { return false }

// each reads the file's entries in its order, several at once, with those of the attributes
// that have no number for which others says yes; nil stands for all.
func each[T any](ctx context.Context, f *File, others func(string) bool, work func([]ldif.Record) T, take func(T) error) error {
	in, closing, err := f.open()
	if err != nil {
		return err
	}
	defer closing()
	opt := ldif.Options{Others: others, Referrals: f.referred}
	if f.Broken != nil {
		opt.Broken = func(e *ldif.Error) error {
			if errors.Is(e, ldif.ErrIncomplete) {
				return e
			}
			f.Broken(fmt.Errorf("%s: %w", f.name, e))
			return nil
		}
	}
	if f.instead != nil {
		work = replacing(f, work)
	}
	if err := ldif.Each(ctx, in, opt, work, take); err != nil {
		return f.fileError(err)
	}
	if len(f.more) > 0 {
		return take(work(recordsOf(f.more)))
	}
	return nil
}

// judged is what one block of a file gives to a survey.
type judged struct {
	part  *directory.Part
	place place
	wrong *ldif.Error // a change record, which is no entry
	found []directory.Entry
}

// surveying is how the blocks of a file give a survey.
type surveying struct {
	file   *File
	survey *directory.Survey
	texts  texts
	where  *places         // takes note of where entries stand; nil where nobody asks
	cond   *filter.Matcher // of entries that are wanted whole; nil where none are
}

// others tells which attributes that have no number are looked at.
func (s *surveying) others(name string) bool {
	return s.where != nil && s.where.values && s.where.equality(name) != nil || s.cond != nil && s.cond.Looks(name)
}

func (s *surveying) block(records []ldif.Record) (j judged) {
	j.part = s.survey.NewPart(len(records), s.file.Keep)
	if s.texts == withoutTexts {
		j.part.LeaveTexts()
	}
	for i := range records {
		r := &records[i]
		if !r.IsEntry() {
			j.wrong = &ldif.Error{
				Line: r.Line,
				DN:   strings.Clone(r.DN),
				Err:  fmt.Errorf("a %s record: this file holds changes, not entries", r.Change.Type),
			}
			return j
		}
		accounts := j.part.Len()
		key, parent := j.part.Add(s.survey.Dialect, &r.Entry)
		if s.where != nil {
			s.where.note(&j.place, r, key, parent, j.part.Len() > accounts)
		}
		if s.cond != nil && s.cond.Match(&r.Entry) == filter.True {
			j.found = append(j.found, r.Whole())
		}
	}
	return j
}

// Survey reads the whole file, once. The dialect is guessed by its first block; if
// the rest of the file shows another, it is read again.
func (f *File) Survey(ctx context.Context) (*directory.Survey, error) {
	if f.read == nil {
		s, err := f.readSurvey(ctx, withTexts)
		if err != nil {
			return nil, err
		}
		f.read = s
	}
	return f.read, nil
}

// texts tells whether those of accounts are kept, for checks.
type texts bool

const (
	withTexts    texts = true
	withoutTexts texts = false
)

func (f *File) readSurvey(ctx context.Context, keep texts) (*directory.Survey, error) {
	if f.before != nil {
		return f.surveyChanged(ctx)
	}
	d := f.Dialect
	if d == nil {
		d, _ = f.guess(ctx)
	}
	s, _, err := f.survey(ctx, d, keep, nil)
	if err != nil || f.Dialect != nil {
		return s, err
	}
	if real := directory.DialectOf(s.SeenAnywhere()); real != d {
		s, _, err = f.survey(ctx, real, keep, nil)
	}
	return s, err
}

// ahead is what will be asked for after a survey.
type ahead int

const (
	nothingAhead ahead = iota
	namesAhead         // entries of some names
	entriesAhead       // the survey itself, and entries of some names or values
	changesAhead       // the same, and a survey with changes
)

// SurveyAhead says that the survey will be asked for, and entries after it. Whoever looks
// for entries before takes the survey on the way, and the survey remembers where they
// stand: the file is read once.
func (f *File) SurveyAhead() { f.ahead = max(f.ahead, entriesAhead) }

// ChangesAhead says the same, and that the survey will be asked for once more, with other
// entries in the place of some.
func (f *File) ChangesAhead() { f.ahead = changesAhead }

var errEnough = errors.New("enough read")

// guess tells the dialect from the first entries, and whether they prove it.
func (f *File) guess(ctx context.Context) (d *directory.Dialect, sure bool) {
	var seen directory.AttrSet
	quiet := *f
	quiet.Broken = func(error) {}
	_ = each(ctx, &quiet, noOthers, seenIn, func(s directory.AttrSet) error { seen = s; return errEnough })
	d = directory.DialectOf(seen)
	return d, d != directory.OpenLDAP || seen.Has(directory.AttrEntryUUID)
}

func seenIn(records []ldif.Record) (seen directory.AttrSet) {
	for i := range records {
		for j := range records[i].Attrs {
			seen.Add(records[i].Attrs[j].ID)
		}
	}
	return seen
}

// newSurvey is a survey of the file of which nothing is read yet.
func (f *File) newSurvey(d *directory.Dialect) *directory.Survey {
	s := directory.NewSurvey(d)
	s.Asked, s.RightsRead, s.Gaps = f.asked, f.rights, f.gaps
	s.Source, s.Server, s.Taken, s.DefaultPolicy = f.name, f.server, f.taken, directory.FoldDN(f.DefaultPolicy)
	return s
}

// survey reads the file, and returns the entries that fulfil a filter besides, if there is
// one.
func (f *File) survey(
	ctx context.Context, d *directory.Dialect, keep texts, cond *filter.Matcher,
) (*directory.Survey, []directory.Entry, error) {
	began := time.Now()
	s := f.newSurvey(d)
	var found []directory.Entry
	var where *places
	if f.ahead != nothingAhead {
		where = newPlaces(f, d, f.ahead >= entriesAhead)
	}
	if where != nil && f.ahead == changesAhead {
		where.keepsParts = true
		s.ShareParts()
	}
	by := surveying{file: f, survey: s, texts: keep, where: where, cond: cond}
	broken := 0
	counted := *f
	counted.referred = func(n int) { s.Referrals += n }
	if f.Broken != nil {
		counted.Broken = func(err error) { broken++; f.Broken(err) }
	}
	err := each(ctx, &counted, by.others, by.block, func(j judged) error {
		if j.wrong != nil {
			return j.wrong
		}
		s.Merge(j.part)
		found = append(found, j.found...)
		if where != nil {
			j.place.seen = nil
			if where.keepsParts {
				j.place.part = j.part
			}
			where.parts = append(where.parts, j.place)
		}
		return nil
	})
	f.remember(where, err)
	s.Broken = broken
	s.Settle()
	if err == nil && s.Entries == 0 && broken == 0 {
		err = fmt.Errorf("%s holds no entries", f.name)
	}
	slog.DebugContext(ctx, "read",
		"file", f.name, "dialect", d.Name, "entries", s.Entries, "accounts", s.Accounts.Len(),
		"took", time.Since(began).Round(time.Millisecond))
	return s, found, err
}

// remember takes over where the entries stand, as far as all of them were read.
func (f *File) remember(where *places, err error) {
	if f.places != nil {
		f.places.Close()
	}
	if f.places = where; where != nil && err != nil {
		where.Close()
		f.places = nil
	}
}

// pick returns the entries of the file for which the test says yes. Of the attributes that
// have no number it looks at those for which others says yes.
func (f *File) pick(
	ctx context.Context, others func(string) bool, test func(*directory.Entry) bool,
) ([]directory.Entry, error) {
	var all []directory.Entry
	err := again(ctx, f, others, func(records []ldif.Record) (found []directory.Entry) {
		for i := range records {
			if records[i].IsEntry() && test(&records[i].Entry) {
				found = append(found, records[i].Whole())
			}
		}
		return found
	}, func(found []directory.Entry) { all = append(all, found...) })
	return all, err
}

// again reads the file once more, without a word on broken records, of which
// the survey has told already.
func again[T any](ctx context.Context, f *File, others func(string) bool, work func([]ldif.Record) T, take func(T)) error {
	quiet := *f
	if f.Broken != nil {
		quiet.Broken = func(error) {}
	}
	return each(ctx, &quiet, others, work, func(t T) error {
		take(t)
		return nil
	})
}

// Find evaluates the filter on every entry of the file.
func (f *File) Find(ctx context.Context, text string) ([]directory.Entry, error) {
	cond, err := filter.Parse(text)
	if err != nil {
		return nil, err
	}
	return f.fulfilling(ctx, cond)
}

func (f *File) fulfilling(ctx context.Context, cond filter.Filter) ([]directory.Entry, error) {
	d, err := f.dialect(ctx)
	if err != nil {
		return nil, err
	}
	m, err := f.matcher(ctx, cond, d)
	if err != nil {
		return nil, err
	}
	test := func(e *directory.Entry) bool { return m.Match(e) == filter.True }
	if f.ahead >= entriesAhead && f.read == nil && f.Dialect != nil {
		s, found, err := f.survey(ctx, f.Dialect, withTexts, m)
		if err != nil {
			return nil, err
		}
		f.read = s
		return found, nil
	}
	if by := f.finder(); by != nil {
		if found, ok, err := by.Fulfilling(ctx, &cond, d); ok {
			return slices.DeleteFunc(found, func(e directory.Entry) bool { return !test(&e) }), err
		}
	}
	return f.pick(ctx, m.Looks, test)
}

// matcher makes a filter ready for the file's entries. What no schema knows
// the file has to show, and chains of links are followed through all of it,
// so that the file may be read once or twice for that.
func (f *File) matcher(ctx context.Context, cond filter.Filter, d *directory.Dialect) (*filter.Matcher, error) {
	m, err := cond.For(d, nil)
	if err != nil {
		return nil, err
	}
	if foreign := m.Foreign(); len(foreign) > 0 {
		return nil, fmt.Errorf(
			"%s asks for a matching rule that only a server can evaluate: leave the rule out, or ask the server",
			foreign[0])
	}
	if len(m.Unknown()) > 0 {
		if f.carried == nil {
			carried := map[string]bool{}
			if err := again(ctx, f, nil, namesIn, func(names map[string]bool) { maps.Copy(carried, names) }); err != nil {
				return nil, err
			}
			f.carried = carried
		}
		if m, err = cond.For(d, f.carried); err != nil {
			return nil, err
		}
	}
	for _, chain := range m.Chains() {
		err := again(ctx, f, nil, func(records []ldif.Record) (links filter.Links) {
			for i := range records {
				links = append(links, chain.Links(&records[i].Entry)...)
			}
			return links
		}, chain.Tell)
		if err != nil {
			return nil, err
		}
		chain.Done()
	}
	return m, nil
}

// dialect is the dialect of the file's entries: what somebody said, what its
// first entries prove, or else what all of them show.
func (f *File) dialect(ctx context.Context) (*directory.Dialect, error) {
	if f.Dialect == nil && f.read == nil {
		d, sure := f.guess(ctx)
		if sure {
			f.Dialect = d
			return d, nil
		}
		if _, err := f.Survey(ctx); err != nil {
			return nil, err
		}
	}
	if f.Dialect != nil {
		return f.Dialect, nil
	}
	return f.read.Dialect, nil
}

func namesIn(records []ldif.Record) map[string]bool {
	names := map[string]bool{}
	for i := range records {
		for j := range records[i].Attrs {
			name, _, _ := strings.Cut(records[i].Attrs[j].Name, ";")
			names[strings.ToLower(name)] = true
		}
	}
	return names
}

// Select is Find: whoever reads a whole file has all its attributes.
func (f *File) Select(ctx context.Context, text string, _ []string) ([]directory.Entry, error) {
	return f.Find(ctx, text)
}

// Listing picks the entries that have any of the values.
func (f *File) Listing(ctx context.Context, values ...Value) ([]directory.Entry, error) {
	return f.Select(ctx, anyOf(values), nil)
}

// finder finds entries of the file without reading all of it: by the index of a kept
// survey, or by what a survey has remembered. Nil where neither is there.
func (f *File) finder() finder {
	if f.places != nil && f.places.values {
		return f.places
	}
	if f.known != nil && f.indexed == nil {
		if index, err := kept.Open(f.path); err == nil {
			f.indexed = index
		}
	}
	if f.indexed != nil {
		return indexed{f.indexed}
	}
	return nil
}

// Get returns the entries with these names.
func (f *File) Get(ctx context.Context, dns []string) ([]directory.Entry, error) {
	want := make(map[string]bool, len(dns))
	for _, dn := range dns {
		want[directory.FoldDN(dn)] = true
	}
	if by := f.finder(); by != nil {
		return by.Named(ctx, want)
	}
	return f.pick(ctx, noOthers, func(e *directory.Entry) bool { return want[directory.FoldDN(e.DN)] })
}

// Identity looks for the entry at the top of the file's entries; of a kept survey it is
// written down.
func (f *File) Identity(ctx context.Context) (Identity, error) {
	if f.known != nil {
		return *f.known, nil
	}
	s, err := f.Survey(ctx)
	if err != nil {
		return Identity{}, err
	}
	top := s.Base
	if s.Dialect == directory.AD {
		if s.Domain.DN == "" {
			return Identity{}, fmt.Errorf(
				"%s: the entry of the domain itself is missing, so which directory this is cannot be told: export from the domain's base",
				f.name,
			)
		}
		if sid, err := directory.ParseSID(s.Domain.SID); err == nil {
			return Identity{Dialect: s.Dialect.Name, Base: s.Domain.Name, ID: sid}, nil
		}
		top = s.Domain.DN
	}
	found, err := f.Get(ctx, []string{top})
	if err != nil {
		return Identity{}, err
	}
	if len(found) == 0 {
		return Identity{}, fmt.Errorf("%s: no entry %s", f.name, top)
	}
	return identityOf(s.Dialect, &found[0])
}

// Children returns, for each of these names, the names of the entries one
// level below it, in one pass over the file.
func (f *File) Children(ctx context.Context, parents []string) (map[string][]string, error) {
	want, names := make(map[string]string, len(parents)), make(map[string]bool, len(parents))
	for _, dn := range parents {
		name := directory.FoldDN(dn)
		want[name], names[name] = dn, true
	}
	var found []directory.Entry
	var err error
	if by := f.finder(); by != nil {
		found, err = by.Below(ctx, names)
	} else {
		found, err = f.pick(ctx, noOthers, func(e *directory.Entry) bool { return standsBelow(e, names) })
	}
	children := map[string][]string{}
	for i := range found {
		_, p := directory.SplitDN(directory.FoldDN(found[i].DN))
		children[want[p]] = append(children[want[p]], found[i].DN)
	}
	return children, err
}

// Around surveys what judging one entry needs: of a file, everything.
func (f *File) Around(ctx context.Context, _ *directory.Entry) (*directory.Survey, error) {
	return f.Survey(ctx)
}

// Frame is the survey of the file where more than the dialect is needed.
func (f *File) Frame(ctx context.Context, need Need) (*directory.Survey, error) {
	if f.read != nil {
		return f.read, nil
	}
	if need != (Need{}) {
		if need.Accounts {
			f.ahead = max(f.ahead, namesAhead)
		}
		s, err := f.readSurvey(ctx, withoutTexts) // lists look at entries for them
		if err != nil {
			return nil, err
		}
		f.Dialect = s.Dialect
		if s.Partial = true; !need.Accounts || f.places == nil {
			s.Accounts = directory.Accounts{} // a million of them nobody asks for
		}
		return s, nil
	}
	d, err := f.dialect(ctx)
	if err != nil {
		return nil, err
	}
	s := directory.NewSurvey(d)
	s.Source, s.Server, s.Taken, s.Partial = f.name, f.server, f.taken, true
	return s, nil
}

// few is the share of a file, one in so many, up to which single entries are read sooner
// than all of it on all processors.
const few = 4

// Each evaluates the selection on every entry of the file.
func (f *File) Each(
	ctx context.Context, sel Selection, begin func(), make func(*directory.Entry) any, keep func(any),
) error {
	cond, err := filter.Parse(cmp.Or(sel.Filter, "(objectClass=*)"))
	if err != nil {
		return err
	}
	d, err := f.dialect(ctx)
	if err != nil {
		return err
	}
	m, err := f.matcher(ctx, cond, d)
	if err != nil {
		return err
	}
	under := directory.FoldDN(sel.Under)
	meant := func(e *directory.Entry) bool {
		return m.Match(e) == filter.True && (under == "" || directory.Under(directory.FoldDN(e.DN), under))
	}
	begin()
	if f.places != nil && sel.Among != nil && len(sel.Among) < f.places.Len()/few {
		found, err := f.places.keyed(ctx, sel.Among)
		for i := range found {
			if meant(&found[i]) {
				keep(make(&found[i]))
			}
		}
		return err
	}
	var others func(string) bool
	if f.knows(sel.Attributes, cond.Attributes()) {
		others = noOthers
	}
	return again(ctx, f, others, func(records []ldif.Record) (made []any) {
		for i := range records {
			if e := &records[i].Entry; records[i].IsEntry() && meant(e) {
				made = append(made, make(e))
			}
		}
		return made
	}, func(made []any) {
		for _, one := range made {
			keep(one)
		}
	})
}

// knows tells whether reading the attributes that the tool has a use for
// shows all of these. On other schemas than `ad` a name may stand for others,
// and with options.
func (f *File) knows(lists ...[]string) bool {
	for _, names := range lists {
		if len(names) == 0 ||
			slices.ContainsFunc(names,
				func(name string) bool { return directory.LookupAttr(name) == directory.AttrUnknown }) {
			return false
		}
	}
	return f.Dialect == directory.AD || f.read != nil && f.read.Dialect == directory.AD
}

package work

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/klauspost/compress/zstd"

	"yardbroom/internal/audit"
	"yardbroom/internal/directory"
	"yardbroom/internal/reconcile"
	"yardbroom/internal/roster"
	"yardbroom/internal/settings"
	"yardbroom/internal/source"
	"yardbroom/internal/trust"
	"yardbroom/internal/whole"
	"yardbroom/internal/wording"
)

// RosterFrom says which list of people to compare with, and how to read it.
type RosterFrom struct {
	// Where is a file ("-" for standard input) or the https:// address of a SCIM
	// service; "" is the last roster of the yard.
	Where string
	// None compares with no roster, not even the last one.
	None bool
	// TokenFile holds the bearer token for a service in its first line.
	TokenFile string
	Map       map[roster.Field]string // which column is what, by header or number
	Sheet     string                  // of a workbook; "" is the first
	Encoding  string                  // of a text; "" for what the settings say, else to find out
	Dates     string                  // a roster.DateOrder; "" for what the settings say
}

// Roster is a list of people together with where it came from.
type Roster struct {
	*roster.Roster
	About roster.Kept
	// Fresh tells that it was read now, and not kept from an earlier run.
	Fresh bool
}

// ReadRoster returns the roster that is asked for, else the last one of a
// place, nil where there is none. Of one that is named, the place need not be
// known.
func (s *Session) ReadRoster(ctx context.Context, p *Place, from *RosterFrom) (*Roster, error) {
	switch {
	case from.None && from.Where != "":
		return nil, Wrong("--roster and --no-roster exclude each other")
	case from.None:
		return nil, nil
	case from.Where == "":
		return s.keptRoster(ctx, p)
	}
	if s.rosters[from.Where] != nil {
		return s.rosters[from.Where], nil // a comparison asks twice
	}
	opt, err := s.rosterOptions(from)
	if err != nil {
		return nil, err
	}
	r, err := s.fetchRoster(ctx, from, opt)
	if err != nil {
		return nil, err
	}
	for i, bad := range r.Bad {
		if i == 20 {
			s.note("… and %d rows more that could not be read", len(r.Bad)-i)
			break
		}
		s.note("%s: row %d could not be read: %s", r.Source, bad.N, bad.Why)
	}
	if len(r.Rows) == 0 {
		return nil, fmt.Errorf("%s: no row could be read", r.Source)
	}
	read := s.now()
	if from.Where != "-" {
		if info, err := os.Stat(from.Where); err == nil {
			read = info.ModTime().UTC()
		}
	}
	s.rosters[from.Where] = &Roster{r, r.About(read), true}
	return s.rosters[from.Where], nil
}

// rosterOptions are what the settings and a request say of reading a roster.
func (s *Session) rosterOptions(from *RosterFrom) (opt roster.Options, err error) {
	set := &s.Settings.Roster
	opt = roster.Options{
		Map:      from.Map,
		Names:    map[roster.Field][]string{},
		Words:    map[string]roster.Word{},
		Sheet:    from.Sheet,
		Encoding: cmp.Or(from.Encoding, set.Encoding),
		Limits: roster.Limits{
			Octets:  int64(set.MaxSize) << 20,
			Rows:    set.MaxRows,
			Columns: set.MaxColumns,
		},
		Within: time.Duration(set.FetchWithin),
	}
	for name, headers := range set.Columns {
		f, err := roster.ParseField(name)
		if err != nil {
			return opt, Wrong("settings: roster: columns: %w", err)
		}
		opt.Names[f] = headers
	}
	for name, words := range set.Status {
		word := roster.Word(name)
		if !slices.Contains([]roster.Word{roster.WordActive, roster.WordLeave, roster.WordLeft, roster.WordFuture},
			word) {
			return opt, Wrong("settings: roster: status: %q is none of active, leave, left and future", name)
		}
		for _, w := range words {
			opt.Words[w] = word
		}
	}
	where, order := "settings: roster: dates", set.Dates
	if from.Dates != "" {
		where, order = "--dates", from.Dates
	}
	if opt.Dates = roster.DateOrder(order); !slices.Contains(
		[]roster.DateOrder{"", roster.ISO, roster.DayFirst, roster.MonthFirst, roster.YearFirst}, opt.Dates) {
		return opt, Wrong("%s: %q is none of iso, day-first, month-first and year-first", where, order)
	}
	return opt, nil
}

func (s *Session) fetchRoster(ctx context.Context, from *RosterFrom, opt roster.Options) (*roster.Roster, error) {
	if strings.Contains(from.Where, "://") {
		token := ""
		if from.TokenFile != "" {
			text, err := trust.ReadSecret(from.TokenFile)
			if err != nil {
				return nil, fmt.Errorf("--roster-token-file: %w", err)
			}
			token, _, _ = strings.Cut(string(text), "\n")
			token = strings.TrimSpace(token)
		}
		return roster.Fetch(ctx, from.Where, token, opt)
	}
	if from.Where == "-" {
		return roster.Read(s.Stdin, "standard input", opt)
	}
	in, err := os.Open(from.Where)
	if err != nil {
		return nil, fmt.Errorf("--roster %s: %w", from.Where, errors.Unwrap(err))
	}
	defer in.Close()
	return roster.Read(in, from.Where, opt)
}

// rosterFile is where a directory's last roster is kept, and beside it, with
// another ending, who was found to have which account.
func (s *Session) rosterFile(id source.Identity, ending string) string {
	return filepath.Join(s.State, "rosters", yardKey(id)+ending)
}

const (
	rosterEnding = ".roster.zst"
	pairsEnding  = ".pairs.zst"
)

// yardKey stands for a directory in names of files.
func yardKey(id source.Identity) string {
	sum := sha256.Sum256([]byte(id.Dialect + "\x00" + directory.FoldDN(id.Base) + "\x00" + id.ID))
	return hex.EncodeToString(sum[:12])
}

// remembers tells whether any roster is kept at all, without which nothing has
// to be asked of a directory.
func (s *Session) remembers() bool {
	_, err := os.Stat(filepath.Join(s.State, "rosters"))
	return err == nil
}

// rosterOf tells by which directory to look for a kept roster; not ok where
// none is kept, or where nobody can tell which directory this is.
func (s *Session) rosterOf(ctx context.Context, p *Place) (id source.Identity, ok bool) {
	if !s.remembers() {
		return id, false
	}
	id, err := p.Identity(ctx)
	if err != nil {
		slog.Debug("no roster, since which directory this is cannot be told", "why", err)
	}
	return id, err == nil
}

// keptRoster returns the last roster of the yard, nil where there is none.
func (s *Session) keptRoster(ctx context.Context, p *Place) (*Roster, error) {
	id, ok := s.rosterOf(ctx, p)
	if !ok {
		return nil, nil
	}
	var err error
	path := s.rosterFile(id, rosterEnding)
	if s.rosters[path] == nil {
		if s.rosters[path], err = readKept(path, nil); err != nil {
			return nil, err
		}
	}
	return s.rosters[path], nil
}

// readKept reads a roster that keepRoster wrote, or the rows of it that are
// wanted; nil where there is none.
func readKept(path string, want func(*roster.Row) bool) (*Roster, error) {
	list := &Roster{}
	err := unpacked(path, func(in io.Reader) error {
		r, kept, err := roster.ReadKept(in, want)
		if err == nil {
			list.Roster, list.About = r, *kept
		}
		return err
	})
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf(
			"the last roster of the yard, %s: %w (\"yardbroom reconcile --roster\" gives it a new one)", path, err)
	}
	return list, nil
}

func unpacked(path string, read func(io.Reader) error) error {
	file, err := os.Open(path)
	if err != nil {
		return err
	}
	defer file.Close()
	z, err := zstd.NewReader(file)
	if err != nil {
		return err
	}
	defer z.Close()
	return read(z)
}

func packed(path string, write func(io.Writer) error) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	return whole.Write(path, func(w io.Writer) error {
		z, err := zstd.NewWriter(w, zstd.WithEncoderLevel(zstd.SpeedFastest))
		if err != nil {
			return err
		}
		return errors.Join(write(z), z.Close())
	})
}

// keepRoster makes a roster the yard's last one, and keeps who was found to
// have which account.
func (s *Session) keepRoster(id source.Identity, list *Roster, was *predecessor, result *reconcile.Result) error {
	if list.Fresh {
		if err := s.takeOver(id, list, was); err != nil {
			return err
		}
	}
	if err := packed(s.rosterFile(id, pairsEnding), result.Keep); err != nil {
		return fmt.Errorf("keeping the pairs: %w", err)
	}
	return nil
}

// matched finds out who has which account, where there is a roster and a check
// that wants to know.
func (s *Session) matched(
	ctx context.Context, p *Place, q *Question, survey *directory.Survey, asOf time.Time,
) (*reconcile.Result, error) {
	wanted := len(q.Checks) == 0 || slices.ContainsFunc(q.Checks, func(name string) bool {
		c, err := s.Catalog.Named(name)
		return err == nil && (c.ByRoster || c.AlsoByRoster)
	})
	if !wanted && q.Roster.Where == "" {
		return nil, nil
	}
	list, err := s.ReadRoster(ctx, p, &q.Roster)
	if err != nil || list == nil {
		return nil, err
	}
	if !list.Fresh {
		s.note("note: compared with the roster %s of %s, %s; --no-roster leaves it out", list.About.Source,
			list.About.Read.In(p.Zone()).Format(time.DateOnly), wording.Count(list.About.Rows, "row"))
	}
	return s.match(ctx, p, survey, asOf, list, byNames)
}

// How people and accounts are matched.
type matchBy bool

const (
	byNames matchBy = false // by links, keys, and names with what supports them
	byKeys  matchBy = true  // by links and by keys that are exactly alike only
)

func (s *Session) match(
	ctx context.Context, p *Place, survey *directory.Survey, asOf time.Time, list *Roster, by matchBy,
) (*reconcile.Result, error) {
	opt, err := s.matchOptions(ctx, p)
	if err != nil {
		return nil, err
	}
	if list.Fresh && list.Guessed {
		if fitting := list.Fitting(reconcile.Familiar(survey)); fitting != list.Roster {
			list.Roster, list.About = fitting, fitting.About(list.About.Read)
		}
	}
	opt.Strict, opt.Columns = by == byKeys, list.Fields()
	result, err := reconcile.Run(s.peopleOn(list, asOf, p), survey, opt)
	switch strange := (*reconcile.StrangeNames)(nil); {
	case errors.As(err, &strange):
		return nil, fmt.Errorf("%s: %w", list.About.Source, err)
	case err != nil:
		return nil, Wrong("settings: roster: logon_patterns: %w", err)
	}
	return result, nil
}

// peopleOn are the people of a roster on the day of a time, where the yard is.
func (s *Session) peopleOn(list *Roster, asOf time.Time, p *Place) []roster.Person {
	y, m, d := asOf.In(p.Location()).Date()
	return list.People(time.Date(y, m, d, 0, 0, 0, 0, time.UTC), roster.Trust(s.Settings.Roster.Trust == settings.TrustDates))
}

func (s *Session) matchOptions(ctx context.Context, p *Place) (opt reconcile.Options, err error) {
	opt = reconcile.Options{Patterns: s.Settings.Roster.LogonPatterns, Zone: p.Location()}
	if opt.IDs, err = audit.RosterIDs(s.Settings); err != nil {
		return opt, asRequest(err)
	}
	if opt.Second, err = regexp.Compile("(?i)" + s.Settings.Audit.AdminAccountPattern); err != nil {
		return opt, asRequest(s.Settings.Misset(settings.Faulty(err, "audit", "admin_account_pattern")))
	}
	links, err := s.Links(ctx)
	if err != nil {
		return opt, err
	}
	for i := range links {
		opt.Links = append(opt.Links, links[i].decision())
	}
	return opt, nil
}

// known is what the last reconciliation found out about one account, nil where
// there was none.
func (s *Session) known(
	ctx context.Context, p *Place, acc *directory.Account, asOf time.Time,
) (*reconcile.Result, error) {
	id, ok := s.rosterOf(ctx, p)
	if !ok {
		return nil, nil
	}
	opt, err := s.matchOptions(ctx, p)
	if err != nil {
		return nil, err
	}
	found, list, err := s.remembered(id, opt.Links, acc.ID)
	if err != nil || list == nil {
		return nil, err
	}
	return found[acc.ID].Again(s.peopleOn(list, asOf, p), acc, opt), nil
}

// remembered is what the last reconciliation of a directory, and what people
// have decided since, say of some accounts; and those people of its roster who
// are meant. The roster is nil where there was none.
func (s *Session) remembered(
	id source.Identity, links []reconcile.Link, accounts ...string,
) (map[string]*reconcile.Known, *Roster, error) {
	var found map[string]*reconcile.Known
	err := unpacked(s.rosterFile(id, pairsEnding), func(in io.Reader) (err error) {
		found, err = reconcile.Recall(in, accounts...)
		return err
	})
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil, nil
	}
	if err != nil {
		return nil, nil, err
	}
	meant := map[string]bool{}
	for _, account := range accounts {
		found[account] = decidedSince(found[account], account, links)
		for _, who := range found[account].People {
			meant[reconcile.RowKey(who)] = true
		}
	}
	list, err := readKept(s.rosterFile(id, rosterEnding), func(row *roster.Row) bool {
		return meant[reconcile.PersonKey(&roster.Person{Values: row.Values})]
	})
	return found, list, err
}

// decidedSince is what is known of an account after what people have decided.
func decidedSince(k *reconcile.Known, account string, links []reconcile.Link) *reconcile.Known {
	if k == nil {
		k = &reconcile.Known{Account: account}
	}
	for _, l := range links {
		switch {
		case l.Account != account:
		case !l.Rejected:
			k = &reconcile.Known{Account: account, By: reconcile.ByLink, Score: 1, People: []string{l.Person}}
		case k.By != "" && k.By != reconcile.ByLink && slices.Contains(k.People, l.Person):
			k = &reconcile.Known{Account: account}
		}
	}
	return k
}

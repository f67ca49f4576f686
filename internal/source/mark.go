package source

import (
	"context"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"

	"yardbroom/internal/directory"
)

// Mark is where a reading of a directory stands, so that a later one may ask only
// for what has changed since.
type Mark struct {
	// How changes are asked for.
	How MarkKind `json:"how"`
	// Server is the database of the server whose mark it is; no other one counts alike.
	Server string `json:"server,omitempty"`
	// At is the server's number, or its cookie in base64; "" where Time is all there is.
	At string `json:"at,omitempty"`
	// Until is the server's number when the reading was over, where it has one: what bears a
	// number up to it changed while the survey was taken.
	Until string `json:"until,omitempty"`
	// Changing are the identities of what changed while the survey was taken, where the
	// server says that by a cookie.
	Changing []string `json:"changing,omitempty"`
	// Unseen are folded names that back links show, as of groups that somebody is in, of
	// entries that are not shown themselves.
	Unseen []string `json:"unseen,omitempty"`
	// Time is when the reading began, by the clock of the server where it tells one.
	Time time.Time `json:"time"`
	// Reader stands for who read, with which groups, and which attributes were asked for.
	Reader string `json:"reader"`
}

// MarkKind is a way to ask for changes.
type MarkKind string

const (
	// ByNumber asks for update sequence numbers (uSNChanged, MS-ADTS 3.1.1.1.9).
	ByNumber MarkKind = "number"
	// ByCookie asks for what has changed since a cookie (RFC 4533).
	ByCookie MarkKind = "cookie"
	// ByTime asks for modification times (modifyTimestamp, RFC 4512, section 3.4).
	ByTime MarkKind = "time"
)

// clockSkew is how far two clocks may be apart.
const clockSkew = time.Hour

// mark tells where the directory stands now. The reading that is to be found again by it
// has to begin afterwards. Err says why there is no mark.
func (s *Server) mark(ctx context.Context) (*Mark, error) {
	if directory.FoldDN(s.Base) != directory.FoldDN(s.Top()) {
		// A group outside that is renamed, or names somebody inside, shows there.
		return nil, wholly("the base is only a part of %s, and what changes elsewhere shows in it", s.Top())
	}
	m := &Mark{How: ByTime, Time: s.target.now().UTC()}
	reader, err := s.readerMark(ctx)
	if err != nil {
		return nil, err
	}
	m.Reader = reader
	if s.syncs() {
		m.How = ByCookie // it comes with what has changed, or before everything is read
	}
	if s.Dialect != directory.AD {
		return m, nil
	}
	m.How = ByNumber
	var service string
	if m.At, err = s.number(ctx, func(root *directory.Entry) {
		service = root.First("dsServiceName")
		if t, err := directory.ParseGeneralizedTime(root.First("currentTime")); err == nil {
			m.Time = t
		}
	}); err != nil {
		return nil, err
	}
	if service == "" {
		return nil, wholly("the server does not say which database it counts for")
	}
	_, err = s.Search(ctx, Query{Base: service, Scope: ldap.ScopeBaseObject, Attributes: []string{"invocationId"}},
		func(page []directory.Entry) error {
			for i := range page {
				m.Server = hex.EncodeToString([]byte(page[i].First("invocationId")))
			}
			return nil
		})
	if ignoreHidden(err) != nil && !errors.Is(err, ErrNotFound) {
		return nil, err
	}
	if m.Server == "" {
		return nil, wholly("the server does not say which database it counts for")
	}
	return m, nil
}

// number is the highest number that a server of the `ad` schema has given to a change.
func (s *Server) number(ctx context.Context, take func(root *directory.Entry)) (at string, err error) {
	_, err = s.Search(ctx, Query{Base: "", Scope: ldap.ScopeBaseObject,
		Attributes: []string{"highestCommittedUSN", "dsServiceName", "currentTime"}}, func(page []directory.Entry) error {
		for i := range page {
			at = page[i].First("highestCommittedUSN")
			take(&page[i])
		}
		return nil
	})
	if err != nil {
		return "", err
	}
	if _, err := strconv.ParseUint(at, 10, 63); err != nil {
		return "", wholly("the server does not number its changes")
	}
	return at, nil
}

// over writes down that the reading is at its end.
func (s *Server) over(ctx context.Context, m *Mark) (err error) {
	switch {
	case m != nil && m.How == ByNumber:
		m.Until, err = s.number(ctx, func(*directory.Entry) {})
	case m != nil && m.How == ByCookie:
		cookie, err := base64.StdEncoding.DecodeString(m.At)
		if err != nil {
			return err
		}
		y, err := s.refresh(ctx, cookie)
		if err != nil {
			return err
		}
		m.Changing = slices.AppendSeq(slices.Collect(maps.Keys(y.changed)), maps.Keys(y.gone))
		slices.Sort(m.Changing)
	}
	return err
}

// readerMark stands for who reads, and what is asked for.
func (s *Server) readerMark(ctx context.Context) (string, error) {
	parts := append([]string{s.Bound, directory.FoldDN(s.Base), s.Dialect.Name}, s.Dialect.Attributes(s.target.Keep)...)
	if s.Dialect == directory.AD {
		reader, err := s.newReader(ctx)
		if err != nil {
			return "", err
		}
		if reader == nil {
			return "", s.unlisted()
		}
		parts = append(parts, slices.Sorted(slices.Values(s.token))...)
	}
	sum := sha256.Sum256([]byte(strings.Join(parts, "\x00")))
	return hex.EncodeToString(sum[:16]), nil
}

// unlisted says that nobody can tell what the bound account may read.
func (s *Server) unlisted() error {
	return wholly("the access lists of this directory cannot be read, so what is hidden from %s cannot be followed", s.boundName())
}

// whollyError says why everything has to be read.
type whollyError struct{ why string }

func (e *whollyError) Error() string { return e.why }

func wholly(format string, args ...any) error { return &whollyError{fmt.Sprintf(format, args...)} }

// stamp is the attribute that changes whenever an entry does.
func stamp(d *directory.Dialect) string {
	if d == directory.AD {
		return "uSNChanged"
	}
	return "modifyTimestamp"
}

// unsaid are the attributes, by dialect, that come and go with sign-ins and password
// errors without the server saying that the entry has changed.
var unsaid = map[*directory.Dialect][]string{
	directory.OpenLDAP: {"pwdAccountLockedTime", "pwdFailureTime", "pwdGraceUseTime"},
	directory.NS389:    {"accountUnlockTime", "passwordRetryCount", "retryCountResetTime", "passwordGraceUserTime"},
}

// signedIn are the attributes, by dialect, that sign-ins and failed ones are dated by.
var signedIn = map[*directory.Dialect][]string{
	directory.AD:       {"lastLogon", "badPasswordTime"},
	directory.OpenLDAP: {"pwdLastSuccess", "authTimestamp"},
	directory.NS389:    {"lastLoginTime"},
}

// restless tells of an entry that its values may change without the server saying so, so
// that it has to be read each time: of one that shows no mark of its changes; that is
// locked, or was refused; that counts on for itself, as a server's pool of RIDs does, or its place in
// replication; or
// whose members are worked out.
func restless(d *directory.Dialect, mark *Mark) func(*directory.Entry) bool {
	return func(e *directory.Entry) bool {
		if unmarked(d, mark, e) || e.Has("memberURL") || e.Has("rIDNextRID") || e.Has("contextCSN") {
			return true
		}
		if d == directory.AD {
			locked := e.First("lockoutTime")
			return locked != "" && locked != "0" || e.HasClass("dynamicObject") // which goes without a trace
		}
		return slices.ContainsFunc(unsaid[d], e.Has)
	}
}

// unmarked tells of an entry that it does not show by what the server knows that it has
// changed: slapd says without a word nothing of those that hide their change sequence
// number from whoever has a cookie.
func unmarked(d *directory.Dialect, mark *Mark, e *directory.Entry) bool {
	byNumber := d == directory.OpenLDAP && mark != nil && mark.How == ByCookie
	return !e.Has(stamp(d)) || byNumber && !e.Has("entryCSN")
}

// changedFilter selects what may have changed since a mark, wherever it stands; late is
// how late a change may come that was made elsewhere.
func (m *Mark) changedFilter(late time.Duration) string {
	if m.How == ByNumber {
		n, _ := strconv.ParseUint(m.At, 10, 63) // it was checked
		return fmt.Sprintf("(uSNChanged>=%d)", n+1)
	}
	// What was changed on another server may come late, with the time of its change.
	return "(modifyTimestamp>=" + generalized(m.Time.Add(-late)) + ")"
}

// generalizedAD writes a time as servers of the `ad` schema compare it.
func generalizedAD(t time.Time) string { return t.UTC().Format("20060102150405.0Z") }

func generalized(t time.Time) string { return t.UTC().Format("20060102150405Z") }

// unsaidFilter selects the entries whose values may have changed since a mark without
// the server saying so: by a sign-in, by a failed one, or by time that has gone by, of
// passwords that expire at some ages.
func (s *Server) unsaidFilter(ctx context.Context, m *Mark, now time.Time, ages []time.Duration) (string, error) {
	since := m.Time.Add(-clockSkew)
	var b strings.Builder
	b.WriteString("(|")
	for _, attr := range signedIn[s.Dialect] {
		orders, err := s.evaluates(ctx, attr, true)
		switch {
		case err != nil:
			return "", err
		case s.Dialect == directory.AD:
			b.WriteString("(" + attr + ">=" + directory.FormatFileTime(since) + ")")
		case orders:
			b.WriteString("(" + attr + ">=" + generalized(since) + ")")
		default:
			b.WriteString("(" + attr + "=*)")
		}
	}
	for _, attr := range unsaid[s.Dialect] {
		b.WriteString("(" + attr + "=*)")
	}
	if s.Dialect == directory.AD {
		// Whether somebody is locked out, and whether the password has expired, are
		// worked out at each moment.
		// What does not show its number cannot be asked for by it.
		b.WriteString("(lockoutTime>=1)(!(uSNChanged=*))")
		for _, age := range ages {
			b.WriteString("(&(pwdLastSet>=" + directory.FormatFileTime(since.Add(-age)) + ")(pwdLastSet<=" +
				directory.FormatFileTime(now.Add(clockSkew-age)) + "))")
		}
	}
	b.WriteString(")")
	return b.String(), nil
}

// passwordSettings are the ages at which passwords expire in a domain of the `ad` schema,
// that of the domain and those of its password settings objects (MS-ADTS 3.1.1.4.5.36), and
// whether there are any of these.
func (s *Server) passwordSettings(ctx context.Context) (ages []time.Duration, objects bool, err error) {
	if s.Dialect != directory.AD {
		return nil, false, nil
	}
	_, err = s.Search(ctx, Query{Base: s.Top(), Scope: ldap.ScopeWholeSubtree,
		Filter:     "(|(objectClass=domainDNS)(objectClass=msDS-PasswordSettings))",
		Attributes: []string{"objectClass", "maxPwdAge", "msDS-MaximumPasswordAge"}}, func(page []directory.Entry) error {
		for i := range page {
			objects = objects || !page[i].HasClass("domainDNS")
			for _, name := range []string{"maxPwdAge", "msDS-MaximumPasswordAge"} {
				ticks, err := strconv.ParseInt(page[i].First(name), 10, 64)
				// Negative, in 100 ns; 0 and the lowest number mean never.
				if err == nil && ticks < 0 && ticks > -int64(100*365*24*time.Hour/100) {
					ages = append(ages, time.Duration(-ticks)*100)
				}
			}
		}
		return nil
	})
	return ages, objects, err
}

// notBefore is an error where a server counts less than it did.
func (m *Mark) notBefore(last *Mark) error {
	if m.How != ByNumber {
		return nil
	}
	now, _ := strconv.ParseUint(m.At, 10, 63) // it was checked
	then, err := strconv.ParseUint(last.At, 10, 63)
	if err != nil || now < then {
		return wholly("the server has counted fewer changes than before: it was restored from a backup")
	}
	return nil
}

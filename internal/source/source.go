// Package source reads entries: from LDAP servers, from LDIF files, and from
// kept surveys. Whatever they come from, the rest of the tool sees a
// directory.Survey and directory entries.
package source

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/go-ldap/ldap/v3"

	"yardbroom/internal/directory"
	"yardbroom/internal/filter"
)

// Source is a place that entries come from.
type Source interface {
	// Survey reads everything once, for judging.
	Survey(ctx context.Context) (*directory.Survey, error)
	// Around surveys as much as judging one entry needs. Its accounts are
	// that one, and perhaps others.
	Around(ctx context.Context, e *directory.Entry) (*directory.Survey, error)
	// Frame surveys what judging entries needs besides them: the domain, the
	// policies, and what else is asked for. Its accounts, if it has any, are
	// not all there are.
	Frame(ctx context.Context, need Need) (*directory.Survey, error)
	// Each makes something of each entry of a selection, and hands it over,
	// one after the other. make may run on several goroutines at once, and
	// must not keep its entry or strings of it. begin is called before the
	// first entry, and again where reading has to start anew.
	Each(ctx context.Context, sel Selection, begin func(), make func(*directory.Entry) any, keep func(any)) error
	// Find returns whole entries that an RFC 4515 filter selects.
	Find(ctx context.Context, filter string) ([]directory.Entry, error)
	// Select returns at least the named attributes of the entries that a
	// filter selects, from the whole directory.
	Select(ctx context.Context, filter string, attributes []string) ([]directory.Entry, error)
	// Get returns the whole entries with these names, in any order; names
	// that do not exist are left out.
	Get(ctx context.Context, dns []string) ([]directory.Entry, error)
	// Children returns, for each of these names, the names of the entries
	// one level below it.
	Children(ctx context.Context, parents []string) (map[string][]string, error)
	// Listing returns what is to be known of the entries of the whole
	// directory that have any of some values: their names, what they are, and
	// those values.
	Listing(ctx context.Context, values ...Value) ([]directory.Entry, error)
	// Identity tells which directory this is, so that what was decided on
	// one is never done to another.
	Identity(ctx context.Context) (Identity, error)
	// Where names the source for people.
	Where() string
	Close() error
}

// Need says what a frame has to hold.
type Need struct {
	Policies bool // the domain and the password policies
	Groups   bool // all groups with their members
	SignIns  bool // what other servers know of sign-ins
	// Accounts asks for them too, to choose among them before their entries are read, where
	// that spares a reading. Whoever asks has to drop them.
	Accounts bool
}

// groupClasses are the classes of groups, of every dialect.
var groupClasses = []string{"group", "groupOfNames", "groupOfUniqueNames", "posixGroup"}

// GroupFilter selects the groups of every dialect.
var GroupFilter = "(|(objectClass=" + strings.Join(groupClasses, ")(objectClass=") + "))"

// IsGroup tells whether an entry is a group, by its classes.
func IsGroup(e *directory.Entry) bool { return slices.ContainsFunc(groupClasses, e.HasClass) }

// accountClasses are the classes of entries that may sign in, of every dialect.
var accountClasses = []string{"user", "computer", "inetOrgPerson", "posixAccount", "account"}

// AccountFilter selects the accounts of every dialect, and perhaps more.
var AccountFilter = "(|(objectClass=" + strings.Join(accountClasses, ")(objectClass=") + "))"

// IsAccount tells whether an entry may be an account, by its classes.
func IsAccount(e *directory.Entry) bool { return slices.ContainsFunc(accountClasses, e.HasClass) }

// GroupsCalled finds groups by a DN, or by one of their names.
func GroupsCalled(ctx context.Context, from Source, name string) ([]directory.Entry, error) {
	if directory.IsDN(name) {
		return from.Get(ctx, []string{name})
	}
	v := EscapeFilter(name)
	return from.Find(ctx, "(&"+GroupFilter+"(|(cn="+v+")(sAMAccountName="+v+")))")
}

// Selection says which entries are meant, and what of them.
type Selection struct {
	Filter     string   // RFC 4515; "" means every entry
	Under      string   // only what stands at or below this name
	Attributes []string // at least these; none means all that are stored
	// Rights asks to write down with each entry what of it may not be read.
	Rights bool
	// Among are keys of the names of all entries that can be meant, where these are known;
	// nil otherwise. Others may be handed over too.
	Among map[directory.Key]bool
}

// Identity tells one directory from another: the domain's SID on the `ad`
// schema, elsewhere the naming context and the identity of its top entry.
type Identity struct {
	Dialect string `json:"dialect"`
	Base    string `json:"base"`
	ID      string `json:"id"` // S-1-5-21-…, or an entryUUID
}

// Same tells whether two identities are of one directory.
func (i Identity) Same(o Identity) bool {
	return i.Dialect == o.Dialect && i.ID != "" && i.ID == o.ID && directory.FoldDN(i.Base) == directory.FoldDN(o.Base)
}

func (i Identity) String() string { return fmt.Sprintf("%s (%s)", i.Base, i.ID) }

// identityOf reads the identity from the entry at the top of a directory.
func identityOf(d *directory.Dialect, top *directory.Entry) (Identity, error) {
	id := Identity{Dialect: d.Name, Base: top.DN}
	if d == directory.AD {
		sid, err := directory.ParseSID(top.First("objectSid"))
		if err != nil {
			return id, fmt.Errorf("the domain entry %q shows no objectSid, so which directory this is cannot be told",
				top.DN)
		}
		id.ID = sid
		return id, nil
	}
	if id.ID = top.First(d.Identity.String()); id.ID == "" {
		return id, fmt.Errorf("the top entry %q shows no %s, so which directory this is cannot be told", top.DN,
			d.Identity)
	}
	return id, nil
}

// AtOnce returns how many of n names one question to a source should hold:
// so many at a server, which limits what it takes; of a file, which is read
// once for each question, all of them.
func AtOnce(from any, server, n int) int {
	if _, live := from.(*Server); live {
		return server
	}
	return max(n, 1)
}

// EscapeFilter escapes a value for an RFC 4515 filter.
func EscapeFilter(value string) string { return filter.Escape(value) }

// ErrNotFound is the error for an entry that is not there.
var ErrNotFound = errors.New("no such entry")

// missingError is ErrNotFound from a server.
type missingError struct {
	dn, url string
	matched string // the nearest entry above it that the server names, "" for none
}

func (e *missingError) Error() string { return fmt.Sprintf("%s: %s on %s", ErrNotFound, e.dn, e.url) }
func (e *missingError) Unwrap() error { return ErrNotFound }

func notFound(err error, dn, url string) error {
	missing := &missingError{dn: dn, url: url}
	var answer *ldap.Error
	if errors.As(err, &answer) {
		missing.matched = answer.MatchedDN
	}
	return missing
}

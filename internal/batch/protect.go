package batch

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"yardbroom/internal/audit"
	"yardbroom/internal/directory"
	"yardbroom/internal/privilege"
	"yardbroom/internal/settings"
	"yardbroom/internal/source"
)

// Reader reads entries: a source, or a server.
type Reader = privilege.Reader

// Protection says which entries must not be changed, whoever asks.
type Protection struct {
	Dialect         *directory.Dialect
	Scope, LeaveOut []string // folded DNs
	Bound           []string // what the account that is bound may be called
	Exempt          []audit.Exemption
	At              time.Time // for the end of exemptions
	// Returning tells that what a ladder did is taken back: then an exemption is
	// why an account returns, and does not keep it from that.
	Returning bool
	Places    Places
	// Named are the folded DNs of the groups that the settings call privileged:
	// under another name they would be so no longer.
	Named []string

	conditions []condition // which a server has to be asked about, see Unsure
}

// Places are the containers that a directory itself names as the place for
// something (wellKnownObjects, MS-ADTS 6.1.1.4), by their keys, with the
// GUIDs in hexadecimal that say for what. Hidden tells that the domain's entry
// does not show them.
type Places struct {
	known  map[directory.Key]string
	Hidden bool
}

// ReadPlaces reads the places from the domain's entry. Other dialects than
// `ad` have none.
func ReadPlaces(ctx context.Context, from Reader, d *directory.Dialect, base string) (Places, error) {
	p := Places{known: map[directory.Key]string{}}
	if d != directory.AD {
		return p, nil
	}
	found, err := from.Get(ctx, []string{base})
	if err != nil {
		return p, fmt.Errorf("reading the domain's own containers: %w", err)
	}
	p.Hidden = true
	for i := range found {
		for _, v := range slices.Concat(found[i].Get("wellKnownObjects"), found[i].Get("otherWellKnownObjects")) {
			if guid, place, ok := directory.ParsePlace(v); ok {
				p.known[directory.KeyOf(place)], p.Hidden = guid, false
			}
		}
	}
	return p, nil
}

// openPlaces are those that entries may be moved into.
var openPlaces = []string{directory.PlaceUsers, directory.PlaceComputers, directory.PlaceManagedAccounts}

// closed tells whether a container, or one above it, is a place that nothing
// may be moved into.
func (p *Places) closed(container string) bool {
	for dn := container; dn != ""; _, dn = directory.SplitDN(dn) {
		if strings.HasPrefix(directory.FoldDN(dn), "cn=policies,cn=system,") {
			return false // where deleted policies come back to
		}
		if guid, known := p.known[directory.KeyOf(dn)]; known && !slices.Contains(openPlaces, guid) {
			return true
		}
		if systemName(dn) {
			return true
		}
	}
	return false
}

// systemName knows the containers of the directory's own by their names, which
// no translation changes, whether or not the domain's entry shows them.
func systemName(dn string) bool {
	rdn, _ := directory.SplitDN(directory.FoldDN(dn))
	return slices.Contains([]string{"ou=domain controllers", "cn=adminsdholder", "cn=builtin", "cn=system"}, rdn)
}

// NewProtection collects what protects the entries of a directory. Named are
// the groups that the settings call privileged, bound the names of the account
// that is bound.
func NewProtection(
	ctx context.Context, from Reader, id source.Identity, yard *settings.Yard, named []string, exempt []audit.Exemption,
	at time.Time, bound ...string,
) (Protection, error) {
	d, err := directory.DialectNamed(id.Dialect)
	if err != nil {
		return Protection{}, err
	}
	p := Protection{
		Dialect:  d,
		Scope:    directory.FoldAll(yard.Scope),
		LeaveOut: directory.FoldAll(yard.LeaveOut),
		Bound:    bound,
		Exempt:   exempt,
		At:       at,
		Named:    directory.FoldAll(named),
	}
	if p.Places, err = ReadPlaces(ctx, from, d, id.Base); err != nil {
		return p, err
	}
	p.conditions, err = conditionsOf(ctx, from, &p)
	return p, err
}

// Why returns the reason why an entry is protected from some actions, "" where
// it is not.
func (p *Protection) Why(e *directory.Entry, actions []string) string {
	a := p.Dialect.Account(e)
	if why := p.own(e, &a); why != "" {
		return why
	}
	if i := slices.IndexFunc(actions, func(name string) bool { return !mayChange(&a, e, name) }); i >= 0 {
		return fmt.Sprintf("%s is not for an entry of this kind (%s)", actions[i], a.Kind)
	}
	if a.ID == "" {
		return "its " + p.Dialect.Identity.String() + " cannot be read, so it could not be found again for certain"
	}
	if p.Returning {
		return p.reach(e)
	}
	return p.bounds(e, &a)
}

// Along returns the reason why an entry must not be moved along with the one
// above it, "" where it may.
func (p *Protection) Along(e *directory.Entry) string {
	a := p.Dialect.Account(e)
	if why := p.own(e, &a); why != "" {
		return why
	}
	return p.bounds(e, &a)
}

// Written returns the reason why an attribute of another entry than a line's
// own must not be written, "" where it may. Who is in a built-in group is for
// signatures to decide.
func (p *Protection) Written(e *directory.Entry, attr string) string {
	a := p.Dialect.Account(e)
	if !IsMembership(attr) {
		if why := p.own(e, &a); why != "" {
			return why
		}
	}
	return p.bounds(e, &a)
}

// Into returns the reason why nothing must be put into a container under a
// name, "" where it may.
func (p *Protection) Into(rdn, container string) string {
	switch dn := rdn + "," + container; {
	case p.Places.closed(container):
		return container + " is one of the directory's own containers, which nothing is put into"
	case !directory.InScope(dn, p.Scope, p.LeaveOut):
		return container + " is outside the yard's scope, and what is put there could not be taken back (the settings' scope and leave_out say what is inside)"
	case !p.Returning:
		if why := audit.Why(p.Exempt, p.At, dn, ""); why != "" {
			return "its place there: " + why
		}
	}
	return ""
}

// own tells why an entry is the directory's own, or another system's, by what
// it is. Built in is decided by its number and place, not only by a mark that
// may be hidden; what cannot be told since an attribute is hidden is protected.
func (p *Protection) own(e *directory.Entry, a *directory.Account) string {
	switch {
	case a.Kind == directory.KindTrust:
		return "it is the account of a trust between domains"
	case a.BuiltIn, a.RID != 0 && a.RID < firstOwnRID, p.isPlace(e.DN):
		return "it is a built-in or system entry"
	case a.Kind == directory.KindResource:
		return "it is the mailbox of a room, a machine or a team, disabled by design"
	case a.Kind == directory.KindComputer && domainController(a, e):
		return "it is a domain controller"
	case a.Kind == directory.KindPolicyContainer && builtInPolicy(e.DN):
		return "it is one of the two policies that every domain has"
	case a.Kind == directory.KindForeign:
		return "it stands for an identity of another domain, or for everybody"
	case p.Dialect == directory.AD && a.RID == 0 && (a.Kind.IsAccount() || a.Kind == directory.KindGroup):
		return "its objectSid cannot be read, so whether it is built in cannot be told"
	case p.Places.Hidden && a.Kind == directory.KindOU:
		return "the domain's entry does not show wellKnownObjects, so whether it is a container of the directory's own cannot be told"
	case a.Kind == directory.KindComputer && !a.FlagsKnown && a.PrimaryGroup == 0:
		return "neither userAccountControl nor primaryGroupID can be read, so whether it is a domain controller cannot be told"
	}
	return infrastructureMark(e)
}

// firstOwnRID is the first number that a domain gives to entries of its
// administrators; those below are the directory's own (MS-DTYP 2.4.2.4).
const firstOwnRID = 1000

// isPlace tells whether an entry is itself one of the directory's own places.
func (p *Protection) isPlace(dn string) bool {
	_, known := p.Places.known[directory.KeyOf(dn)]
	return known || p.Dialect == directory.AD && systemName(dn)
}

// bounds tells why an entry is left alone because somebody wants it so.
func (p *Protection) bounds(e *directory.Entry, a *directory.Account) string {
	if why := p.reach(e); why != "" {
		return why
	}
	return audit.Why(p.Exempt, p.At, e.DN, a.Logon)
}

// reach tells why an entry is out of reach, whatever exemptions say.
func (p *Protection) reach(e *directory.Entry) string {
	if p.isBound(e) {
		return "it is the account that yardbroom itself is bound as"
	}
	if !directory.InScope(e.DN, p.Scope, p.LeaveOut) {
		return "it is outside the yard's scope"
	}
	return ""
}

// changeable are the actions on entries that are no accounts.
var changeable = map[directory.Kind][]string{
	directory.KindGroup: {
		Describe,
		Unmark,
		Mark,
		JoinGroup,
		LeaveGroup,
		LeaveGroups,
		Move,
		Delete,
		Set,
		Add,
		Clear,
		Fill,
		PutBack,
		Restore,
	},
	directory.KindContact: {
		Describe,
		JoinGroup,
		LeaveGroup,
		LeaveGroups,
		Move,
		Delete,
		Set,
		Add,
		Clear,
		Fill,
		PutBack,
		Restore,
	},
	directory.KindOU:              {Describe, Delete, Set, Add, Clear, Fill, PutBack, Restore},
	directory.KindPolicyContainer: {Delete, Restore},
}

// mayChange tells whether an action is for entries of a kind. A part of a
// policy goes with its policy.
func mayChange(a *directory.Account, e *directory.Entry, action string) bool {
	kind := a.Kind
	if policyPart(e) {
		kind = directory.KindPolicyContainer
	}
	return kind.IsAccount() || slices.Contains(changeable[kind], action)
}

// policyPart tells whether an entry is one of the containers below a group
// policy, which stands in CN=Policies.
func policyPart(e *directory.Entry) bool {
	_, policy := directory.SplitDN(e.DN)
	_, policies := directory.SplitDN(policy)
	return e.HasClass("container") && strings.HasPrefix(directory.LeafValue(policy), "{") &&
		strings.EqualFold(directory.LeafValue(policies), "Policies") &&
		!builtInPolicy(policy)
}

// The names of the domain's own policies (MS-GPOL 2.2.1.2).
var builtInPolicies = []string{"{31B2F340-016D-11D2-945F-00C04FB984F9}", "{6AC1786C-016F-11D2-945F-00C04FB984F9}"}

func builtInPolicy(dn string) bool {
	return slices.ContainsFunc(builtInPolicies,
		func(name string) bool { return strings.EqualFold(name, directory.LeafValue(dn)) })
}

func domainController(a *directory.Account, e *directory.Entry) bool {
	return a.Flags&(directory.UACDomainController|directory.UACReadOnlyDC) != 0 ||
		slices.Contains([]string{"516", "521"}, e.First("primaryGroupID"))
}

// infrastructureMark finds the marks that clusters and mail systems leave on
// the accounts they live from.
func infrastructureMark(e *directory.Entry) string {
	for _, name := range e.Get("servicePrincipalName") {
		for _, prefix := range []string{"MSClusterVirtualServer/", "MSServerCluster/", "MSServerClusterMgmtAPI/"} {
			if len(name) > len(prefix) && strings.EqualFold(name[:len(prefix)], prefix) {
				return "it belongs to a cluster (" + name + ")"
			}
		}
	}
	logon := strings.ToLower(e.First("sAMAccountName"))
	for _, prefix := range []string{"healthmailbox", "systemmailbox", "federatedemail", "discoverysearchmailbox", "migration."} {
		if strings.HasPrefix(logon, prefix) &&
			(e.Has("msExchRecipientTypeDetails") || e.Has("msExchMailboxGuid") || e.Has("homeMDB")) {
			return "it is one of the mail system's own accounts"
		}
	}
	for _, class := range e.Get("objectClass") {
		if strings.HasPrefix(strings.ToLower(class), "msexch") {
			return "it is one of the mail system's own entries (" + class + ")"
		}
	}
	return ""
}

func (p *Protection) isBound(e *directory.Entry) bool {
	names := []string{e.First("sAMAccountName"), e.First("userPrincipalName"), e.First("uid"), e.First("mail")}
	for _, b := range p.Bound {
		if b == "" {
			continue
		}
		if directory.FoldDN(b) == directory.FoldDN(e.DN) {
			return true
		}
		// DOMAIN\name and name@REALM name the account too.
		short := b
		if _, after, ok := strings.Cut(b, `\`); ok {
			short = after
		}
		at, _, _ := strings.Cut(short, "@")
		for _, n := range names {
			if n != "" && (strings.EqualFold(n, b) || strings.EqualFold(n, short) || strings.EqualFold(n, at)) {
				return true
			}
		}
	}
	return false
}

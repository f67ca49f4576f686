package batch

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"yardbroom/internal/audit"
	"yardbroom/internal/directory"
)

// Protection says which entries must not be changed, whoever asks.
type Protection struct {
	Dialect         *directory.Dialect
	Scope, LeaveOut []string // folded DNs
	Bound           []string // what the account that is bound may be called
	Exempt          []audit.Exemption
	At              time.Time // for the end of exemptions
}

// Why returns the reason why an entry is protected, "" where it is not.
func (p *Protection) Why(e *directory.Entry) string {
	a := p.Dialect.Account(e)
	switch {
	case a.Kind == directory.KindTrust:
		return "it is the account of a trust between domains"
	case a.BuiltIn:
		return "it is a built-in or system entry"
	case a.Kind == directory.KindResource:
		return "it is the mailbox of a room, a machine or a team, disabled by design"
	case a.Kind == directory.KindComputer && domainController(&a, e):
		return "it is a domain controller"
	case !a.Kind.IsAccount():
		return "it is not an account"
	case a.ID == "":
		return "its " + p.Dialect.Identity.String() + " cannot be read, so it could not be found again for certain"
	}
	if mark := infrastructureMark(e); mark != "" {
		return mark
	}
	if p.isBound(e) {
		return "it is the account that yardbroom itself is bound as"
	}
	if !directory.InScope(e.DN, p.Scope, p.LeaveOut) {
		return "it is outside the yard's scope"
	}
	return audit.Why(p.Exempt, p.At, e.DN, a.Logon)
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
		if strings.HasPrefix(logon, prefix) && (e.Has("msExchRecipientTypeDetails") || e.Has("msExchMailboxGuid") || e.Has("homeMDB")) {
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

// Reader reads entries: a source, or a server.
type Reader interface {
	Select(ctx context.Context, filter string, attributes []string) ([]directory.Entry, error)
	Get(ctx context.Context, dns []string) ([]directory.Entry, error)
}

// Privilege knows who belongs to the privileged groups of a directory.
type Privilege struct {
	Groups []PrivilegedGroup
	// Judged tells whether the groups could be read at all. On the `ad`
	// schema those of the administrators (RID 512 and 544) must be there.
	Judged bool
}

// PrivilegedGroup is one of them, with everybody it reaches.
type PrivilegedGroup struct {
	Name, DN string
	Members  map[string]*Member // by folded DN
}

// Member is an account in a privileged group.
type Member struct {
	DN      string
	Enabled bool
}

// ReadPrivilege reads the groups and their members. On dialects without SIDs
// only the groups that the settings name are privileged.
func ReadPrivilege(ctx context.Context, from Reader, d *directory.Dialect, named []string, at time.Time) (*Privilege, error) {
	groups, err := from.Select(ctx, "(|(objectClass=group)(objectClass=groupOfNames)(objectClass=groupOfUniqueNames))", []string{"objectSid", "member", "uniqueMember"})
	if err != nil {
		return nil, fmt.Errorf("reading the groups: %w", err)
	}
	byDN := map[string]*directory.Entry{}
	for i := range groups {
		byDN[directory.FoldDN(groups[i].DN)] = &groups[i]
	}
	p := &Privilege{}
	rids := map[uint32]bool{}
	for i := range groups {
		g := &groups[i]
		rids[directory.RID(g.First("objectSid"))] = true
		if !isPrivileged(g) && !slices.ContainsFunc(named, func(n string) bool { return directory.FoldDN(n) == directory.FoldDN(g.DN) }) {
			continue
		}
		p.Groups = append(p.Groups, PrivilegedGroup{Name: directory.LeafValue(g.DN), DN: g.DN, Members: reach(g, byDN)})
	}
	p.Judged = d != directory.AD || rids[512] && rids[544]
	if err := p.addPrimary(ctx, from, d, groups, byDN); err != nil {
		return nil, err
	}
	return p, p.readState(ctx, from, d, at)
}

func isPrivileged(g *directory.Entry) bool {
	sid, err := directory.ParseSID(g.First("objectSid"))
	return err == nil && directory.PrivilegedSID(sid)
}

// reach follows members through nested groups of any depth, loops included.
func reach(g *directory.Entry, groups map[string]*directory.Entry) map[string]*Member {
	found, seen := map[string]*Member{}, map[string]bool{directory.FoldDN(g.DN): true}
	queue := []*directory.Entry{g}
	for len(queue) > 0 {
		g, queue = queue[0], queue[1:]
		for _, dn := range slices.Concat(g.Get("member"), g.Get("uniqueMember")) {
			key := directory.FoldDN(dn)
			if seen[key] {
				continue
			}
			seen[key] = true
			if nested := groups[key]; nested != nil {
				queue = append(queue, nested)
			} else {
				found[key] = &Member{DN: dn}
			}
		}
	}
	return found
}

// addPrimary adds accounts whose primary group is, or leads to, a privileged
// one.
func (p *Privilege) addPrimary(ctx context.Context, from Reader, d *directory.Dialect, groups []directory.Entry, byDN map[string]*directory.Entry) error {
	if d != directory.AD {
		return nil
	}
	users, err := from.Select(ctx, "(&(objectClass=user)(!(primaryGroupID=513))(!(primaryGroupID=515)))", []string{"primaryGroupID"})
	if err != nil {
		return err
	}
	for i := range users {
		primary := users[i].First("primaryGroupID")
		for j := range groups {
			rid := directory.RID(groups[j].First("objectSid"))
			if rid == 0 || primary != fmt.Sprint(rid) || isBuiltinGroup(&groups[j]) {
				continue
			}
			for k := range p.Groups {
				g := &p.Groups[k]
				if directory.FoldDN(g.DN) == directory.FoldDN(groups[j].DN) || leadsTo(byDN, byDN[directory.FoldDN(g.DN)], directory.FoldDN(groups[j].DN)) {
					g.Members[directory.FoldDN(users[i].DN)] = &Member{DN: users[i].DN}
				}
			}
		}
	}
	return nil
}

func isBuiltinGroup(g *directory.Entry) bool {
	sid, err := directory.ParseSID(g.First("objectSid"))
	return err == nil && directory.IsBuiltinSID(sid)
}

// leadsTo tells whether group holds the group named by the folded DN inner,
// through any nesting.
func leadsTo(groups map[string]*directory.Entry, group *directory.Entry, inner string) bool {
	seen := map[string]bool{}
	queue := []*directory.Entry{group}
	for len(queue) > 0 {
		g := queue[0]
		queue = queue[1:]
		for _, dn := range g.Get("member") {
			key := directory.FoldDN(dn)
			if key == inner {
				return true
			}
			if nested := groups[key]; nested != nil && !seen[key] {
				seen[key] = true
				queue = append(queue, nested)
			}
		}
	}
	return false
}

// readState finds out which of the members can sign in. One that cannot be
// read does not count as enabled.
func (p *Privilege) readState(ctx context.Context, from Reader, d *directory.Dialect, at time.Time) error {
	wanted := map[string]bool{}
	var dns []string
	for _, g := range p.Groups {
		for key, m := range g.Members {
			if !wanted[key] {
				wanted[key] = true
				dns = append(dns, m.DN)
			}
		}
	}
	if len(dns) == 0 {
		return nil
	}
	slices.Sort(dns)
	entries, err := from.Get(ctx, dns)
	if err != nil {
		return fmt.Errorf("reading the members of privileged groups: %w", err)
	}
	survey := directory.NewSurvey(d)
	for i := range entries {
		a := d.Account(&entries[i])
		for _, g := range p.Groups {
			if m := g.Members[directory.FoldDN(entries[i].DN)]; m != nil {
				m.Enabled = a.Kind.IsAccount() && survey.Enabled(&a, at).Yes
			}
		}
	}
	return nil
}

// Of returns the names of the privileged groups that an account belongs to.
func (p *Privilege) Of(dn string) []string {
	var names []string
	for _, g := range p.Groups {
		if g.Members[directory.FoldDN(dn)] != nil {
			names = append(names, g.Name)
		}
	}
	slices.Sort(names)
	return names
}

// WouldEmpty returns the names of the privileged groups that would be left
// without an enabled member if these accounts could no longer sign in.
func (p *Privilege) WouldEmpty(dns []string) []string {
	gone := map[string]bool{}
	for _, dn := range dns {
		gone[directory.FoldDN(dn)] = true
	}
	var names []string
	for _, g := range p.Groups {
		touched, left := false, false
		for key, m := range g.Members {
			if !m.Enabled {
				continue
			}
			if gone[key] {
				touched = true
			} else {
				left = true
			}
		}
		if touched && !left {
			names = append(names, g.Name)
		}
	}
	slices.Sort(names)
	return names
}

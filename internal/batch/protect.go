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

// Why returns the reason why an entry is protected from some actions, "" where
// it is not.
func (p *Protection) Why(e *directory.Entry, actions []string) string {
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
	case a.Kind == directory.KindPolicyContainer && builtInPolicy(e.DN):
		return "it is one of the two policies that every domain has"
	}
	if i := slices.IndexFunc(actions, func(name string) bool { return !mayChange(&a, e, name) }); i >= 0 {
		return fmt.Sprintf("%s is not for an entry of this kind (%s)", actions[i], a.Kind)
	}
	if a.ID == "" {
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

// changeable are the actions on entries that are no accounts.
var changeable = map[directory.Kind][]string{
	directory.KindGroup:           {Describe, JoinGroup, LeaveGroup, LeaveGroups, Move, Delete, Set, Add, Clear, Fill, PutBack, Restore},
	directory.KindContact:         {Describe, JoinGroup, LeaveGroup, LeaveGroups, Move, Delete, Set, Add, Clear, Fill, PutBack, Restore},
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
	return e.HasClass("container") && strings.HasPrefix(directory.LeafValue(policy), "{") && strings.EqualFold(directory.LeafValue(policies), "Policies") &&
		!builtInPolicy(policy)
}

// The names of the domain's own policies (MS-GPOL 2.2.1.2).
var builtInPolicies = []string{"{31B2F340-016D-11D2-945F-00C04FB984F9}", "{6AC1786C-016F-11D2-945F-00C04FB984F9}"}

func builtInPolicy(dn string) bool {
	return slices.ContainsFunc(builtInPolicies, func(name string) bool { return strings.EqualFold(name, directory.LeafValue(dn)) })
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
	nested   map[string]bool    // the group itself and those that lead to it, by folded DN
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
		members, nested := reach(g, byDN)
		p.Groups = append(p.Groups, PrivilegedGroup{Name: directory.LeafValue(g.DN), DN: g.DN, Members: members, nested: nested})
	}
	p.Judged = d != directory.AD || rids[512] && rids[544]
	if err := p.addPrimary(ctx, from, d, groups); err != nil {
		return nil, err
	}
	return p, p.readState(ctx, from, d, at)
}

func isPrivileged(g *directory.Entry) bool {
	sid, err := directory.ParseSID(g.First("objectSid"))
	return err == nil && directory.PrivilegedSID(sid)
}

// reach follows members through nested groups of any depth, loops included.
// It returns the members and the groups on the way.
func reach(g *directory.Entry, groups map[string]*directory.Entry) (found map[string]*Member, nested map[string]bool) {
	found, nested = map[string]*Member{}, map[string]bool{directory.FoldDN(g.DN): true}
	seen := map[string]bool{directory.FoldDN(g.DN): true}
	queue := []*directory.Entry{g}
	for len(queue) > 0 {
		g, queue = queue[0], queue[1:]
		for _, dn := range slices.Concat(g.Get("member"), g.Get("uniqueMember")) {
			key := directory.FoldDN(dn)
			if seen[key] {
				continue
			}
			seen[key] = true
			if inner := groups[key]; inner != nil {
				nested[key] = true
				queue = append(queue, inner)
			} else {
				found[key] = &Member{DN: dn}
			}
		}
	}
	return found, nested
}

// addPrimary adds accounts whose primary group is, or leads to, a privileged
// one.
func (p *Privilege) addPrimary(ctx context.Context, from Reader, d *directory.Dialect, groups []directory.Entry) error {
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
				if g.nested[directory.FoldDN(groups[j].DN)] {
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

// LeadsTo returns the names of the privileged groups that members of a group
// are in by it.
func (p *Privilege) LeadsTo(group string) []string {
	var names []string
	for i := range p.Groups {
		if p.Groups[i].nested[directory.FoldDN(group)] {
			names = append(names, p.Groups[i].Name)
		}
	}
	slices.Sort(names)
	return names
}

// Going is an account that some privileged groups are about to lose.
type Going struct {
	DN     string
	Groups []string
}

// WouldEmpty returns the names of the privileged groups that would be left
// without an enabled member.
func (p *Privilege) WouldEmpty(going []Going) []string {
	gone := map[[2]string]bool{}
	for _, g := range going {
		for _, name := range g.Groups {
			gone[[2]string{directory.FoldDN(g.DN), name}] = true
		}
	}
	var names []string
	for _, g := range p.Groups {
		touched, left := false, false
		for key, m := range g.Members {
			if !m.Enabled {
				continue
			}
			if gone[[2]string{key, g.Name}] {
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

package audit

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"yardbroom/internal/directory"
)

var state = []*Check{
	{
		Name: "disabled", Severity: Info, Short: "disabled account",
		because: []string{"disabled for %s"},
		Suggest: []string{"move", "delete"}, Kinds: accounts,
		Guard: enabledAttrs, needs: disabledNeeds, judge: disabled,
	},
	{
		Name: "disabled-astray", Severity: Low, Short: "disabled account outside the OUs for disabled accounts",
		because: []string{"disabled for %s"},
		Suggest: []string{"move"}, Kinds: []directory.Kind{directory.KindUser, directory.KindComputer},
		Guard: enabledAttrs, needs: disabledNeeds,
		wants: func(p *pass) string {
			if len(p.parking) == 0 {
				return "the settings name no parking (audit: parking)"
			}
			return ""
		},
		judge: disabledAstray,
	},
	{
		Name: "disabled-overdue", Severity: Medium, Short: "account disabled long enough to be deleted",
		because: []string{"disabled for %s"},
		Suggest: []string{"delete"}, Kinds: accounts,
		Guard: enabledAttrs, needs: disabledNeeds, judge: disabledOverdue,
	},
	{
		Name: "disabled-entitled", Severity: Medium, Short: "disabled account that is still in groups",
		Suggest: []string{"leave-groups"}, Kinds: users,
		Guard: enabledAttrs, needs: disabledNeeds, wants: wantsMembers,
		prepare: findEntitled, judge: disabledEntitled,
	},
	{
		Name: "locked-out", Severity: Medium, Short: "account locked out after too many wrong passwords",
		Suggest: []string{"unlock"}, Kinds: people, builtIn: administrator,
		Guard: func(d *directory.Dialect) []directory.AttrID { return d.Locked },
		needs: func(d *directory.Dialect) [][]directory.AttrID { return [][]directory.AttrID{d.Locked} },
		judge: lockedOut,
	},
	{
		Name: "resource-enabled", Severity: Medium, Short: "room, equipment or shared mailbox that can be signed in to",
		Kinds: []directory.Kind{directory.KindResource},
		Guard: enabledAttrs, needs: enabledNeeds, judge: enabledFlags,
	},
	{
		Name: "guest-enabled", Severity: High, Short: "the built-in guest account is enabled",
		Kinds: users, builtIn: func(a *directory.Account) bool { return a.RID == 501 },
		Guard: enabledAttrs, needs: flagNeeds,
		judge: func(p *pass, a *directory.Account) *Finding {
			if a.RID != 501 {
				return nil
			}
			return enabledFlags(p, a)
		},
	},
	{
		Name: "conflict-object", Severity: Low, Short: "replication conflict, or an entry whose parent was lost",
		Kinds: anything,
		gather: func(p *pass, report func(*directory.Subject, Finding)) {
			for i := range p.Misplaced {
				s := &p.Misplaced[i]
				report(s, Finding{Evidence: []Evidence{{"name", s.DN}}})
			}
		},
	},
}

func administrator(a *directory.Account) bool { return a.RID == 500 }

func disabledNeeds(d *directory.Dialect) [][]directory.AttrID {
	return [][]directory.AttrID{d.Enabled}
}

// flagNeeds are the needs of checks about the flags of the `ad` schema, for
// enabled accounts.
func flagNeeds(d *directory.Dialect) [][]directory.AttrID {
	needs := [][]directory.AttrID{{directory.AttrUserAccountControl}}
	if d.EverybodyShowsState {
		needs = append(needs, d.Expiry)
	}
	return needs
}

func enabledFlags(p *pass, a *directory.Account) *Finding {
	f := p.enabled(a)
	if f != nil {
		f.Evidence = []Evidence{flags(a, "enabled")}
	}
	return f
}

// flags is the evidence of userAccountControl, with what is meant.
func flags(a *directory.Account, meaning ...string) Evidence {
	return Evidence{
		directory.AttrUserAccountControl.String(),
		fmt.Sprintf("%d (%s)", a.Flags, strings.Join(meaning, ", ")),
	}
}

func disabled(p *pass, a *directory.Account) *Finding {
	d := p.Disabled(a, p.asOf)
	if !d.Yes {
		return nil
	}
	f := &Finding{Confidence: confidence(d), Evidence: []Evidence{p.disabledEvidence(a, d.By)}}
	f.Since = p.DisabledSince(a, p.asOf).Time()
	return f
}

func (p *pass) disabledEvidence(a *directory.Account, by directory.AttrID) Evidence {
	switch by {
	case directory.AttrUserAccountControl:
		return flags(a, "disabled")
	case directory.AttrPwdStartTime:
		return evidence(a.Further().StartsAt)
	case directory.AttrPwdEndTime:
		return evidence(a.Further().ExpiresAlso)
	case directory.AttrNsAccountLock:
		return Evidence{by.String(), "true (disabled)"}
	}
	return Evidence{by.String(), directory.PermanentLockValue + " (disabled)"}
}

func disabledAstray(p *pass, a *directory.Account) *Finding {
	f := disabled(p, a)
	if f == nil {
		return nil
	}
	dn := directory.FoldDN(a.DN)
	if slices.ContainsFunc(p.parking, func(base string) bool { return directory.Under(dn, base) }) {
		return nil
	}
	_, parent := directory.SplitDN(a.DN)
	f.Evidence = append(f.Evidence, Evidence{"container", parent})
	return f
}

func disabledOverdue(p *pass, a *directory.Account) *Finding {
	f := disabledDated(p, a)
	if f == nil || f.Since.After(p.lines.overdue) {
		return nil
	}
	return f
}

// disabledDated finds a disabled account and since when it is so: likely, and not
// sure, where only what it cannot be earlier than is known.
func disabledDated(p *pass, a *directory.Account) *Finding {
	f := disabled(p, a)
	if f == nil {
		return nil
	}
	if f.Since.IsZero() {
		// Nothing dates the disabling; it cannot be earlier than the last
		// change, the last sign-in and the last password.
		latest := a.Changed
		for _, m := range []directory.Moment{p.LastLogon(a, p.asOf), p.PasswordSet(a)} {
			if m.After(latest) {
				latest = m
			}
		}
		if !latest.Known() {
			return nil
		}
		f.Since, f.Confidence = latest.Time(), Likely
		f.Evidence = append(f.Evidence, evidence(latest))
	} else if a.Further().FlagsSince.Known() {
		f.Evidence = append(f.Evidence, Evidence{"disabled since", f.Since.Format(time.RFC3339)})
	}
	return f
}

// findDisabled returns all disabled accounts by their keys.
func (p *pass) findDisabled() map[directory.Key]*directory.Account {
	type found = map[directory.Key]*directory.Account
	parts := tally(p.Accounts.Parts(), func() found { return found{} }, func(a *directory.Account, into found) {
		if p.Disabled(a, p.asOf).Yes {
			into[a.Key] = a
		}
	})
	all := found{}
	for _, part := range parts {
		for k, a := range part {
			all[k] = a
		}
	}
	return all
}

// wantsMembers says that no group shows its members.
func wantsMembers(p *pass) string {
	if p.Count[directory.KindGroup] > 0 &&
		p.Shows(directory.KindGroup, directory.AttrMember, directory.AttrUniqueMember, directory.AttrMemberUID) {
		return ""
	}
	return "no group shows members"
}

// findEntitled finds the groups that disabled users are listed in.
func findEntitled(p *pass) {
	off := p.disabled()
	byLogon := map[string]directory.Key{}
	for k, a := range off {
		byLogon[a.Logon] = k
	}
	p.entitled = map[directory.Key][]*directory.Group{}
	add := func(k directory.Key, g *directory.Group) {
		if !slices.Contains(p.entitled[k], g) {
			p.entitled[k] = append(p.entitled[k], g)
		}
	}
	for i := range p.Groups {
		g := &p.Groups[i]
		for _, k := range g.Members {
			if off[k] != nil {
				add(k, g)
			}
		}
		for _, logon := range g.Logons {
			if k, ok := byLogon[logon]; ok {
				add(k, g)
			}
		}
	}
}

func disabledEntitled(p *pass, a *directory.Account) *Finding {
	var names []string
	for _, g := range p.entitled[a.Key] {
		primary := g.RID != 0 && g.RID == a.PrimaryGroup ||
			g.GID != "" && g.GID == a.Text.First(directory.AttrGIDNumber)
		if !primary {
			names = append(names, g.Name())
		}
	}
	if len(names) == 0 {
		return nil
	}
	f := disabled(p, a)
	if f != nil {
		f.Evidence = append(f.Evidence, Evidence{"member of", listed(names)})
	}
	return f
}

// mostListed is how many names evidence lists.
const mostListed = 10

// listed writes names in a stable order, the first of many.
func listed(names []string) string {
	names = slices.Clone(names)
	slices.Sort(names)
	if len(names) <= mostListed {
		return strings.Join(names, "; ")
	}
	return fmt.Sprintf("%s; and %d more", strings.Join(names[:mostListed], "; "), len(names)-mostListed)
}

func lockedOut(p *pass, a *directory.Account) *Finding {
	locked := p.LockedOut(a, p.asOf)
	if !locked.Yes || p.Disabled(a, p.asOf).Yes {
		return nil
	}
	f := &Finding{Confidence: confidence(locked)}
	shown := a.LockedAt
	if a.Further().LockEnds.Present() {
		shown = a.Further().LockEnds
	} else {
		f.Since = a.LockedAt.Time()
	}
	if f.Evidence = []Evidence{evidence(shown)}; locked.By != shown.Attr() {
		f.Evidence = append(f.Evidence, Evidence{locked.By.String(), evidenceLocked})
	}
	return f
}

package audit

import (
	"strings"

	"yardbroom/internal/directory"
)

var signIn = []*Check{
	{
		Name: "password-never-expires", Severity: Low, Short: "account whose password never expires",
		Kinds: users, Guard: enabledAttrs, needs: flagNeeds,
		judge: flagged(directory.UACPasswordNeverExpires, "password never expires"),
	},
	{
		Name: "password-not-required", Severity: High, Short: "account that is allowed to have no password",
		Kinds: users, builtIn: administrator, Guard: enabledAttrs, needs: flagNeeds,
		judge: flagged(directory.UACPasswordNotRequired, "no password required"),
	},
	{
		Name: "password-old", Severity: Low, Short: "account whose password has not been changed for a long time",
		Kinds: users, Guard: restsOn(passwordAttrs),
		needs: func(d *directory.Dialect) [][]directory.AttrID { return append(enabledNeeds(d), d.PasswordSet) },
		judge: passwordOld,
	},
	{
		Name: "weak-sign-in", Severity: High, Short: "account with a setting that weakens its password or sign-in",
		Kinds: accounts, builtIn: administrator, Guard: enabledAttrs, needs: flagNeeds, judge: weakSignIn,
	},
	{
		Name: "delegation", Severity: Info, Short: "account trusted for delegation to chosen services",
		Kinds: accounts, Guard: enabledAttrs, needs: flagNeeds, judge: delegation,
	},
	{
		Name: "service-name-on-user", Severity: Medium, Short: "user account with a service name, whose password can be attacked offline",
		Kinds: users, Guard: enabledAttrs,
		needs: func(d *directory.Dialect) [][]directory.AttrID {
			return append(flagNeeds(d), []directory.AttrID{directory.AttrServicePrincipalName})
		},
		judge: serviceNameOnUser,
	},
	{
		Name: "sid-history", Severity: Medium, Short: "entry with rights from another domain (SID history)",
		Kinds: []directory.Kind{directory.KindUser, directory.KindService, directory.KindComputer, directory.KindGroup},
		Guard: func(*directory.Dialect) []directory.AttrID { return []directory.AttrID{directory.AttrSIDHistory} },
		// Nobody has it in a domain that never took anybody over, so what
		// shows that it could be seen is the identity itself.
		needs:  func(*directory.Dialect) [][]directory.AttrID { return [][]directory.AttrID{{directory.AttrObjectSID}} },
		gather: sidHistory,
	},
	{
		Name: "key-account-password-old", Severity: High, Short: "the domain's key account (krbtgt) has an old password",
		Kinds: users, builtIn: func(a *directory.Account) bool { return a.KeyAccount },
		Guard: func(d *directory.Dialect) []directory.AttrID { return d.PasswordSet },
		needs: func(d *directory.Dialect) [][]directory.AttrID {
			return [][]directory.AttrID{
				{directory.AttrPwdLastSet},
				{directory.AttrObjectSID, directory.AttrSecondaryKrbTgtNumber},
			}
		},
		judge: keyPasswordOld,
	},
	{
		Name: "service-ownerless", Severity: Low, Short: "managed service account without an owner",
		Kinds: services, Guard: enabledAttrs,
		needs: func(d *directory.Dialect) [][]directory.AttrID {
			return append(enabledNeeds(d), []directory.AttrID{directory.AttrManagedBy, directory.AttrManager})
		},
		judge: serviceOwnerless,
	},
	{
		Name: "unsupported-system", Severity: Low, Short: "computer with an unsupported operating system",
		Suggest: []string{"disable"}, Kinds: machines,
		Guard: func(d *directory.Dialect) []directory.AttrID {
			return append(enabledAttrs(d), directory.AttrOperatingSystem)
		},
		needs: func(d *directory.Dialect) [][]directory.AttrID {
			return append(enabledNeeds(d), []directory.AttrID{directory.AttrOperatingSystem})
		},
		wants: func(p *pass) string {
			if len(p.rules.systems) == 0 {
				return "the settings name no unsupported systems (audit: unsupported_systems)"
			}
			return ""
		},
		judge: unsupportedSystem,
	},
}

// flagged judges enabled accounts by one flag.
func flagged(flag int64, meaning string) func(*pass, *directory.Account) *Finding {
	return func(p *pass, a *directory.Account) *Finding {
		if a.Flags&flag == 0 {
			return nil
		}
		f := p.enabled(a)
		if f != nil {
			f.Evidence = []Evidence{flags(a, meaning)}
		}
		return f
	}
}

func passwordOld(p *pass, a *directory.Account) *Finding {
	set := p.PasswordSet(a)
	if !atOrBefore(set, p.lines.password) {
		return nil
	}
	f := p.enabled(a)
	if f != nil {
		f.Since, f.Evidence = set.Time(), []Evidence{evidence(set)}
	}
	return f
}

// weaknesses are flags under which a password is easy to come by.
var weaknesses = []struct {
	flag    int64
	meaning string
}{
	{directory.UACReversiblePassword, "password kept reversibly"},
	{directory.UACDESOnly, "DES keys only"},
	{directory.UACNoPreauthentication, "no Kerberos pre-authentication"},
	{directory.UACUnconstrained, "delegation to any service"},
}

func weakSignIn(p *pass, a *directory.Account) *Finding {
	var meanings []string
	for _, w := range weaknesses {
		if a.Flags&w.flag != 0 && !(w.flag == directory.UACUnconstrained && isController(a)) {
			meanings = append(meanings, w.meaning)
		}
	}
	if len(meanings) == 0 {
		return nil
	}
	f := p.enabled(a)
	if f != nil {
		f.Evidence = []Evidence{flags(a, meanings...)}
	}
	return f
}

// isController tells whether an account is a domain controller's.
func isController(a *directory.Account) bool {
	return a.Flags&directory.UACDomainController != 0 || a.PrimaryGroup == 516 || a.PrimaryGroup == 521
}

func delegation(p *pass, a *directory.Account) *Finding {
	toward := a.Present.Has(directory.AttrAllowedToDelegateTo)
	from := a.Present.Has(directory.AttrAllowedToAct)
	transition := a.Flags&directory.UACProtocolTransition != 0
	if !toward && !from && !transition {
		return nil
	}
	f := p.enabled(a)
	if f == nil {
		return nil
	}
	if transition {
		f.Evidence = append(f.Evidence, flags(a, "may act as anybody without their password"))
	}
	if toward {
		var to []string
		for name := range a.Text.All(directory.AttrAllowedToDelegateTo) {
			to = append(to, name)
		}
		f.Evidence = append(f.Evidence, Evidence{directory.AttrAllowedToDelegateTo.String(), listed(to)})
	}
	if from {
		f.Evidence = append(f.Evidence, Evidence{directory.AttrAllowedToAct.String(), "set: others may act towards it"})
	}
	return f
}

func serviceNameOnUser(p *pass, a *directory.Account) *Finding {
	if !a.Present.Has(directory.AttrServicePrincipalName) {
		return nil
	}
	f := p.enabled(a)
	if f == nil {
		return nil
	}
	var names []string
	for name := range a.Text.All(directory.AttrServicePrincipalName) {
		names = append(names, name)
	}
	f.Evidence = []Evidence{{directory.AttrServicePrincipalName.String(), listed(names)}}
	if wantsPrivilege(p) == "" {
		if reached := p.graph().Of(a); len(reached) > 0 {
			high := High
			f.severity = &high
			f.Evidence = append(f.Evidence, reachEvidence(reached)...)
		}
	}
	return f
}

func sidHistory(p *pass, report func(*directory.Subject, Finding)) {
	show := func(about *directory.Subject, raw []string) {
		var sids []string
		for _, r := range raw {
			sid, err := directory.ParseSID(r)
			if err != nil {
				sid = "unreadable"
			}
			sids = append(sids, sid)
		}
		report(about, Finding{Evidence: []Evidence{{directory.AttrSIDHistory.String(), listed(sids)}}})
	}
	for a := range p.Accounts.All() {
		if !a.Present.Has(directory.AttrSIDHistory) || a.BuiltIn {
			continue
		}
		var raw []string
		for v := range a.Text.All(directory.AttrSIDHistory) {
			raw = append(raw, v)
		}
		show(&a.Subject, raw)
	}
	for i := range p.Groups {
		if g := &p.Groups[i]; len(g.HasHistory) > 0 && !g.BuiltIn {
			show(&g.Subject, g.HasHistory)
		}
	}
}

func keyPasswordOld(p *pass, a *directory.Account) *Finding {
	if !a.KeyAccount || !atOrBefore(a.PasswordSet, p.lines.keyPassword) {
		return nil
	}
	return &Finding{Since: a.PasswordSet.Time(), Evidence: []Evidence{evidence(a.PasswordSet)}}
}

func serviceOwnerless(p *pass, a *directory.Account) *Finding {
	if a.Present.Has(directory.AttrManagedBy) || a.Present.Has(directory.AttrManager) ||
		p.exempt.owner(&a.Subject) != "" {
		return nil
	}
	f := p.enabled(a)
	if f != nil {
		f.Evidence = []Evidence{{"managedBy", absent}, {"manager", absent}}
	}
	return f
}

func unsupportedSystem(p *pass, a *directory.Account) *Finding {
	system := a.Text.First(directory.AttrOperatingSystem)
	if system == "" {
		return nil
	}
	for _, pattern := range p.rules.systems {
		if pattern.MatchString(system) {
			f := p.enabled(a)
			if f != nil {
				f.Evidence = []Evidence{{directory.AttrOperatingSystem.String(), strings.TrimSpace(system)}}
			}
			return f
		}
	}
	return nil
}

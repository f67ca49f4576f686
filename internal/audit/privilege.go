package audit

import (
	"slices"
	"strings"

	"yardbroom/internal/directory"
	"yardbroom/internal/privilege"
)

var privilegeChecks = []*Check{
	{
		Name: "privileged", Severity: Info, Short: "privileged account, and the groups that make it so",
		Kinds: people, builtIn: administrator,
		Guard: enabledAttrs, wants: wantsPrivilege, judge: privileged,
	},
	{
		Name: "privileged-residue", Severity: Medium, Short: "entry still marked as privileged that no longer is",
		Suggest: []string{"unmark-privileged"},
		Kinds:   []directory.Kind{directory.KindUser, directory.KindGroup}, overEntries: true,
		absent: func(*pass) []directory.AttrID { return []directory.AttrID{directory.AttrPrimaryGroupID} },
		Guard:  func(*directory.Dialect) []directory.AttrID { return []directory.AttrID{directory.AttrAdminCount} },
		wants: func(p *pass) string {
			if p.Dialect != directory.AD {
				return "this kind of directory keeps no such mark"
			}
			return wantsPrivilege(p)
		},
		gather: privilegedResidue,
	},
	{
		Name: "privileged-daily", Severity: High, Short: "privileged account that is used for daily work and mail",
		Kinds: users, Guard: enabledAttrs, wants: wantsPrivilege,
		needs: func(d *directory.Dialect) [][]directory.AttrID {
			return append(enabledNeeds(d), []directory.AttrID{directory.AttrMail})
		},
		judge: privilegedDaily,
	},
	{
		Name: "privileged-idle", Severity: High, Short: "privileged account that is unused, or with an old password",
		because: []string{"privileged, and unused for %s"},
		Suggest: []string{"disable"}, Kinds: users, builtIn: administrator,
		Guard: restsOn(logonAttrs, passwordAttrs),
		absent: func(p *pass) []directory.AttrID {
			return slices.Concat(p.Dialect.Enabled, p.Dialect.Expiry, p.Dialect.LastLogon)
		},
		wants: func(p *pass) string {
			if why := wantsPrivilege(p); why != "" {
				return why
			}
			if !slices.ContainsFunc(idleChecks, func(c *Check) bool { return p.missing(c, directory.KindUser) == "" }) {
				return "users: neither sign-ins nor passwords can be judged"
			}
			return ""
		},
		judge: privilegedIdle,
	},
	{
		Name: "privileged-everyone", Severity: High, Short: "privileged rights held by everyone, or by all users",
		Kinds: []directory.Kind{directory.KindForeign, directory.KindGroup}, overAll: true,
		wants: wantsPrivilege, gather: privilegedEveryone,
	},
}

// reachEvidence writes what is reached, and how.
func reachEvidence(all []privilege.Reach) []Evidence {
	var out []Evidence
	for _, r := range all {
		how := "member"
		switch {
		case len(r.Path) == 0 && r.Primary:
			how = "primary group"
		case r.Primary:
			how = "through its primary group " + strings.Join(r.Path, " > ")
		case len(r.Path) > 0:
			how = "through " + strings.Join(r.Path, " > ")
		}
		out = append(out, Evidence{r.Group, how})
	}
	return out
}

// wantsPrivilege says why nothing can be said of privilege, "" where it
// can.
func wantsPrivilege(p *pass) string {
	if why := wantsMembers(p); why != "" {
		return why
	}
	if p.Dialect != directory.AD {
		if len(p.set.PrivilegedGroups) == 0 {
			return "the settings name no privileged groups (audit: privileged_groups)"
		}
		if p.graph().None() {
			return "none of the privileged groups of the settings was read"
		}
		return ""
	}
	if p.Domain.DN == "" {
		return "the entry of the domain itself was not read"
	}
	g := p.graph()
	if !g.Holds(512) || !g.Holds(544) {
		return "the administrators' groups (RID 512 and 544) were not read"
	}
	return ""
}

func privileged(p *pass, a *directory.Account) *Finding {
	reached := p.graph().Of(a)
	if len(reached) == 0 {
		return nil
	}
	f := &Finding{Evidence: reachEvidence(reached)}
	if d := p.Disabled(a, p.asOf); d.Yes {
		f.Evidence = append(f.Evidence, p.disabledEvidence(a, d.By))
	}
	return f
}

func privilegedResidue(p *pass, report func(*directory.Subject, Finding)) {
	g := p.graph()
	mark := Finding{Evidence: []Evidence{{directory.AttrAdminCount.String(), "1"}, {"privileged groups", "none"}}}
	if len(g.Partial()) > 0 {
		mark.Confidence = Likely // it may be in the part that was not read
	}
	for a := range p.Accounts.All() {
		if a.Kind == directory.KindUser && a.Marked && !a.BuiltIn && len(g.Of(a)) == 0 {
			report(&a.Subject, mark)
		}
	}
	for i := range p.Groups {
		one := &p.Groups[i]
		if !one.Marked || one.BuiltIn || one.Kind != directory.KindGroup || g.Privileged(one.Key) ||
			one.RID == 516 || one.RID == 517 || one.RID == 521 || len(g.OfGroup(one)) > 0 {
			continue
		}
		report(&one.Subject, mark)
	}
}

func privilegedDaily(p *pass, a *directory.Account) *Finding {
	reached := p.graph().Of(a)
	if len(reached) == 0 || p.rules.admin.MatchString(a.Logon) {
		return nil
	}
	mail := a.Text.First(directory.AttrMail)
	if strings.TrimSpace(mail) == "" {
		return nil
	}
	f := p.enabled(a)
	if f != nil {
		f.Evidence = append([]Evidence{{directory.AttrMail.String(), mail}}, reachEvidence(reached)...)
	}
	return f
}

// idleChecks are the signs that nobody uses an account.
var idleChecks = []*Check{byName(activity, "stale"), byName(activity, "never-used"), byName(signIn, "password-old")}

func privilegedIdle(p *pass, a *directory.Account) *Finding {
	reached := p.graph().Of(a)
	if len(reached) == 0 {
		return nil
	}
	var out *Finding
	for _, c := range idleChecks {
		if p.missing(c, a.Kind) != "" {
			continue
		}
		f := c.judge(p, a)
		switch {
		case f == nil:
		case out == nil:
			out = f
			out.Evidence = append([]Evidence{{"idle", c.Name}}, out.Evidence...)
		default:
			out.Evidence[0].Value += ", " + c.Name
			out.Evidence = append(out.Evidence, f.Evidence...)
			if f.Confidence == Sure {
				out.Confidence = Sure
			}
			if f.Since.Before(out.Since) {
				out.Since = f.Since
			}
		}
	}
	if out != nil {
		out.Evidence = append(out.Evidence, reachEvidence(reached)...)
	}
	return out
}

func privilegedEveryone(p *pass, report func(*directory.Subject, Finding)) {
	g := p.graph()
	for i := range p.Groups {
		one := &p.Groups[i]
		who := directory.Everybody(one.SID)
		if who == "" && one.Kind == directory.KindForeign {
			who = "somebody outside the domain"
		}
		if who == "" {
			continue
		}
		reached := g.OfGroup(one)
		if g.Privileged(one.Key) {
			continue // it is named privileged; that everybody is in it is what the settings say
		}
		if len(reached) > 0 {
			report(
				&one.Subject,
				Finding{
					Evidence: append(
						[]Evidence{{"objectSid", one.SID}, {"stands for", who}},
						reachEvidence(reached)...),
				},
			)
		}
	}
}

package audit

import (
	"fmt"
	"slices"

	"yardbroom/internal/directory"
	"yardbroom/internal/settings"
)

var state = []*Check{
	{
		Name: "disabled", Severity: Info, Short: "account that is switched off",
		Suggest: []string{"move", "delete"}, Kinds: []directory.Kind{directory.KindUser, directory.KindService, directory.KindComputer},
		Guard: enabledAttrs, needs: disabledNeeds, judge: disabled,
	},
	{
		Name: "disabled-astray", Severity: Low, Short: "disabled account outside the places for disabled accounts",
		Suggest: []string{"move"}, Kinds: []directory.Kind{directory.KindUser, directory.KindComputer},
		Guard: enabledAttrs, needs: disabledNeeds,
		wants: func(s *settings.Settings) string {
			if len(s.Audit.Parking) == 0 {
				return "the settings name no parking (audit: parking)"
			}
			return ""
		},
		judge: disabledAstray,
	},
	{
		Name: "locked-out", Severity: Medium, Short: "account locked by too many wrong passwords",
		Suggest: []string{"unlock"}, Kinds: people, Administrator: true,
		Guard: func(d *directory.Dialect) []directory.AttrID { return d.Locked },
		needs: func(d *directory.Dialect) [][]directory.AttrID { return [][]directory.AttrID{d.Locked} },
		judge: lockedOut,
	},
}

func disabledNeeds(d *directory.Dialect) [][]directory.AttrID {
	return [][]directory.AttrID{d.Enabled}
}

func disabled(p *pass, a *directory.Account) *Finding {
	d := p.Disabled(a, p.asOf)
	if !d.Yes {
		return nil
	}
	f := &Finding{Confidence: confidence(d), Evidence: []Evidence{{d.By.String(), p.disabledValue(a, d.By)}}}
	if a.FlagsSince.Known() && !a.FlagsSince.Time().After(p.asOf) {
		f.Since = a.FlagsSince.Time()
	}
	return f
}

func (p *pass) disabledValue(a *directory.Account, by directory.AttrID) string {
	switch by {
	case directory.AttrUserAccountControl:
		return fmt.Sprintf("%d (disabled)", a.Flags)
	case directory.AttrPwdStartTime:
		return evidence(a.StartsAt).Value
	case directory.AttrPwdEndTime:
		return evidence(a.ExpiresAlso).Value
	}
	return directory.PermanentLockValue + " (disabled)"
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

func lockedOut(p *pass, a *directory.Account) *Finding {
	locked := p.LockedOut(a, p.asOf)
	if !locked.Yes {
		return nil
	}
	off := p.Disabled(a, p.asOf)
	if off.Yes {
		return nil
	}
	f := &Finding{Confidence: confidence(locked), Since: a.LockedAt.Time(), Evidence: []Evidence{evidence(a.LockedAt)}}
	if locked.By != a.LockedAt.Attr {
		f.Evidence = append(f.Evidence, Evidence{locked.By.String(), "locked out"})
	}
	return f
}

package audit

import (
	"yardbroom/internal/directory"
)

var people = []directory.Kind{directory.KindUser, directory.KindService}

var activity = []*Check{
	{
		Name: "stale", Severity: Medium, Short: "enabled account that nobody has signed in to for a long time",
		Suggest: []string{"disable", "move"}, Kinds: people,
		Guard: func(d *directory.Dialect) []directory.AttrID { return append(enabledAttrs(d), d.LastLogon...) },
		needs: func(d *directory.Dialect) [][]directory.AttrID {
			return append(enabledNeeds(d), d.LastLogon)
		},
		judge: stale,
	},
	{
		Name: "never-used", Severity: Medium, Short: "enabled account that nobody has ever signed in to",
		Suggest: []string{"disable", "move"}, Kinds: people,
		Guard: func(d *directory.Dialect) []directory.AttrID { return append(enabledAttrs(d), d.LastLogon...) },
		needs: func(d *directory.Dialect) [][]directory.AttrID {
			return append(enabledNeeds(d), d.LastLogon, createdAttrs(d))
		},
		judge: neverUsed,
	},
	{
		Name: "expired", Severity: Low, Short: "account past its expiry date that was never disabled",
		Suggest: []string{"disable"}, Kinds: []directory.Kind{directory.KindUser, directory.KindService, directory.KindComputer},
		Guard: func(d *directory.Dialect) []directory.AttrID { return append(enabledAttrs(d), d.Expiry...) },
		needs: func(d *directory.Dialect) [][]directory.AttrID {
			if d == directory.AD {
				return [][]directory.AttrID{d.Enabled, d.Expiry}
			}
			return [][]directory.AttrID{d.Expiry}
		},
		judge: expired,
	},
}

// enabledNeeds are the attributes without which "enabled" cannot be told. On
// the `ad` schema every account carries them. On OpenLDAP a healthy
// directory may carry none, so there a finding becomes likely instead.
func enabledNeeds(d *directory.Dialect) [][]directory.AttrID {
	if d == directory.AD {
		return [][]directory.AttrID{d.Enabled, d.Expiry}
	}
	return nil
}

func enabledAttrs(d *directory.Dialect) []directory.AttrID {
	return append(append([]directory.AttrID{}, d.Enabled...), d.Expiry...)
}

func createdAttrs(d *directory.Dialect) []directory.AttrID {
	if d == directory.AD {
		return []directory.AttrID{directory.AttrWhenCreated}
	}
	return []directory.AttrID{directory.AttrCreateTimestamp}
}

func stale(p *pass, a *directory.Account) *Finding {
	last := p.LastLogon(a, p.asOf)
	if !last.Known() || last.Time().After(p.staleLine) {
		return nil
	}
	enabled := p.Enabled(a, p.asOf)
	if !enabled.Yes {
		return nil
	}
	f := &Finding{Confidence: confidence(enabled), Since: last.Time(), Evidence: p.logonEvidence(last)}
	if !p.everySignInShown(a, last) {
		f.Confidence = Likely
	}
	return f
}

// everySignInShown tells whether a last logon is proved to be the last: all
// servers were asked, or it is so old that even the replicated value, which
// comes late, would show a later one.
func (p *pass) everySignInShown(a *directory.Account, last directory.Moment) bool {
	if p.EveryServerAsked() && (p.Dialect != directory.AD || p.Shows(a.Kind, directory.AttrLastLogon)) {
		return true
	}
	return p.replicated(a) && !last.Time().After(p.staleLine.Add(-p.Domain.LogonLag))
}

// replicated tells whether the directory keeps the replicated last logon.
func (p *pass) replicated(a *directory.Account) bool {
	return p.Domain.LogonLag > 0 && p.Shows(a.Kind, directory.AttrLastLogonTimestamp)
}

func (p *pass) logonEvidence(last directory.Moment) []Evidence {
	out := []Evidence{evidence(last)}
	if last.Attr == directory.AttrLastLogon && p.Server != "" {
		out = append(out, Evidence{"server", p.Server})
	}
	return out
}

func neverUsed(p *pass, a *directory.Account) *Finding {
	last := p.LastLogon(a, p.asOf)
	if last.Known() || last.Unreadable() || !a.Created.Known() || a.Created.Time().After(p.freshLine) {
		return nil
	}
	enabled := p.Enabled(a, p.asOf)
	if !enabled.Yes {
		return nil
	}
	f := &Finding{Confidence: confidence(enabled), Since: a.Created.Time(), Evidence: []Evidence{{p.Dialect.LastLogon[0].String(), "never"}, evidence(a.Created)}}
	if !p.EveryServerAsked() && !p.replicated(a) {
		f.Confidence = Likely
	}
	return f
}

func expired(p *pass, a *directory.Account) *Finding {
	x, disabled := p.Expired(a, p.asOf), p.Disabled(a, p.asOf)
	if !x.Yes || disabled.Yes || p.Dialect == directory.AD && !a.FlagsKnown {
		return nil
	}
	return &Finding{Confidence: confidence(x, disabled), Since: a.Expires.Time(), Evidence: []Evidence{evidence(a.Expires)}}
}

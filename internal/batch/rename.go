package batch

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"yardbroom/internal/audit"
	"yardbroom/internal/directory"
	"yardbroom/internal/source"
)

// NewName is what a person is called from now on. What is "" stays, or
// follows from the rest.
type NewName struct {
	Given, Family, Display, Logon, Mail, Principal string
	// KeepDisplay, KeepMail and KeepPrincipal keep what else would follow.
	KeepDisplay, KeepMail, KeepPrincipal bool
}

// Empty tells whether nothing is to change.
func (n *NewName) Empty() bool {
	return *n == NewName{KeepDisplay: n.KeepDisplay, KeepMail: n.KeepMail, KeepPrincipal: n.KeepPrincipal}
}

// Lengths by the schema of the `ad` dialect; elsewhere they are generous.
const (
	maxLogon   = 20
	maxCN      = 64
	maxDisplay = 256
	maxAddress = 254
	maxName    = 64
)

// forbiddenInLogon are characters that a logon name of the `ad` schema must
// not hold (MS-SAMR 3.1.1.6).
const forbiddenInLogon = "\"/\\[]:;|=,+*?<>@"

// rename plans a new name and everything that follows from it.
func (s *Stager) rename(ctx context.Context, e *directory.Entry, a *directory.Account, n NewName, line *Line) error {
	if n.Empty() {
		return errors.New("say what changes: --given, --family, --display, --logon, --mail or --principal")
	}
	p := &renaming{dialect: s.Dialect, entry: e, account: a, wanted: n}
	if err := p.plan(); err != nil {
		return err
	}
	if err := s.free(ctx, p); err != nil {
		return err
	}
	if len(p.mods) == 0 && p.rdn == "" {
		return errors.New("it is called that already")
	}
	if len(p.mods) > 0 {
		line.Actions = append(line.Actions, Action{Name: Set, Put: p.mods})
		for _, m := range p.mods {
			line.Changes = append(line.Changes, ChangeOf(m))
		}
	}
	if p.rdn != "" {
		_, parent := directory.SplitDN(e.DN)
		line.Actions = append(line.Actions, Action{Name: Rename, RDN: p.rdn, To: parent})
		line.Changes = append(line.Changes, Change{What: aboutName, Old: e.DN, New: p.rdn + "," + parent})
	}
	line.Warnings, line.ByHand = append(line.Warnings, p.stays()...), append(line.ByHand, p.byHand()...)
	return nil
}

// renaming is the plan of one rename.
type renaming struct {
	dialect *directory.Dialect
	entry   *directory.Entry
	account *directory.Account
	wanted  NewName

	mods      []Mod
	rdn       string // the new leaf of the name, "" where it stays
	was, is   names
	logon     string // the new logon name, "" where it stays
	principal string
	mail      string
}

func (p *renaming) plan() error {
	e, n := p.entry, p.wanted
	given, family := e.First("givenName"), e.First("sn")
	newGiven, newFamily := cmp.Or(n.Given, given), cmp.Or(n.Family, family)
	display := n.Display
	if display == "" && !n.KeepDisplay && (n.Given != "" || n.Family != "") {
		display = p.newDisplay(given, family, newGiven, newFamily)
	}
	if p.logon = n.Logon; p.logon != "" {
		if err := p.checkLogon(); err != nil {
			return err
		}
	}
	p.was, p.is = names{given, family}, names{newGiven, newFamily}
	if p.principal = n.Principal; p.principal == "" && !n.KeepPrincipal {
		p.principal = p.followed(e.First("userPrincipalName"))
	}
	if p.mail = n.Mail; p.mail == "" && !n.KeepMail {
		p.mail = p.followed(e.First("mail"))
	}
	for _, v := range []struct {
		attr, value string
		most        int
	}{{"givenName", n.Given, maxName}, {"sn", n.Family, maxName}, {"displayName", display, maxDisplay}, {"userPrincipalName", p.principal, maxDisplay}, {"mail", p.mail, maxAddress}} {
		if utf8.RuneCountInString(v.value) > v.most {
			return fmt.Errorf("the new %s is longer than %d characters: %q", v.attr, v.most, v.value)
		}
		if audit.Malformed(v.attr, v.value) && v.value != "" {
			return fmt.Errorf("%q cannot be a %s", v.value, v.attr)
		}
		if v.attr == "displayName" && !e.Has("displayName") && n.Display == "" {
			continue // who has none gets none
		}
		p.change(v.attr, v.value)
	}
	p.addresses()
	return p.names(display)
}

// change replaces the values of an attribute, where that makes a difference.
func (p *renaming) change(attr, value string) {
	now := p.entry.Get(attr)
	if value == "" || len(now) == 1 && now[0] == value {
		return
	}
	p.mods = append(p.mods, Mod{Attr: attr, Old: OctetsOf(now), New: []Octets{Octets(value)}})
}

// newDisplay keeps the form of the display name where it can be recognised:
// the old names in it become the new ones.
func (p *renaming) newDisplay(given, family, newGiven, newFamily string) string {
	old := p.entry.First("displayName")
	if given != "" && family != "" && strings.Contains(old, given) && strings.Contains(old, family) {
		return strings.NewReplacer(family, newFamily, given, newGiven).Replace(old)
	}
	return strings.TrimSpace(newGiven + " " + newFamily)
}

// names are somebody's given and family name.
type names struct{ given, family string }

// locals are the ways in which sign-in names and the local parts of addresses are made
// of names, without dividers.
var locals = []func(given, family string) string{
	func(given, family string) string { return initial(given) + family },
	func(given, family string) string { return family + initial(given) },
	func(given, family string) string { return initial(given) + "." + family },
	func(given, family string) string { return family + "." + initial(given) },
	func(given, family string) string { return given + initial(family) },
	func(given, family string) string { return given + family },
	func(given, family string) string { return family + given },
	func(_, family string) string { return family },
	func(given, _ string) string { return given },
}

func initial(name string) string {
	_, n := utf8.DecodeRuneInString(name)
	return name[:n]
}

// madeOf returns the name that was made of the old names, made of the new ones; "" where
// it was not made of them, or stays.
func (p *renaming) madeOf(local string) string {
	given, family := plainName(p.was.given), plainName(p.was.family)
	newGiven, newFamily := plainName(p.is.given), plainName(p.is.family)
	if given == "" || family == "" || !isASCII(newGiven) || !isASCII(newFamily) {
		return ""
	}
	for _, make := range locals {
		if is := make(newGiven, newFamily); strings.EqualFold(local, make(given, family)) && !strings.EqualFold(local, is) {
			return is
		}
	}
	return ""
}

// plainName is a name as logon names have it: folded, without blanks and signs.
func plainName(name string) string {
	return strings.Map(func(r rune) rune {
		if strings.ContainsRune(" -'’.", r) {
			return -1
		}
		return r
	}, directory.FoldText(name))
}

// followed returns the address that follows from a new name: where its local
// part is the old logon name it becomes the new one, if that changes; where it is made of
// the old names, with or without dots, dashes or underscores between them, of the new
// ones. "" means that it stays.
func (p *renaming) followed(address string) string {
	local, domain, ok := strings.Cut(address, "@")
	if !ok {
		return ""
	}
	if strings.EqualFold(local, p.account.Logon) && p.logon != "" {
		if strings.EqualFold(local, p.logon) {
			return ""
		}
		return p.logon + "@" + domain
	}
	if made := p.madeOf(local); made != "" {
		return made + "@" + domain
	}
	parts := strings.FieldsFunc(local, func(r rune) bool { return strings.ContainsRune("._-", r) })
	if len(parts) < 2 {
		return ""
	}
	changed := false
	for i, part := range parts {
		for _, c := range [][2]string{{p.was.given, p.is.given}, {p.was.family, p.is.family}} {
			if c[0] != "" && c[0] != c[1] && directory.FoldText(part) == directory.FoldText(c[0]) &&
				isASCII(directory.FoldText(c[1])) {
				parts[i], changed = directory.FoldText(c[1]), true
			}
		}
	}
	if !changed {
		return ""
	}
	divider := local[strings.IndexAny(local, "._-")]
	return strings.Join(parts, string(divider)) + "@" + domain
}

// stays says what keeps the old name though it was made of it, and how it would follow.
func (p *renaming) stays() (out []string) {
	for _, one := range []struct {
		what, value string
		changes     bool
		how         string
	}{
		{"logon name", p.account.Logon, p.logon != "", "--logon"},
		{"mail address", p.entry.First("mail"), p.mail != "", "--mail"},
		{"sign-in name", p.entry.First("userPrincipalName"), p.principal != "", "--principal"},
	} {
		local, domain, at := strings.Cut(one.value, "@")
		made := p.madeOf(local)
		if one.changes || made == "" {
			continue
		}
		if at {
			made += "@" + domain
		}
		out = append(out, fmt.Sprintf("the %s stays %s; %s %s would make it follow", one.what, one.value, one.how, made))
	}
	return out
}

func isASCII(s string) bool {
	return s != "" && !strings.ContainsFunc(s, func(r rune) bool { return r >= utf8.RuneSelf })
}

// addresses keeps every address: the new one becomes the first of
// proxyAddresses, and the old one stays as a second, where the schema has the
// notion. Elsewhere the old address stays as a further value of mail.
func (p *renaming) addresses() {
	old := p.entry.First("mail")
	if p.mail == "" || strings.EqualFold(old, p.mail) {
		return
	}
	proxies := p.entry.Get("proxyAddresses")
	switch {
	case len(proxies) > 0:
	case old == "":
		return
	case p.dialect != directory.AD:
		for i := range p.mods {
			if p.mods[i].Attr == "mail" {
				p.mods[i].New = append(p.mods[i].New, OctetsOf(p.entry.Get("mail"))...)
			}
		}
		return
	}
	list := []string{"SMTP:" + p.mail}
	for _, one := range proxies {
		if address, ok := directory.SMTPAddress(one); ok {
			if strings.EqualFold(address, p.mail) {
				continue
			}
			one = "smtp:" + address
		}
		list = append(list, one)
	}
	if old != "" && !slices.ContainsFunc(list, func(a string) bool { return strings.EqualFold(a, "smtp:"+old) }) {
		list = append(list, "smtp:"+old)
	}
	p.mods = append(p.mods, Mod{Attr: "proxyAddresses", Old: OctetsOf(proxies), New: OctetsOf(list)})
}

// names plans the logon name and the leaf of the DN.
func (p *renaming) names(display string) error {
	rdn, _ := directory.SplitDN(p.entry.DN)
	levels, err := directory.ParseDN(rdn)
	if err != nil || len(levels) != 1 || len(levels[0]) != 1 {
		return fmt.Errorf("its name %s is made of several parts, which rename does not change", rdn)
	}
	leaf := levels[0][0]
	logonAttr := p.dialect.Logon.String()
	newLeaf := leaf.Value
	switch {
	case strings.EqualFold(leaf.Type, logonAttr):
		newLeaf = cmp.Or(p.logon, leaf.Value)
		if cn := p.entry.First("cn"); display != "" && cn != "" && p.dialect != directory.AD {
			p.change("cn", display)
		}
	case strings.EqualFold(leaf.Type, "cn") && display != "":
		newLeaf = display
	}
	if !strings.EqualFold(leaf.Type, logonAttr) {
		p.change(logonAttr, p.logon)
	}
	if newLeaf != leaf.Value {
		if utf8.RuneCountInString(newLeaf) > maxCN {
			return fmt.Errorf("the new name is longer than %d characters: %q", maxCN, newLeaf)
		}
		p.rdn = leaf.Type + "=" + directory.EscapeDN(newLeaf)
	}
	return nil
}

func (p *renaming) checkLogon() error {
	switch n := utf8.RuneCountInString(p.logon); {
	case p.dialect == directory.AD && n > maxLogon:
		return fmt.Errorf("the new logon name %q has %d characters, %d are the most", p.logon, n, maxLogon)
	case p.dialect == directory.AD && (strings.ContainsAny(p.logon, forbiddenInLogon) || strings.HasSuffix(p.logon, ".")):
		return fmt.Errorf("the new logon name %q holds a character that it must not", p.logon)
	case strings.TrimSpace(p.logon) != p.logon || strings.ContainsFunc(p.logon, func(r rune) bool { return r < ' ' || r == 0x7f }):
		return fmt.Errorf("the new logon name %q begins or ends with a blank, or holds a control character", p.logon)
	}
	return nil
}

// free makes sure that nobody else has the new names.
func (s *Stager) free(ctx context.Context, p *renaming) error {
	e := p.entry
	taken := func(what, filter string) error {
		found, err := s.From.Select(ctx, filter, []string{"1.1"})
		if err != nil {
			return err
		}
		for i := range found {
			if directory.FoldDN(found[i].DN) != directory.FoldDN(e.DN) {
				return fmt.Errorf("%s has the %s", found[i].DN, what)
			}
		}
		return nil
	}
	if p.logon != "" {
		attr := s.Dialect.Logon.String()
		if err := taken("logon name "+p.logon, "("+attr+"="+source.EscapeFilter(p.logon)+")"); err != nil {
			return err
		}
		if s.Dialect != directory.AD {
			groups, err := s.From.Select(ctx, "(memberUid="+source.EscapeFilter(p.account.Logon)+")", []string{"1.1"})
			if err != nil {
				return err
			}
			if rdn, _ := directory.SplitDN(e.DN); len(groups) > 0 && !strings.HasPrefix(strings.ToLower(rdn), "uid=") {
				return fmt.Errorf("%d groups list it by its logon name, such as %s: change those first", len(groups),
					groups[0].DN)
			}
		}
	}
	if p.principal != "" {
		if err := s.allowed(ctx, e, "userPrincipalName", p.principal); err != nil {
			return err
		}
	}
	if p.mail != "" {
		if err := s.allowed(ctx, e, "mail", p.mail); err != nil {
			return err
		}
	}
	if p.rdn == "" {
		return nil
	}
	_, parent := directory.SplitDN(e.DN)
	found, err := s.From.Get(ctx, []string{p.rdn + "," + parent})
	if err != nil {
		return err
	}
	if len(found) > 0 && directory.FoldDN(found[0].DN) != directory.FoldDN(e.DN) {
		return fmt.Errorf("%s has an entry named %s already (--display gives it another name)", parent, p.rdn)
	}
	return nil
}

// byHand lists what holds the old name and cannot be changed here.
func (p *renaming) byHand() []string {
	var out []string
	for _, attr := range []string{"homeDirectory", "unixHomeDirectory", "profilePath", "scriptPath", "msExchHomeServerName", "targetAddress", "altSecurityIdentities", "gecos"} {
		if v := p.entry.First(attr); v != "" {
			out = append(out, fmt.Sprintf("%s is %s", attr, v))
		}
	}
	if p.principal != "" {
		out = append(
			out,
			"whatever knows the person as "+p.entry.First(
				"userPrincipalName")+" (federated sign-in, cloud services, other directories)",
		)
	}
	if p.logon != "" {
		out = append(out, "whatever knows the person by the logon name "+p.account.Logon)
	}
	return out
}

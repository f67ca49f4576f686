package batch

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"yardbroom/internal/calendar"
	"yardbroom/internal/directory"
	"yardbroom/internal/source"
	"yardbroom/internal/wording"
)

// remove stages a delete: only of an account that is disabled, and has been
// for long enough, by sure evidence.
func (s *Stager) remove(ctx context.Context, o *Order, c *Candidate, a *directory.Account, line *Line) error {
	e := &c.Entry
	if server, ok := s.From.(*source.Server); ok {
		meta, err := server.Metadata(ctx, e)
		if err != nil {
			return err
		}
		if meta != "" {
			dated := directory.Entry{DN: e.DN, Attrs: e.Attrs}
			dated.Set("replPropertyMetaData", meta)
			since := s.Dialect.Account(&dated)
			a.SetFlagsSince(since.Further().FlagsSince)
		}
		if denied, err := server.DeniedDelete(ctx, e.DN); err != nil {
			return err
		} else if denied {
			return errors.New("it is protected against accidental deletion (its access list denies delete); take that off first")
		}
	}
	if !a.Further().FlagsSince.Known() && !c.OffSince.IsZero() {
		a.SetFlagsSince(directory.MomentOf(c.OffSince, s.Dialect.Enabled[0]))
	}
	why, err := s.mayDelete(ctx, e, a, o)
	if err != nil {
		return err
	}
	if why != "" {
		return errors.New(why)
	}
	line.Actions = append(line.Actions, Action{Name: Delete})
	line.Changes = append(line.Changes, Deletes(e.DN))
	line.Warnings = append(line.Warnings, s.retained)
	switch {
	case a.Kind == directory.KindPolicyContainer:
		if share := e.First("gPCFileSysPath"); share != "" {
			line.ByHand = append(line.ByHand,
				"the folder of the policy stays behind on the file share: "+text(share))
		}
	case a.Kind.IsAccount():
		line.Warnings = append(line.Warnings, "a restore does not bring back "+NotComingBack(s.Dialect))
	}
	return nil
}

// mayDelete tells why an entry must not be deleted yet, "" where it may.
func (s *Stager) mayDelete(ctx context.Context, e *directory.Entry, a *directory.Account, o *Order) (string, error) {
	switch a.Kind {
	case directory.KindGroup:
		return s.emptyGroup(ctx, e)
	case directory.KindOU:
		if links := e.Get("gPLink"); len(links) > 0 && strings.TrimSpace(links[0]) != "" {
			return "policies are linked to it; take the links off first", nil
		}
	case directory.KindPolicyContainer:
		return PolicyInUse(ctx, s.From, e)
	}
	if !a.Kind.IsAccount() {
		return "", nil
	}
	return s.longDisabled(a, o), nil
}

// emptyGroup tells why a group is not empty: its own members, or accounts
// that have it as their primary group.
func (s *Stager) emptyGroup(ctx context.Context, e *directory.Entry) (string, error) {
	for _, attr := range MemberAttributes {
		if n := len(e.Get(attr)); n > 0 && !(n == 1 && s.placeholder(e.First(attr), e)) {
			return fmt.Sprintf("it has %s; take them out first", wording.Count(n, "member")), nil
		}
	}
	filter, what := "(&(objectClass=user)(primaryGroupID="+strconv.FormatUint(
		uint64(directory.RID(e.First("objectSid"))), 10)+"))", "their primary group"
	if s.Dialect != directory.AD {
		number := e.First("gidNumber")
		if number == "" {
			return "", nil
		}
		filter, what = "(&(objectClass=posixAccount)(gidNumber="+source.EscapeFilter(
			number)+"))", "the group of their gidNumber"
	}
	found, err := s.From.Select(ctx, filter, []string{"1.1"})
	if err != nil || len(found) == 0 {
		return "", err
	}
	return fmt.Sprintf("it is %s of %d accounts, such as %s", what, len(found), found[0].DN), nil
}

// placeholder tells whether a member only stands in for none, as groups that
// must have one need it: the group itself, or what the settings name.
func (s *Stager) placeholder(member string, group *directory.Entry) bool {
	key := directory.FoldDN(member)
	return key == directory.FoldDN(group.DN) ||
		slices.ContainsFunc(s.Settings.Audit.PlaceholderMembers,
			func(p string) bool { return directory.FoldDN(p) == key })
}

// PolicyInUse tells of a group policy, or a part of one, where it is linked to,
// sites of the configuration partition included; "" where it is not, and for
// every other entry.
func PolicyInUse(ctx context.Context, from Reader, e *directory.Entry) (string, error) {
	policy := e.DN
	switch {
	case policyPart(e):
		_, policy = directory.SplitDN(e.DN)
	case !e.HasClass("groupPolicyContainer"):
		return "", nil
	}
	filter, attributes := "(gPLink=*"+source.EscapeFilter(directory.LeafValue(policy))+"*)", []string{"gPLink"}
	found, err := from.Select(ctx, filter, attributes)
	if server, live := from.(*source.Server); live && err == nil && len(found) == 0 {
		found, err = server.SelectConfiguration(ctx, filter, attributes)
	}
	if err != nil || len(found) == 0 {
		return "", err
	}
	return "it is linked to " + found[0].DN, nil
}

// beforeDelete reads what stands below the candidates, and whether the
// directory keeps what is deleted. The child containers of policies become
// candidates themselves, since nothing is ever deleted as a tree.
func (s *Stager) beforeDelete(ctx context.Context, candidates []Candidate) ([]Candidate, error) {
	var dns, policies []string
	for i := range candidates {
		dns = append(dns, candidates[i].Entry.DN)
		if candidates[i].Entry.HasClass("groupPolicyContainer") {
			policies = append(policies, candidates[i].Entry.DN)
		}
	}
	var err error
	if s.children, err = s.From.Children(ctx, dns); err != nil {
		return nil, err
	}
	if len(policies) > 0 {
		var below []string
		for _, dn := range policies {
			for _, child := range s.children[dn] {
				below = append(below, child)
				s.parts[directory.FoldDN(child)] = true
			}
		}
		entries, err := s.From.Get(ctx, below)
		if err != nil {
			return nil, err
		}
		for i := range entries {
			candidates = append(candidates, Candidate{Entry: entries[i], Reason: "part of the policy above it"})
		}
		grandchildren, err := s.From.Children(ctx, below)
		if err != nil {
			return nil, err
		}
		for dn, list := range grandchildren {
			s.children[dn] = list
		}
	}
	server, live := s.From.(*source.Server)
	if !live {
		s.retained = "whether the directory keeps what is deleted is not known from a file; \"yardbroom yard test\" shows it"
		return candidates, nil
	}
	kept, err := server.Retention(ctx)
	s.retained = kept.String() + "; " + cmp.Or(s.Returns,
		"whether this server brings an account back was not tried: \"yardbroom yard test --probe OU=…\" does")
	return candidates, err
}

// keepParents refuses to delete what would still have entries below it:
// each of them must be a line of its own.
func (s *Stager) keepParents(lines []Line, refusals []Refusal) ([]Line, []Refusal) {
	for {
		before := len(lines)
		going := map[string]bool{}
		for i := range lines {
			going[directory.FoldDN(lines[i].DN)] = true
		}
		lines, refusals = sift(lines, refusals, func(l *Line) string { return s.leftBehind(l, going) })
		if len(lines) == before {
			return lines, refusals
		}
	}
}

// leftBehind tells what would be left above or below a line that deletes.
func (s *Stager) leftBehind(l *Line, going map[string]bool) string {
	var staying []string
	if l.Has(Delete) {
		staying = slices.DeleteFunc(slices.Clone(s.children[l.DN]),
			func(dn string) bool { return going[directory.FoldDN(dn)] })
	}
	_, parent := directory.SplitDN(l.DN)
	switch {
	case len(staying) > 0 && l.Kind == directory.KindComputer.String() && holdsKeys(staying):
		return "recovery keys of its disks stand below it, and would be lost for good"
	case len(staying) > 0:
		return fmt.Sprintf("%s below it, such as %s", wording.Count(len(staying), "entry"), staying[0])
	case s.parts[directory.FoldDN(l.DN)] && !going[directory.FoldDN(parent)]:
		return "the policy above it stays"
	}
	return ""
}

// holdsKeys tells whether recovery keys are among the children of a computer,
// whose names are a time and a GUID in braces.
func holdsKeys(children []string) bool {
	return slices.ContainsFunc(children, func(dn string) bool { return strings.Contains(directory.LeafValue(dn), "{") })
}

// Container tells whether the line is about an entry that others may stand
// below: a unit, a policy, or a part of one.
func (l *Line) Container() bool {
	return slices.Contains(
		[]string{directory.KindOU.String(), directory.KindPolicyContainer.String(), directory.KindOther.String()},
		l.Kind)
}

// NamesAbove are the folded names that the entries of some lines stand below, of
// those lines that something is true of.
func NamesAbove(lines []Line, of func(*Line) bool) map[string]bool {
	above := map[string]bool{}
	for i := range lines {
		if !of(&lines[i]) {
			continue
		}
		for dn := directory.FoldDN(lines[i].DN); dn != ""; {
			_, dn = directory.SplitDN(dn)
			above[dn] = true
		}
	}
	return above
}

// rank orders lines: what is deleted and has others that are deleted below it, by
// their names, comes behind all else, the deepest first; containers do in any
// case.
func (l *Line) rank(above map[string]bool) int {
	if !l.Has(Delete) || !l.Container() && !above[directory.FoldDN(l.DN)] {
		return -1000
	}
	levels, _ := directory.ParseDN(l.DN)
	return -len(levels)
}

// timeBoxed refuses what cannot be taken back when its time is over.
func timeBoxed(o *Order) error {
	for _, name := range o.Actions {
		switch {
		case !HasInverse(name):
			return fmt.Errorf("%s has no inverse, so it cannot be staged with --until", name)
		case name == Delete:
			return errors.New("delete is not for a time: what comes back is not what was there")
		}
	}
	if !o.Until.After(o.At) {
		return errors.New("--until: that time has passed")
	}
	return nil
}

// resetPassword stages a new password, which is made when it is set.
func (s *Stager) resetPassword(a *directory.Account, o *Order, line *Line) error {
	switch {
	case a.Kind != directory.KindUser && a.Kind != directory.KindService:
		return fmt.Errorf("%s has no password that a person knows", a.Kind)
	case s.Dialect == directory.AD && s.disabled(a, o):
		return errors.New("it is disabled; a new password is for somebody who may sign in")
	}
	line.Actions = append(line.Actions, Action{Name: ResetPassword, Unlock: o.Unlock})
	line.Changes = append(line.Changes, SetsPassword("a random one, to be changed at the next sign-in"))
	if o.Unlock {
		line.Changes = append(line.Changes, Change{What: aboutLock, Old: "(if any)", New: "(lifted)"})
	}
	line.Warnings = append(
		line.Warnings,
		"a password that was reset cannot be taken back; \"apply\" is told with --passwords which file the new ones go into",
	)
	if s.Dialect == directory.NS389 {
		line.Warnings = append(
			line.Warnings,
			"whether it must be changed at the next logon is for the server's password policy (passwordMustChange) to say",
		)
	}
	if s.Dialect == directory.OpenLDAP {
		line.Warnings = append(line.Warnings,
			"that it must be changed at the next logon works only under a password policy with pwdMustChange TRUE")
	}
	return nil
}

// disabled tells whether an account is switched off when it is staged.
func (s *Stager) disabled(a *directory.Account, o *Order) bool {
	return switchedOffAt(s.Dialect, s.DefaultPolicy, a, o.At)
}

// Enabled tells whether an account is not known to be switched off.
func Enabled(d *directory.Dialect, defaultPolicy string, e *directory.Entry, at time.Time) bool {
	a := d.Account(e)
	return !switchedOffAt(d, defaultPolicy, &a, at)
}

func switchedOffAt(d *directory.Dialect, defaultPolicy string, a *directory.Account, at time.Time) bool {
	survey := directory.NewSurvey(d)
	survey.DefaultPolicy = directory.FoldDN(defaultPolicy)
	return survey.Disabled(a, at).Yes
}

// longDisabled tells why an account has not been disabled for long enough.
func (s *Stager) longDisabled(a *directory.Account, o *Order) string {
	staged := slices.Contains(o.Actions, Disable)
	wait := s.Settings.Batch.DeleteMinDisabled
	switch {
	case o.EvenEnabled:
		return ""
	case !s.disabled(a, o) && !staged:
		return "it is enabled; disable it first, and delete it when it has been disabled for " + wait.String() + " (--even-enabled overrides; it needs a signature)"
	case wait == calendar.Span{}:
		return ""
	case staged:
		return "it must have been disabled for " + wait.String() + " before it is deleted; disable it in a batch of its own"
	case !a.Further().FlagsSince.Known():
		return "nothing proves for how long it has been disabled (delete_min_disabled is " + wait.String() + ")"
	case a.Further().FlagsSince.Time().After(wait.Before(o.At)):
		return fmt.Sprintf("it has been disabled only since %s (delete_min_disabled is %s)",
			a.Further().FlagsSince.Time().Format(time.DateOnly), wait)
	}
	return ""
}

// NotComingBack says what a restore of a deleted entry cannot give back.
func NotComingBack(d *directory.Dialect) string {
	if d == directory.AD {
		return "the password, keys and other secrets"
	}
	return "the password, the identity and the operational times: it is a new entry with the old values"
}

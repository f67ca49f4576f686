package audit

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"yardbroom/internal/directory"
	"yardbroom/internal/reconcile"
	"yardbroom/internal/roster"
	"yardbroom/internal/settings"
)

var rosterChecks = []*Check{
	{
		Name: LeaverEnabled, Severity: High, Short: "enabled account of a person who has left",
		because: []string{"the person left %s ago", "the person has left"},
		Suggest: []string{
			"disable",
		}, Kinds: users, ByRoster: true, Leavers: true, Guard: pairAttrs, needs: enabledNeeds, wants: wantsStates,
		judge: leaverEnabled,
	},
	{
		Name: "leave-enabled", Severity: Low, Short: "enabled account of a person on leave",
		because: []string{"the person is on leave"},
		Suggest: []string{
			"disable",
		}, Kinds: users, ByRoster: true, Guard: pairAttrs, needs: enabledNeeds, wants: wantsColumns("no status", roster.Status),
		judge: leaveEnabled,
	},
	{
		Name: "returned-disabled", Severity: Low, Short: "disabled account of a current employee who has no other",
		Suggest: []string{
			"enable",
		}, Kinds: users, ByRoster: true, overAll: true, overEntries: true, Guard: pairAttrs, needs: enabledNeeds, wants: wantsStates,
		judge: returnedDisabled,
	},
	{
		Name: NoPerson, Severity: Medium, Short: "enabled account that matches nobody on the roster",
		because: []string{"belongs to nobody on the roster"},
		Suggest: []string{
			"disable",
		}, Kinds: users, ByRoster: true, ByAbsence: true, overAll: true, Guard: pairAttrs, needs: enabledNeeds, wants: wantsRoster,
		absent: func(*pass) []directory.AttrID {
			return []directory.AttrID{
				directory.AttrEmployeeID,
				directory.AttrEmployeeNumber,
				directory.AttrMail,
				directory.AttrProxyAddresses,
				directory.AttrUserPrincipalName,
				directory.AttrGivenName,
				directory.AttrSN,
				directory.AttrDisplayName,
			}
		},
		judge: noPerson,
	},
	{
		Name: "no-account", Severity: Medium, Short: "current employee without an account",
		Kinds: anything, ByRoster: true, overAll: true, overEntries: true, Guard: restsOnNothing, wants: wantsStates,
		gather: noAccount,
	},
	{
		Name: "extra-account", Severity: Low, Short: "further enabled account of a person who has one already",
		Suggest: []string{
			"disable",
		}, Kinds: users, ByRoster: true, overAll: true, Guard: pairAttrs, needs: enabledNeeds, wants: wantsRoster,
		judge: extraAccount,
	},
	{
		Name: "match-unsure", Severity: Low, Short: "account whose owner is in doubt",
		Kinds: users, ByRoster: true, overAll: true, Guard: restsOnNothing, wants: wantsRoster,
		judge: matchUnsure,
	},
	{
		Name: "roster-drift", Severity: Low, Short: "attribute that differs from the roster",
		Suggest: []string{
			"set",
		}, Kinds: users, ByRoster: true, GivesValues: true, Guard: pairAttrs, wants: wantsColumns("neither department, title, location, manager nor names", roster.Department, roster.Title, roster.Location, roster.Manager, roster.Family, roster.Given, roster.FullName),
		judgeMany: rosterDrift,
	},
	{
		Name: "roster-conflict", Severity: Low, Short: "person with contradictory entries on the roster",
		Kinds: anything, ByRoster: true, Guard: restsOnNothing, wants: wantsRoster,
		gather: rosterConflict,
	},
}

func wantsRoster(p *pass) string {
	if p.people == nil {
		return "no roster was given (--roster)"
	}
	return ""
}

// wantsStates asks for a roster that tells who has left.
var wantsStates = wantsColumns("neither end dates nor a status", roster.End, roster.Status)

// wantsColumns asks for a roster with one of these columns at least.
func wantsColumns(none string, fields ...roster.Field) func(p *pass) string {
	return func(p *pass) string {
		if why := wantsRoster(p); why != "" || !p.people.Lacks(fields...) {
			return why
		}
		return "the roster has " + none + " (--show-mapping shows how its columns are read)"
	}
}

// pairAttrs are what a decision about somebody's account rests on besides
// that it is theirs, which PairKeys tell: that it is enabled.
func pairAttrs(d *directory.Dialect) []directory.AttrID { return enabledAttrs(d) }

// PairKeys are the attributes by which an account is found to be somebody's:
// the usual ones, and those that the settings name for the person id.
func PairKeys(set *settings.Settings) []string {
	var names []string
	for _, id := range []directory.AttrID{directory.AttrEmployeeID, directory.AttrEmployeeNumber, directory.AttrMail, directory.AttrUserPrincipalName} {
		names = append(names, id.String())
	}
	for _, name := range set.Roster.IDAttributes {
		if !slices.ContainsFunc(names, func(n string) bool { return strings.EqualFold(n, name) }) {
			names = append(names, name)
		}
	}
	return names
}

// pair returns the pair of an account and its person, nil for none.
func (p *pass) pair(a *directory.Account) (*reconcile.Pair, *roster.Person) {
	pair := p.people.Pair(a)
	if pair == nil {
		return nil, nil
	}
	return pair, &p.people.People[pair.Person]
}

// about completes a finding that rests on a pair.
func (p *pass) about(f *Finding, pair *reconcile.Pair, more ...Evidence) *Finding {
	who := &p.people.People[pair.Person]
	f.Evidence = append(f.Evidence, Evidence{"person", PersonName(who)}, Evidence{"row", rowsOf(who)})
	f.Evidence = append(f.Evidence, more...)
	f.Evidence = append(f.Evidence, Evidence{"matched by", string(pair.By)})
	if !pair.Sure {
		f.Confidence, f.Unconfirmed = Likely, true
		f.Evidence = append(f.Evidence, Evidence{"score", score(pair.Score)},
			Evidence{"because", reconcile.Reasons(p.people.Explain(pair.Person, pair.Account))})
	}
	return f
}

func score(s float64) string { return strconv.FormatFloat(s, 'f', 3, 64) }

// PersonName is what to call a person, with the person id.
func PersonName(who *roster.Person) string {
	name := reconcile.FullName(who)
	if id := who.Values[roster.PersonID]; id != "" && id != name {
		name += " (" + id + ")"
	}
	return name
}

func rowsOf(who *roster.Person) string {
	parts := make([]string, len(who.Rows))
	for i, n := range who.Rows {
		parts[i] = strconv.Itoa(n)
	}
	return strings.Join(parts, ", ")
}

// midnight is when a day of the roster begins, where the roster's days are.
func (p *pass) midnight(day time.Time) time.Time {
	return time.Date(day.Year(), day.Month(), day.Day(), 0, 0, 0, 0, p.people.Zone)
}

func leaverEnabled(p *pass, a *directory.Account) *Finding {
	pair, who := p.pair(a)
	if pair == nil || who.State != roster.Left {
		return nil
	}
	f := p.enabled(a)
	if f == nil {
		return nil
	}
	end := Evidence{"end", "not given"}
	if !who.LeftOn.IsZero() {
		f.Since, end.Value = p.midnight(who.LeftOn), who.LeftOn.Format(time.DateOnly)
	}
	return p.about(f, pair, end)
}

func leaveEnabled(p *pass, a *directory.Account) *Finding {
	pair, who := p.pair(a)
	if pair == nil || who.State != roster.Leave {
		return nil
	}
	f := p.enabled(a)
	if f == nil {
		return nil
	}
	return p.about(f, pair, Evidence{"status", "leave"})
}

func returnedDisabled(p *pass, a *directory.Account) *Finding {
	pair, who := p.pair(a)
	if pair == nil || pair.Second || who.State != roster.Active {
		return nil
	}
	off := p.Disabled(a, p.asOf)
	if !off.Yes || len(p.ordinary(pair.Person)) != 1 {
		return nil
	}
	f := &Finding{Confidence: confidence(off)}
	if a.Further().FlagsSince.Known() {
		f.Since = a.Further().FlagsSince.Time()
	}
	if why := p.suspended[a.ID]; why != "" {
		f.Suggest = []string{} // its time has not come
		return p.about(f, pair, Evidence{"status", "active"}, Evidence{"suspended", why})
	}
	return p.about(f, pair, Evidence{"status", "active"})
}

// ordinary are the pairs of a person, but for administrators' second accounts.
func (p *pass) ordinary(person int) []reconcile.Pair {
	return slices.DeleteFunc(slices.Clone(p.people.Of(person)), func(pair reconcile.Pair) bool { return pair.Second })
}

func noPerson(p *pass, a *directory.Account) *Finding {
	if p.people.Pair(a) != nil || p.people.Doubt(a) != nil {
		return nil
	}
	f := p.enabled(a)
	if f == nil {
		return nil
	}
	if l, linked := p.people.Gone[a]; linked {
		f.Evidence = append(f.Evidence, Evidence{"linked to", l.Person + ", who is no longer on the roster"})
	}
	named := a.Text.First(directory.AttrDisplayName) != ""
	for _, id := range []directory.AttrID{directory.AttrDisplayName, directory.AttrGivenName, directory.AttrSN, directory.AttrEmployeeID, directory.AttrEmployeeNumber, directory.AttrMail} {
		if named && (id == directory.AttrGivenName || id == directory.AttrSN) {
			continue // it says both
		}
		if v := a.Text.First(id); v != "" {
			f.Evidence = append(f.Evidence, Evidence{id.String(), v})
		}
	}
	if len(f.Evidence) == 0 {
		f.Evidence = []Evidence{{directory.AttrDisplayName.String(), absent}}
	}
	if what := reconcile.Impersonal(a); what != "" {
		f.Evidence = append([]Evidence{{"looks like", what}}, f.Evidence...)
		f.bundle = what // apart from those that look like people's
	}
	if may := p.people.MayBe(a); len(may) > 0 {
		f.Confidence, f.Unconfirmed = Likely, true
		p.nameCandidates(f, a, may)
	}
	return f
}

// nameCandidates adds who may be the owner of an account.
func (p *pass) nameCandidates(f *Finding, a *directory.Account, candidates []reconcile.Candidate) {
	for i, c := range candidates {
		who := &p.people.People[c.Person]
		text := fmt.Sprintf("%s, row %s, %s, score %s", PersonName(who), rowsOf(who), who.State, score(c.Score))
		if why := reconcile.Reasons(p.people.Explain(c.Person, a)); why != "" {
			text += ": " + why
		}
		f.Evidence = append(f.Evidence, Evidence{"candidate " + strconv.Itoa(i+1), text})
	}
}

// personOf is what a finding about somebody without an account is about.
func personOf(who *roster.Person) *directory.Subject {
	return &directory.Subject{Kind: directory.KindPerson, Logon: PersonName(who), ID: reconcile.PersonKey(who)}
}

func noAccount(p *pass, report func(*directory.Subject, Finding)) {
	for i := range p.people.People {
		who := &p.people.People[i]
		if who.State != roster.Active || len(p.people.Of(i)) > 0 || p.people.InDoubt(i) {
			continue
		}
		f := Finding{Evidence: []Evidence{{"row", rowsOf(who)}}}
		for _, field := range []roster.Field{roster.Department, roster.Title, roster.Mail} {
			if v := who.Values[field]; v != "" {
				f.Evidence = append(f.Evidence, Evidence{field.String(), v})
			}
		}
		if !who.Start.IsZero() {
			f.Since = p.midnight(who.Start)
			f.Evidence = append(f.Evidence, Evidence{"start", who.Start.Format(time.DateOnly)})
		}
		report(personOf(who), f)
	}
}

func extraAccount(p *pass, a *directory.Account) *Finding {
	pair, _ := p.pair(a)
	if pair == nil || pair.Second {
		return nil
	}
	all := p.ordinary(pair.Person)
	if len(all) < 2 {
		return nil
	}
	f := p.enabled(a)
	if f == nil {
		return nil
	}
	var others []string
	for _, other := range all {
		if on := p.Enabled(other.Account, p.asOf); other.Account != a && on.Yes {
			others = append(others, other.Account.Name())
			if !other.Sure || on.Likely {
				f.Confidence = Likely
			}
			f.Unconfirmed = f.Unconfirmed || !other.Sure
		}
	}
	if len(others) == 0 {
		return nil
	}
	f.bundle = reconcile.PersonKey(&p.people.People[pair.Person])
	return p.about(f, pair, Evidence{"others", listed(others)})
}

func matchUnsure(p *pass, a *directory.Account) *Finding {
	d := p.people.Doubt(a)
	if d == nil || !p.matters(a, d) {
		return nil
	}
	f := &Finding{Confidence: Likely, Evidence: []Evidence{{"why", d.Why}}}
	p.nameCandidates(f, a, d.Candidates)
	return f
}

// matters tells whether anything would follow from knowing whose an account
// is: nothing does if it is disabled and all who may have it have left.
func (p *pass) matters(a *directory.Account, d *reconcile.Doubt) bool {
	return len(d.Candidates) == 0 || !p.Disabled(a, p.asOf).Yes ||
		slices.ContainsFunc(d.Candidates,
			func(c reconcile.Candidate) bool { return p.people.People[c.Person].State != roster.Left })
}

// drifting are the fields of a roster that the directory should say too.
var drifting = []struct {
	field roster.Field
	attr  directory.AttrID
}{
	{roster.Department, directory.AttrDepartment},
	{roster.Title, directory.AttrTitle},
	{roster.Location, directory.AttrL},
	{roster.Family, directory.AttrSN},
	{roster.Given, directory.AttrGivenName},
}

func rosterDrift(p *pass, a *directory.Account) []Finding {
	pair, who := p.pair(a)
	if pair == nil || pair.Second || who.State == roster.Left {
		return nil
	}
	var out []Finding
	add := func(attr directory.AttrID, field roster.Field, is, should string, fix *Fix) {
		f := Finding{
			Evidence: []Evidence{{attr.String(), cmp.Or(is, absent)}, {"roster " + field.String(), should}},
			bundle:   attr.String(),
			fix:      fix,
		}
		out = append(out, *p.about(&f, pair))
	}
	for _, d := range drifting {
		attr := p.driftAttr(d.attr, d.field)
		should := who.Values[d.field]
		if should == "" || !p.Shows(directory.KindUser, attr) {
			continue
		}
		if is, differs := drifted(a, attr, should); differs {
			add(attr, d.field, is, should, &Fix{Attr: attr.String(), Old: is, New: should})
		}
	}
	if is, boss := p.otherManager(a, who); boss != nil {
		add(directory.AttrManager, roster.Manager, is, boss.DN,
			&Fix{Attr: directory.AttrManager.String(), New: boss.DN})
	}
	return out
}

// driftAttr is the attribute that a field of the roster is compared with: the usual one,
// but for a location of which the settings name another.
func (p *pass) driftAttr(usual directory.AttrID, field roster.Field) directory.AttrID {
	if field == roster.Location && p.rules.location != directory.AttrUnknown {
		return p.rules.location
	}
	return usual
}

// driftsFrom tells whether the roster surely gives an account another value of an
// attribute, and not only another spelling.
func (p *pass) driftsFrom(a *directory.Account, attr directory.AttrID) bool {
	if p.people == nil {
		return false
	}
	pair, who := p.pair(a)
	if pair == nil || !pair.Sure || pair.Second || who.State == roster.Left {
		return false
	}
	for _, d := range drifting {
		if should := who.Values[d.field]; p.driftAttr(d.attr, d.field) == attr && should != "" {
			_, differs := drifted(a, attr, should)
			return differs
		}
	}
	return false
}

// drifted tells whether no value of an attribute folds as the roster's does,
// and which there is.
func drifted(a *directory.Account, attr directory.AttrID, should string) (is string, differs bool) {
	folded := directory.FoldText(should)
	for v := range a.Text.All(attr) {
		if v == should || directory.FoldText(v) == folded {
			return "", false
		}
		is = cmp.Or(is, v)
	}
	return is, true
}

// otherManager returns the account of somebody's manager, where that is sure
// and the account names another one or none.
func (p *pass) otherManager(a *directory.Account, who *roster.Person) (is string, boss *directory.Account) {
	id := who.Values[roster.Manager]
	if id == "" || !p.Shows(directory.KindUser, directory.AttrManager) {
		return "", nil
	}
	at, known := p.byPersonID()[reconcile.KeyOfID(id)]
	if !known {
		return "", nil
	}
	for _, pair := range p.ordinary(at) {
		switch {
		case pair.Account.Key == a.Manager:
			return "", nil
		case pair.Sure && boss == nil:
			boss = pair.Account
		}
	}
	if boss == nil || boss == a {
		return "", nil
	}
	if a.Manager != (directory.Key{}) {
		is = "somebody else"
		if other := p.byKey()[a.Manager]; other != nil {
			is = other.DN
		}
	}
	return is, boss
}

// findPersonIDs finds people by the keys of their ids.
func (p *pass) findPersonIDs() map[string]int {
	all := make(map[string]int, len(p.people.People))
	for i := range p.people.People {
		all[reconcile.PersonKey(&p.people.People[i])] = i
	}
	return all
}

// findByKey finds accounts by the keys of their names.
func (p *pass) findByKey() map[directory.Key]*directory.Account {
	all := make(map[directory.Key]*directory.Account, p.Accounts.Len())
	for a := range p.Accounts.All() {
		all[a.Key] = a
	}
	return all
}

func rosterConflict(p *pass, report func(*directory.Subject, Finding)) {
	for i := range p.people.People {
		who := &p.people.People[i]
		if who.Conflict == "" {
			continue
		}
		f := Finding{
			Evidence: []Evidence{{"row", rowsOf(who)}, {"conflict", who.Conflict}, {"taken for", string(who.State)}},
		}
		for _, pair := range p.people.Of(i) {
			f.Evidence = append(f.Evidence, Evidence{"account", pair.Account.Name()})
		}
		report(personOf(who), f)
	}
}

// earlyByRoster tells of an account that is enabled before the first day that
// the roster says.
func earlyByRoster(p *pass, a *directory.Account) *Finding {
	if p.people == nil {
		return nil
	}
	pair, who := p.pair(a)
	if pair == nil || who.State != roster.Future || who.Start.IsZero() || !p.midnight(who.Start).After(p.asOf) {
		return nil
	}
	f := p.enabled(a)
	if f == nil {
		return nil
	}
	return p.about(f, pair, Evidence{"start", who.Start.Format(time.DateOnly)})
}

// RosterSummary counts what became of people and accounts.
type RosterSummary struct {
	People  int `json:"people"`
	Active  int `json:"active"`
	Leave   int `json:"on_leave"`
	Left    int `json:"left"`
	Future  int `json:"future"`
	Matched int `json:"matched"`         // people with an account
	Without int `json:"without_account"` // people with none
	Unsure  int `json:"in_doubt"`        // people who may have one of those in doubt

	Accounts int                   `json:"accounts"` // users that may be somebody's
	ByKey    map[reconcile.Key]int `json:"matched_by"`
	Sure     int                   `json:"sure"`   // accounts, of those matched
	Likely   int                   `json:"likely"` // accounts, of those matched
	Doubtful int                   `json:"accounts_in_doubt"`
	Nobodys  int                   `json:"accounts_of_nobody"`
	// Impersonal are those of nobody that look like accounts of services, rooms,
	// shared mailboxes or tests.
	Impersonal int `json:"accounts_impersonal"`
	Enabled    int `json:"accounts_enabled"`
	// Leaving are enabled accounts whose people have left, or that are nobody's
	// and not exempt: what would be switched off if the roster were taken at its
	// word.
	Leaving int `json:"accounts_leaving"`
}

// MatchedAccounts is the number of accounts that are somebody's.
func (s *RosterSummary) MatchedAccounts() int { return s.Sure + s.Likely }

// rosterSummary counts over the whole directory.
func (p *pass) rosterSummary() *RosterSummary {
	s := &RosterSummary{People: len(p.people.People), Accounts: p.people.Accounts, ByKey: map[reconcile.Key]int{}}
	for i := range p.people.People {
		switch p.people.People[i].State {
		case roster.Active:
			s.Active++
		case roster.Leave:
			s.Leave++
		case roster.Left:
			s.Left++
		case roster.Future:
			s.Future++
		}
		switch {
		case len(p.people.Of(i)) > 0:
			s.Matched++
		case p.people.InDoubt(i):
			s.Unsure++
		default:
			s.Without++
		}
	}
	for a := range p.Accounts.All() {
		if a.Kind != directory.KindUser || a.BuiltIn {
			continue
		}
		pair, who := p.pair(a)
		enabled := p.Enabled(a, p.asOf).Yes
		if enabled {
			s.Enabled++
		}
		switch {
		case pair != nil:
			s.ByKey[pair.By]++
			if pair.Sure {
				s.Sure++
			} else {
				s.Likely++
			}
			if enabled && who.State == roster.Left {
				s.Leaving++
			}
		case p.people.Doubt(a) != nil:
			s.Doubtful++
		default:
			s.Nobodys++
			if reconcile.Impersonal(a) != "" {
				s.Impersonal++
			}
			if enabled &&
				!p.exempt.covers(&Finding{Check: NoPerson, Kind: a.Kind.String(), DN: a.DN, Account: a.Name()}) {
				s.Leaving++
			}
		}
	}
	return s
}

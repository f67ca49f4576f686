package directory

import (
	"maps"
	"math/bits"
	"slices"
	"strconv"
	"strings"
)

// What is not there and what may not be read look the same. This file keeps
// the two apart: by what the source told of each entry (Entry.Hide), or by
// what entries of one place never show while most elsewhere do.

// Hide writes down, with the entry itself, which attributes may not be read of
// it and whether it may hide entries below it, so that kept surveys hold that
// too. Attributes that it shows are not hidden.
func (e *Entry) Hide(attrs AttrSet, below bool) {
	var names []string
	for id := range attrs.All() {
		if !e.Has(id.String()) {
			names = append(names, id.String())
		}
	}
	if len(names) > 0 {
		e.Set(AttrHidden.String(), names...)
	}
	if below {
		e.Set(AttrHidesBelow.String(), "TRUE")
	}
}

func hiddenIn(e *Entry) (hidden AttrSet) {
	for _, name := range e.Get(AttrHidden.String()) {
		if id := LookupAttr(name); id != AttrUnknown {
			hidden.Add(id)
		}
	}
	return hidden
}

// Hides tells whether it is written down of the entry that one of some attributes may not be
// read of it.
func (e *Entry) Hides(attrs AttrSet) bool { return hiddenIn(e).Overlaps(attrs) }

// Telling are the attributes of entries of a kind whose absence says something.
func (d *Dialect) Telling(k Kind) AttrSet {
	switch {
	case k.IsAccount():
		return d.facts().Union(Attrs(d.accountTelling...))
	case k == KindGroup:
		return Attrs(append([]AttrID{d.Created}, d.groupTelling...)...)
	case k == KindOU || k == KindDomain:
		return Attrs(append([]AttrID{d.Created}, d.placeTelling...)...)
	case k == KindPolicyContainer:
		return Attrs(d.Created)
	}
	return AttrSet{}
}

// facts are the attributes that states and times of accounts follow from.
func (d *Dialect) facts() AttrSet {
	return Attrs(
		slices.Concat(d.LastLogon, d.Enabled, d.Expiry, d.Locked, d.PasswordSet, d.MustChange,
			[]AttrID{d.Created, AttrPrimaryGroupID})...)
}

var (
	adAccountTelling = []AttrID{
		AttrResultantPSO,
		AttrAdminCount,
		AttrManager,
		AttrManagedBy,
		AttrGivenName,
		AttrSN,
		AttrDisplayName,
		AttrMail,
		AttrProxyAddresses,
		AttrUserPrincipalName,
		AttrEmployeeID,
		AttrEmployeeNumber,
		AttrServicePrincipalName,
		AttrSIDHistory,
		AttrOperatingSystem,
		AttrRecipientTypeDetails,
		AttrMasterAccountSID,
		AttrIsCriticalSystemObject,
	}
	openAccountTelling = []AttrID{
		AttrManager,
		AttrGivenName,
		AttrSN,
		AttrDisplayName,
		AttrMail,
		AttrEmployeeNumber,
		AttrGIDNumber,
	}
	openGroupTelling = []AttrID{AttrMember, AttrUniqueMember, AttrMemberUID}
)

// MemberLists are the attributes of groups that say who is in them.
var MemberLists = Attrs(openGroupTelling...)

// visibility is what a survey knows of what was hidden from it.
type visibility struct {
	places   map[Key]*place
	totals   [kindCount]int               // entries that are not built in
	carriers [kindCount]*[attrCount]int32 // how many of them show an attribute
	hides    map[Key]string               // names of entries below which not all is shown
	veiled   []string                     // names of entries that do not show what they are
	said     []said
	bySight  map[Key]*[kindCount]AttrSet // what entries of a place never show
}

// place is what is known of the entries right below a name.
type place struct {
	entries int
	kinds   []seen
}

type seen struct {
	kind Kind
	n    int
	any  AttrSet // what at least one shows
}

// said is what an entry says of how many stand below it.
type said struct {
	key  Key
	name string
	n    int // at least
}

func newVisibility() visibility {
	return visibility{places: map[Key]*place{}, hides: map[Key]string{}}
}

func (v *visibility) placeOf(k Key) *place {
	p := v.places[k]
	if p == nil {
		p = &place{}
		v.places[k] = p
	}
	return p
}

func (p *place) of(k Kind) *seen {
	for i := range p.kinds {
		if p.kinds[i].kind == k {
			return &p.kinds[i]
		}
	}
	p.kinds = append(p.kinds, seen{kind: k})
	return &p.kinds[len(p.kinds)-1]
}

// look takes note of what an entry shows, at its place.
func (v *visibility) look(p *place, a *Account, e *Entry) {
	p.entries++
	v.note(a, e)
	if a.BuiltIn {
		return // these are like no other
	}
	v.totals[a.Kind]++
	at := p.of(a.Kind)
	at.n++
	at.any = at.any.Union(a.Present)
	counts := v.carriers[a.Kind]
	if counts == nil {
		counts = &[attrCount]int32{}
		v.carriers[a.Kind] = counts
	}
	for i, word := range a.Present {
		for ; word != 0; word &= word - 1 {
			counts[i*64+bits.TrailingZeros64(word)]++
		}
	}
}

// note takes note of what an entry says of those below it.
func (v *visibility) note(a *Account, e *Entry) {
	if a.Present.Has(AttrHidesBelow) {
		v.hides[a.Key] = strings.Clone(e.DN)
	}
	if a.Hidden.Has(AttrObjectClass) { // what it is cannot be told
		v.veiled = append(v.veiled, strings.Clone(e.DN))
	}
	if a.Present.Has(AttrNumSubordinates) || a.Present.Has(AttrHasSubordinates) ||
		a.Present.Has(AttrApproxSubordinates) {
		n, _ := strconv.Atoi(e.First(AttrNumSubordinates.String()))
		about, _ := strconv.Atoi(e.First(AttrApproxSubordinates.String())) // not exact, but not made of nothing
		if n == 0 && (about > 0 || e.First(AttrHasSubordinates.String()) == "TRUE") {
			n = 1
		}
		if n > 0 {
			v.said = append(v.said, said{a.Key, strings.Clone(e.DN), n})
		}
	}
}

func (v *visibility) merge(o *visibility) {
	for k, from := range o.places {
		into := v.placeOf(k)
		into.entries += from.entries
		for _, f := range from.kinds {
			at := into.of(f.kind)
			at.n += f.n
			at.any = at.any.Union(f.any)
		}
	}
	for k, counts := range o.carriers {
		v.totals[k] += o.totals[k]
		switch {
		case counts == nil:
		case v.carriers[k] == nil:
			own := *counts
			v.carriers[k] = &own
		default:
			for id, n := range counts {
				v.carriers[k][id] += n
			}
		}
	}
	maps.Copy(v.hides, o.hides)
	v.said = append(v.said, o.said...)
	v.veiled = append(v.veiled, o.veiled...)
}

// fewest is how many entries of a kind a place must have before what none of
// them shows is taken as hidden there.
const fewest = 3

// Settle works out what was hidden, once all entries are in the survey: where
// fewer entries were seen below a name than it says it has, or fewer members in
// a group than say they are in it; and, unless the
// source told by rights, what entries of one place never show though half of
// those elsewhere do.
func (s *Survey) Settle() {
	for _, dn := range s.veiled {
		if !s.isOwnPlace(dn) {
			_, dn = SplitDN(dn)
		}
		s.hides[KeyOf(dn)] = dn
	}
	for _, one := range s.said {
		if p := s.places[one.key]; p == nil || p.entries < one.n {
			s.hides[one.key] = one.name
		}
	}
	if !s.RightsRead {
		s.settleBySight()
	}
	for i := range s.Groups {
		if g := &s.Groups[i]; g.Kind == KindGroup && g.Hidden.Overlaps(MemberLists) {
			g.Incomplete = true
		}
		if g := &s.Groups[i]; s.claims[g.Key] > len(g.Members) {
			g.Incomplete = true
			s.Fewer = append(s.Fewer, g.Name())
		}
	}
	slices.Sort(s.Fewer)
}

func (s *Survey) settleBySight() {
	s.bySight = map[Key]*[kindCount]AttrSet{}
	for k, p := range s.places {
		for _, at := range p.kinds {
			if at.n < fewest {
				continue
			}
			elsewhere := s.totals[at.kind] - at.n
			for id := range s.Dialect.Telling(at.kind).Without(at.any).All() {
				if n := int(s.carriers[at.kind][id]); n > 0 && 2*n >= elsewhere {
					if s.bySight[k] == nil {
						s.bySight[k] = &[kindCount]AttrSet{}
					}
					s.bySight[k][at.kind].Add(id)
				}
			}
		}
	}
	if len(s.bySight) == 0 {
		return
	}
	above := map[string]*[kindCount]AttrSet{}
	for n, part := range s.Accounts.parts {
		ours := !s.sharesParts
		for i := range part {
			a := &part[i]
			parent := a.DN[endOfValue(a.DN):]
			at := above[parent]
			if at == nil {
				at = s.sightOf(a.DN)
				above[parent] = at
			}
			hidden := at[a.Kind].Without(a.Present)
			if hidden != (AttrSet{}) && !ours {
				part, ours = slices.Clone(part), true
				s.Accounts.parts[n] = part
			}
			part[i].Hidden = a.Hidden.Union(hidden)
		}
	}
	for i := range s.Groups {
		s.hideBySight(&s.Groups[i].Subject, AttrSet{})
	}
	for i := range s.Units {
		s.hideBySight(&s.Units[i].Subject, AttrSet{})
	}
}

// Subjects goes through the accounts, groups and units of the survey. Whoever
// sets their Hidden has to call Settle then.
func (s *Survey) Subjects(visit func(*Subject)) {
	for _, part := range s.Accounts.parts {
		for i := range part {
			visit(&part[i].Subject)
		}
	}
	for i := range s.Groups {
		visit(&s.Groups[i].Subject)
	}
	for i := range s.Units {
		visit(&s.Units[i].Subject)
	}
}

// hideBySight hides of an entry what no other of its kind and place shows.
func (s *Survey) hideBySight(of *Subject, present AttrSet) {
	if len(s.bySight) > 0 {
		of.Hidden = of.Hidden.Union(s.sightOf(of.DN)[of.Kind].Without(present))
	}
}

var nothingHidden [kindCount]AttrSet

// sightOf is what entries at the place of one never show, by their kinds.
func (s *Survey) sightOf(dn string) *[kindCount]AttrSet {
	_, parent := keysOf(dn)
	if at := s.bySight[parent]; at != nil {
		return at
	}
	return &nothingHidden
}

// HidesBelow tells whether entries may stand right below a name that were not
// shown.
func (s *Survey) HidesBelow(k Key) bool { return s.hides[k] != "" }

// Hiding returns the names of entries below which not everything was shown,
// sorted, but for those of HidingOwn.
func (s *Survey) Hiding() []string {
	return s.hiding(func(_ Key, name string) bool { return !s.isOwnPlace(name) })
}

// HidingUnits returns those of them that organizational units may stand below.
func (s *Survey) HidingUnits() []string {
	units := map[Key]bool{KeyOf(s.Domain.DN): true}
	for i := range s.Units {
		units[s.Units[i].Key] = true
	}
	return s.hiding(func(k Key, _ string) bool { return units[k] })
}

// HidingOwn returns the same of the places where a domain keeps its own
// affairs: nobody's account, group or unit stands there, and hardly anybody may
// read them all.
func (s *Survey) HidingOwn() []string {
	return s.hiding(func(_ Key, name string) bool { return s.isOwnPlace(name) })
}

func (s *Survey) hiding(which func(Key, string) bool) (names []string) {
	for k, name := range s.hides {
		if which(k, name) {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return names
}

// ownPlaces are the containers of a domain's own affairs (MS-ADTS 6.1.1.4).
var ownPlaces = []string{"cn=system", "cn=ntds quotas"}

func (s *Survey) isOwnPlace(name string) bool {
	return s.Domain.DN != "" && IsOwnPlace(name, s.Domain.DN)
}

// IsOwnPlace tells whether a name stands where a domain keeps its own affairs.
func IsOwnPlace(name, domain string) bool {
	folded, top := FoldDN(name), FoldDN(domain)
	return slices.ContainsFunc(ownPlaces, func(own string) bool { return Under(folded, own+","+top) })
}

// HiddenAt is an attribute that entries of a kind do not show at a place,
// where they may have it.
type HiddenAt struct {
	Place string // DN of the container
	Kind  Kind
	Attr  AttrID
	N     int // of how many entries
}

// HiddenAttributes returns what is hidden where, by place. Told by rights it is
// everything; told by sight only what states, sign-ins, members and links
// follow from, and the attributes in also: service accounts have no first
// names, hidden or not.
func (s *Survey) HiddenAttributes(also AttrSet) []HiddenAt {
	type where struct {
		place string
		kind  Kind
		attr  AttrID
	}
	counts := map[where]int{}
	add := func(of *Subject) {
		if of.Hidden == (AttrSet{}) {
			return
		}
		_, parent := SplitDN(of.DN)
		hidden := of.Hidden
		if !s.RightsRead && of.Kind.IsAccount() {
			hidden = hidden.Intersect(s.Dialect.facts().Union(also))
		}
		for id := range hidden.All() {
			counts[where{parent, of.Kind, id}]++
		}
	}
	s.Subjects(add)
	for i := range s.PolicyLinks {
		if s.PolicyLinks[i].Kind != KindOU { // the others are among the units
			add(&s.PolicyLinks[i].Subject)
		}
	}
	out := make([]HiddenAt, 0, len(counts))
	for w, n := range counts {
		out = append(out, HiddenAt{w.place, w.kind, w.attr, n})
	}
	slices.SortFunc(out, func(x, y HiddenAt) int {
		if c := strings.Compare(x.Place, y.Place); c != 0 {
			return c
		}
		if x.Kind != y.Kind {
			return int(x.Kind) - int(y.Kind)
		}
		return int(x.Attr) - int(y.Attr)
	})
	return out
}

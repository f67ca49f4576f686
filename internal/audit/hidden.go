package audit

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"yardbroom/internal/directory"
	"yardbroom/internal/wording"
)

// resourceMarks tell of what most checks leave out; where they may not be read
// an account may be one of these.
var resourceMarks = []directory.AttrID{
	directory.AttrIsCriticalSystemObject,
	directory.AttrRecipientTypeDetails,
	directory.AttrMasterAccountSID,
}

// restsOnAbsence are the attributes whose absence a finding may rest on.
func (p *pass) restsOnAbsence(c *Check, k directory.Kind) (all directory.AttrSet) {
	add := func(ids []directory.AttrID) {
		for _, id := range ids {
			all.Add(id)
		}
	}
	if c.needs != nil {
		for _, ids := range c.needs(p.Dialect) {
			add(ids)
		}
	}
	if c.Guard != nil {
		add(c.Guard(p.Dialect))
	}
	if c.absent != nil {
		add(c.absent(p))
	}
	if k.IsAccount() {
		add(resourceMarks)
	}
	return all
}

// hidden says what a finding rests on that may not be read.
func (p *pass) hidden(c *Check, about *directory.Subject) (out []Evidence) {
	if about.Hidden != (directory.AttrSet{}) {
		rests := p.restsOnAbsence(c, about.Kind)
		for id := range about.Hidden.All() {
			if rests.Has(id) {
				out = append(out, Evidence{id.String(), p.hiddenWord()})
			}
		}
	}
	var places []string
	switch {
	case c.overEntries:
		places = p.hiding()
	case c.overUnits:
		places = p.hidingUnits()
	}
	if len(places) > 0 {
		out = append(out, Evidence{"not all shown below", listed(places)})
	}
	if c.overChildren && p.HidesBelow(about.Key) {
		out = append(out, Evidence{"entries below", "may not all be read"})
	}
	return out
}

// withHidden adds what is hidden to evidence, in the place of what was taken for
// absent.
func withHidden(all, hidden []Evidence) []Evidence {
	all = slices.Clone(all)
	for _, h := range hidden {
		at := slices.IndexFunc(all, func(e Evidence) bool { return e.Attr == h.Attr && e.Absent() })
		if at >= 0 {
			all[at] = h
		} else {
			all = append(all, h)
		}
	}
	return all
}

func (p *pass) hiddenWord() string {
	if p.RightsRead {
		return "may not be read"
	}
	return "not shown here, as it is elsewhere"
}

// mostPlaces is how many places the notes name.
const mostPlaces = 10

// hiddenNotes say what is hidden where, and what findings rest on.
func (p *pass) hiddenNotes(findings []Finding) (notes []string) {
	var rested directory.AttrSet
	for i := range findings {
		for _, e := range findings[i].Evidence {
			if findings[i].Hidden && e.Value == p.hiddenWord() {
				rested.Add(directory.LookupAttr(e.Attr))
			}
		}
	}
	for _, h := range DescribeHidden(p.Survey, rested) {
		if len(notes) == mostPlaces {
			return append(notes, "more is hidden elsewhere; \"yardbroom yard test\" names every place")
		}
		notes = append(notes, h)
	}
	return notes
}

// DescribeHidden says what a survey could not show, place by place, in words:
// first where entries are hidden, then attributes, those in also among them.
func DescribeHidden(s *directory.Survey, also directory.AttrSet) (out []string) {
	for _, dn := range s.Hiding() {
		out = append(out,
			dn+": entries below it may not all be read, so nothing is called empty, unlinked or missing for sure")
	}
	type group struct {
		place string
		kind  directory.Kind
		n     int
		attrs []string
	}
	var groups []*group
	for _, h := range s.HiddenAttributes(also) {
		var at *group
		if i := slices.IndexFunc(groups, func(g *group) bool { return g.place == h.Place && g.kind == h.Kind }); i >= 0 {
			at = groups[i]
		} else {
			at = &group{place: h.Place, kind: h.Kind}
			groups = append(groups, at)
		}
		at.n = max(at.n, h.N)
		at.attrs = append(at.attrs, h.Attr.String())
	}
	for _, g := range groups {
		kinds := wording.Plural(g.kind.String())
		if g.n == 1 {
			kinds = g.kind.String()
		}
		attrs := strings.Join(g.attrs[:len(g.attrs)-1], ", ")
		attrs = strings.TrimPrefix(attrs+" and "+g.attrs[len(g.attrs)-1], " and ")
		verb := "may not be read"
		if !s.RightsRead {
			verb = "not shown, though most elsewhere show " + map[bool]string{true: "it", false: "them"}[len(g.attrs) == 1] + ": taken as hidden"
		}
		out = append(out, fmt.Sprintf("%s: %s of %d %s %s", cmp.Or(g.place, "(top)"), attrs, g.n, kinds, verb))
	}
	return out
}

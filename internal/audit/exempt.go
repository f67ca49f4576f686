package audit

import (
	"fmt"
	"strings"
	"time"

	"yardbroom/internal/directory"
	"yardbroom/internal/reconcile"
	"yardbroom/internal/settings"
)

// Exemption is an entry, or several, deliberately left alone.
type Exemption struct {
	settings.Exemption
	Until time.Time // its end; zero for none
	// Selected are the keys of the entries that its filter selects, where it
	// has one; whoever reads the directory finds them.
	Selected map[directory.Key]bool
}

// Ended tells whether it is over at a time.
func (e *Exemption) Ended(at time.Time) bool { return !e.Until.IsZero() && at.After(e.Until) }

// Protects tells whether it keeps entries from being changed, and not from checks alone.
func (e *Exemption) Protects(at time.Time) bool { return len(e.Checks) == 0 && !e.Ended(at) }

var exemptionChecks = []*Check{
	{
		Name: "exemption-ended", Severity: Low, Short: "exemption that has ended",
		Kinds: anything,
		gather: func(p *pass, report func(*directory.Subject, Finding)) {
			for i := range p.exempt.ended {
				e := &p.exempt.ended[i]
				report(e.subject(), Finding{Since: e.Until, Evidence: e.evidence()})
			}
		},
	},
	{
		Name: "exemption-unused", Severity: Info, overEntries: true, Short: "exemption that matches nothing",
		Kinds: anything, overAll: true,
		gather: func(p *pass, report func(*directory.Subject, Finding)) {
			for _, e := range p.exempt.unused(p.Survey, p.people) {
				report(e.subject(), Finding{Evidence: e.evidence()})
			}
		},
	},
}

// subject is what a finding about the exemption itself is about.
func (e *Exemption) subject() *directory.Subject {
	m := e.Match
	s := &directory.Subject{Kind: directory.KindExemption, Logon: m.String()}
	if m.DN != "" {
		s.DN = m.DN
	}
	if m.Subtree != "" {
		s.DN = m.Subtree
	}
	return s
}

func (e *Exemption) evidence() []Evidence {
	out := []Evidence{{"match", e.Match.String()}, {"reason", e.Reason}, {"owner", e.Owner}}
	if !e.Until.IsZero() {
		out = append(out, Evidence{"until", e.Until.UTC().Format(time.RFC3339)})
	}
	return out
}

// exemptions are those in force, ready to be asked, and those that ended.
type exemptions struct {
	active, ended []Exemption
	byKey         map[directory.Key][]*Exemption
	byLogon       map[string][]*Exemption // in lower case
	byPerson      map[string]*Exemption   // by the person's key
	others        []*Exemption            // by subtree or filter
}

func newExemptions(all []Exemption, asOf time.Time) *exemptions {
	x := &exemptions{
		byKey:    map[directory.Key][]*Exemption{},
		byLogon:  map[string][]*Exemption{},
		byPerson: map[string]*Exemption{},
	}
	for _, e := range all {
		if e.Ended(asOf) {
			x.ended = append(x.ended, e)
		} else {
			x.active = append(x.active, e)
		}
	}
	for i := range x.active {
		e := &x.active[i]
		switch m := e.Match; {
		case m.Person != "":
			x.byPerson[reconcile.KeyOfID(m.Person)] = e
		case m.DN != "":
			x.byKey[directory.KeyOf(m.DN)] = append(x.byKey[directory.KeyOf(m.DN)], e)
		case m.Account != "":
			x.byLogon[strings.ToLower(m.Account)] = append(x.byLogon[strings.ToLower(m.Account)], e)
		default:
			x.others = append(x.others, e)
		}
	}
	return x
}

func (x *exemptions) empty() bool { return len(x.active) == 0 }

// of goes through the exemptions that match an entry, until yield says no.
func (x *exemptions) of(dn, logon string, yield func(*Exemption) bool) {
	if x.empty() {
		return
	}
	key := directory.KeyOf(dn)
	for _, list := range [][]*Exemption{x.byKey[key], x.byLogon[strings.ToLower(logon)]} {
		for _, e := range list {
			if !yield(e) {
				return
			}
		}
	}
	folded := ""
	for _, e := range x.others {
		match := e.Selected[key]
		if e.Match.Subtree != "" {
			if folded == "" {
				folded = directory.FoldDN(dn)
			}
			match = directory.Under(folded, directory.FoldDN(e.Match.Subtree))
		}
		if match && !yield(e) {
			return
		}
	}
}

// covers tells whether an exemption leaves a finding out.
func (x *exemptions) covers(f *Finding) (yes bool) {
	if f.Kind == directory.KindPerson.String() {
		e := x.byPerson[f.ID]
		return e != nil && e.coversCheck(f.Check)
	}
	x.of(f.DN, f.Account, func(e *Exemption) bool {
		yes = e.coversCheck(f.Check)
		return !yes
	})
	return yes
}

func (e *Exemption) coversCheck(name string) bool {
	if len(e.Checks) == 0 {
		return true
	}
	for _, c := range e.Checks {
		if c == name {
			return true
		}
	}
	return false
}

// owner returns who answers for an entry by an exemption, "" for nobody.
func (x *exemptions) owner(s *directory.Subject) (name string) {
	x.of(s.DN, s.Logon, func(e *Exemption) bool {
		name = e.Owner
		return name == ""
	})
	return name
}

// Why returns the reason for leaving an entry out of every check, "" where
// there is none. It is what protects an entry from being changed.
func Why(all []Exemption, asOf time.Time, dn, logon string) string {
	why := ""
	newExemptions(all, asOf).of(dn, logon, func(e *Exemption) bool {
		if e.Protects(asOf) {
			why = fmt.Sprintf("it is exempt: %s (owner %s)", e.Reason, e.Owner)
		}
		return why == ""
	})
	return why
}

// unused returns the exemptions in force that match no entry of the survey
// and nobody on the roster.
func (x *exemptions) unused(s *directory.Survey, people *reconcile.Result) []*Exemption {
	used := map[*Exemption]bool{}
	if !x.empty() {
		note := func(about *directory.Subject) {
			x.of(about.DN, about.Logon, func(e *Exemption) bool { used[e] = true; return true })
		}
		for a := range s.Accounts.All() {
			note(&a.Subject)
		}
		for i := range s.Groups {
			note(&s.Groups[i].Subject)
		}
		for i := range s.Units {
			note(&s.Units[i].Subject)
		}
		for i := range s.GroupPolicies {
			note(&s.GroupPolicies[i].Subject)
		}
		for i := range s.Misplaced {
			note(&s.Misplaced[i])
		}
	}
	if people != nil {
		for i := range people.People {
			if e := x.byPerson[reconcile.PersonKey(&people.People[i])]; e != nil {
				used[e] = true
			}
		}
	}
	var out []*Exemption
	for i := range x.active {
		e := &x.active[i]
		if e.Match.Person != "" && people == nil {
			continue // nobody can tell
		}
		if !used[e] && len(e.Selected) == 0 &&
			(e.Match.Subtree == "" || !s.HasBelow(directory.KeyOf(e.Match.Subtree))) {
			out = append(out, e)
		}
	}
	return out
}

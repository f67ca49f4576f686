package reconcile

import (
	"fmt"
	"strings"

	"yardbroom/internal/directory"
	"yardbroom/internal/names"
)

// Familiar returns a function that tells whether a name is one of those of the
// people in a directory, in whatever letters.
func Familiar(s *directory.Survey) func(name string) bool {
	known := map[string]bool{}
	add := func(text string) {
		for word := range strings.FieldsSeq(text) {
			w := names.New(word)
			for _, key := range w.Keys() {
				known[key] = true
			}
		}
	}
	for a := range s.Accounts.All() {
		if a.Kind == directory.KindUser {
			add(a.Text.First(directory.AttrSN))
			add(a.Text.First(directory.AttrGivenName))
			add(a.Text.First(directory.AttrDisplayName))
		}
	}
	return func(name string) bool {
		w := names.New(name)
		for _, key := range w.Keys() {
			if known[key] {
				return true
			}
		}
		return false
	}
}

// StrangeNames is the error for a roster whose names have nothing in common
// with those of the accounts that its ids or mail addresses point to.
type StrangeNames struct{ Asked, Agree int }

func (e *StrangeNames) Error() string {
	return fmt.Sprintf(
		"of %d people whose person id or mail address an account has, %d share a name with it: the list is read in the wrong encoding (--encoding says which), or a column is taken for another one (--show-mapping shows which is read as what)",
		e.Asked,
		e.Agree,
	)
}

// leastStrange is how many have to be asked to find their names strange,
// mostStrange how many are asked at most.
const leastStrange, mostStrange = 20, 2000

// strangeNames refuses a roster whose names are those of nobody here. Ids of
// another numbering alone point to others by chance; their names are known.
func (m *matcher) strangeNames() error {
	var byMail, byID witnesses
	for i, a := range m.accounts {
		if byMail.agree+byMail.differ > mostStrange {
			break
		}
		for mail := range addresses(a) {
			if who := m.mails.of(mail); len(who) == 1 {
				byMail.ask(m, who[0], int32(i))
				break
			}
		}
		for id := range m.accountIDs(a) {
			if who := m.ids.people(id); len(who) == 1 {
				byID.ask(m, who[0], int32(i))
				break
			}
		}
	}
	switch {
	case byMail.strange():
		return &StrangeNames{byMail.agree + byMail.differ, byMail.agree}
	case byMail.agree == 0 && byID.strange() && !m.namesKnown():
		return &StrangeNames{byID.agree + byID.differ, byID.agree}
	}
	return nil
}

func (w witnesses) strange() bool {
	return w.agree+w.differ >= leastStrange && w.agree*10 < w.agree+w.differ
}

// namesKnown tells whether one in ten family names of the roster, at least, is
// one of the directory.
func (m *matcher) namesKnown() bool {
	here := map[int32]bool{}
	for _, b := range m.account {
		here[b.family] = true
	}
	known, all := 0, 0
	for _, b := range m.person {
		if b.family != noWord {
			all++
			if here[b.family] {
				known++
			}
		}
	}
	return known*10 >= all
}

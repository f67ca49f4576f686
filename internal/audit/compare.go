package audit

import (
	"cmp"
	"maps"
	"slices"
	"strings"
	"time"

	"yardbroom/internal/directory"
	"yardbroom/internal/privilege"
)

// Comparison is what changed between two audits of one directory.
type Comparison struct {
	Before, After *Report
	// New are findings that only the later audit has, Still those that both
	// have (as the later one puts them), Gone those of the earlier only.
	New, Still, Gone []Finding
	Accounts         []AccountChange
	Members          []MemberChange
}

// AccountChange is what happened to one account.
type AccountChange struct {
	What    string `json:"what"` // appeared, vanished, moved or state
	Kind    string `json:"kind"`
	Account string `json:"account"`
	DN      string `json:"dn"` // the later one, where there is one
	Was     string `json:"was,omitempty"`
	Is      string `json:"is,omitempty"`
}

// What happened to an account. Moved says that its name or place changed.
const (
	Appeared = "appeared"
	Vanished = "vanished"
	Moved    = "moved"
	State    = "state"
)

// MemberChange is somebody who was put into a group, or taken out.
type MemberChange struct {
	What       string `json:"what"` // joined or left
	Account    string `json:"account"`
	DN         string `json:"dn"`
	Group      string `json:"group"`
	GroupDN    string `json:"group_dn"`
	Privileged bool   `json:"privileged"` // the group gives power over the directory
}

// What happened to a membership.
const (
	Joined = "joined"
	Left   = "left"
)

// Compare tells what changed from one audit to another of the same
// directory. Entries are the same if their identity is, or, where the source
// shows none, their name.
func Compare(before, after *Report) *Comparison {
	c := &Comparison{Before: before, After: after}
	c.findings()
	c.accounts()
	c.members()
	return c
}

// Sameness is equal for findings of the same fact.
func (f *Finding) Sameness() string {
	who := f.ID
	if who == "" {
		who = directory.FoldDN(f.DN) + "\x00" + f.Account
	}
	return f.Check + "\x00" + who + "\x00" + f.bundle
}

// Earlier says what of a report was left out, since it had been found, or told,
// before.
type Earlier struct {
	// At is the time of the audit that found it, zero where it is Reader who has
	// been told of it.
	At     time.Time
	Reader string
	Known  int // how many findings were left out
}

// Only returns the report with the findings that are chosen by their place.
func (r *Report) Only(chosen func(i int) bool) *Report {
	out, counts := *r, map[string]*Summary{}
	out.Findings, out.Summary = nil, slices.Clone(r.Summary)
	for i := range out.Summary {
		sum := &out.Summary[i]
		sum.Findings, sum.Likely = 0, 0
		counts[sum.Check] = sum
	}
	for i := range r.Findings {
		if chosen(i) {
			out.Findings = append(out.Findings, r.Findings[i])
			counts[r.Findings[i].Check].count(&r.Findings[i])
		}
	}
	return &out
}

func (c *Comparison) findings() {
	old := map[string]int{}
	for i := range c.Before.Findings {
		old[c.Before.Findings[i].Sameness()]++
	}
	kept := map[string]int{}
	for i := range c.After.Findings {
		k := c.After.Findings[i].Sameness()
		if old[k] > kept[k] {
			kept[k]++
			c.Still = append(c.Still, c.After.Findings[i].changed("still"))
		} else {
			c.New = append(c.New, c.After.Findings[i].changed("new"))
		}
	}
	for i := range c.Before.Findings {
		if k := c.Before.Findings[i].Sameness(); kept[k] > 0 {
			kept[k]--
		} else {
			c.Gone = append(c.Gone, c.Before.Findings[i].changed("gone"))
		}
	}
}

// changed is the finding with what became of it.
func (f Finding) changed(how string) Finding {
	f.Change = how
	return f
}

// All returns the findings of both audits, each marked with what became of
// it.
func (c *Comparison) All() []Finding { return slices.Concat(c.New, c.Still, c.Gone) }

// Only returns the comparison with what is about the entries that are chosen by their
// DN, the later one where there is one.
func (c *Comparison) Only(chosen func(dn string) bool) *Comparison {
	out := *c
	about := func(findings []Finding) []Finding {
		return slices.DeleteFunc(slices.Clone(findings), func(f Finding) bool { return !chosen(f.DN) })
	}
	out.New, out.Still, out.Gone = about(c.New), about(c.Still), about(c.Gone)
	out.Accounts = slices.DeleteFunc(slices.Clone(c.Accounts), func(a AccountChange) bool { return !chosen(a.DN) && (a.What != Moved || !chosen(a.Was)) })
	out.Members = slices.DeleteFunc(slices.Clone(c.Members), func(m MemberChange) bool { return !chosen(m.DN) && !chosen(m.GroupDN) })
	return &out
}

// identity is what stays of an entry when it is renamed or moved.
func identity(s *directory.Subject) string {
	if s.ID != "" {
		return s.ID
	}
	return directory.FoldDN(s.DN)
}

func (c *Comparison) accounts() {
	add := func(what string, a *directory.Account, was, is string) {
		c.Accounts = append(c.Accounts,
			AccountChange{What: what, Kind: a.Kind.String(), Account: a.Name(), DN: a.DN, Was: was, Is: is})
	}
	gone, came := beside(&c.Before.Survey.Accounts, &c.After.Survey.Accounts, func(was, is *directory.Account) {
		if was.Key != is.Key {
			add(Moved, is, was.DN, is.DN)
		}
		if x, y := c.Before.Survey.State(was, c.Before.AsOf), c.After.Survey.State(is, c.After.AsOf); x != y {
			add(State, is, x, y)
		}
	})
	for _, a := range came {
		add(Appeared, a, "", c.After.Survey.State(a, c.After.AsOf))
	}
	for _, a := range gone {
		add(Vanished, a, c.Before.Survey.State(a, c.Before.AsOf), "")
	}
	slices.SortFunc(c.Accounts, func(a, b AccountChange) int {
		return cmp.Or(strings.Compare(a.What, b.What), strings.Compare(a.Account, b.Account),
			strings.Compare(a.DN, b.DN))
	})
}

// beside hands over the accounts that two lists share, and returns those that only one
// has. Most lists are in nearly the same order, so that few have to be looked up.
func beside(before, after *directory.Accounts, both func(was, is *directory.Account)) (gone, came []*directory.Account) {
	old, now := slices.Collect(before.All()), slices.Collect(after.All())
	for len(old) > 0 && len(now) > 0 {
		switch {
		case sameAccount(old[0], now[0]):
			both(old[0], now[0])
			old, now = old[1:], now[1:]
		case len(old) > 1 && sameAccount(old[1], now[0]):
			gone, old = append(gone, old[0]), old[1:]
		case len(now) > 1 && sameAccount(old[0], now[1]):
			came, now = append(came, now[0]), now[1:]
		default:
			gone, old = append(gone, old[0]), old[1:]
			came, now = append(came, now[0]), now[1:]
		}
	}
	gone, came = append(gone, old...), append(came, now...)
	byIdentity := make(map[string]*directory.Account, len(gone))
	for _, a := range gone {
		byIdentity[identity(&a.Subject)] = a
	}
	came = slices.DeleteFunc(came, func(is *directory.Account) bool {
		id := identity(&is.Subject)
		was := byIdentity[id]
		if was == nil {
			return false
		}
		both(was, is)
		delete(byIdentity, id)
		return true
	})
	return slices.Collect(maps.Values(byIdentity)), came
}

// sameAccount tells whether two accounts have the same identity.
func sameAccount(a, b *directory.Account) bool { return a.ID == b.ID && (a.ID != "" || a.Key == b.Key) }

// members compares the lists of each group. What differs by name only, since
// a member was renamed or moved, is no change.
func (c *Comparison) members() {
	old := map[string]*directory.Group{}
	for i := range c.Before.Survey.Groups {
		g := &c.Before.Survey.Groups[i]
		old[identity(&g.Subject)] = g
	}
	var changes []listChange
	after, before := map[directory.Key]*directory.Subject{}, map[directory.Key]*directory.Subject{}
	for i := range c.After.Survey.Groups {
		g := &c.After.Survey.Groups[i]
		was := old[identity(&g.Subject)]
		if was == nil {
			was = &directory.Group{}
		}
		ch := listChange{group: g, joined: without(g.Members, was.Members), left: without(was.Members, g.Members)}
		if g.Incomplete || was.Incomplete || len(ch.joined)+len(ch.left) == 0 {
			continue
		}
		changes = append(changes, ch)
		for _, k := range ch.joined {
			after[k] = nil
		}
		for _, k := range ch.left {
			before[k] = nil
		}
	}
	name(c.After.Survey, after)
	name(c.Before.Survey, before)
	powerful := privilege.NewGraph(c.After.Survey, nil).Leads
	for _, ch := range changes {
		joined, left := subjectsOf(ch.joined, after), subjectsOf(ch.left, before)
		c.addMembers(Joined, ch.group, joined, left, powerful(ch.group.Key))
		c.addMembers(Left, ch.group, left, joined, powerful(ch.group.Key))
	}
	slices.SortFunc(c.Members, func(a, b MemberChange) int {
		return cmp.Or(strings.Compare(a.Group, b.Group), strings.Compare(a.GroupDN, b.GroupDN),
			strings.Compare(a.What, b.What), strings.Compare(a.Account, b.Account), strings.Compare(a.DN, b.DN))
	})
}

// listChange is how the list of a group has changed.
type listChange struct {
	group        *directory.Group
	joined, left []directory.Key
}

// subjectsOf are those of some keys that are known.
func subjectsOf(keys []directory.Key, known map[directory.Key]*directory.Subject) (all []*directory.Subject) {
	for _, k := range keys {
		if s := known[k]; s != nil {
			all = append(all, s)
		}
	}
	return all
}

// addMembers takes note of members who joined a group or left it, but for those who are
// among the others too: they have another name now.
func (c *Comparison) addMembers(what string, g *directory.Group, who, others []*directory.Subject, privileged bool) {
	both := make(map[string]bool, len(others))
	for _, s := range others {
		both[identity(s)] = true
	}
	for _, s := range who {
		if !both[identity(s)] {
			c.Members = append(c.Members, MemberChange{What: what, Account: s.Name(), DN: s.DN,
				Group: g.Name(), GroupDN: g.DN, Privileged: privileged})
		}
	}
}

// without returns the keys that only the first list holds.
func without(list, other []directory.Key) []directory.Key {
	if slices.Equal(list, other) {
		return nil
	}
	in := make(map[directory.Key]bool, len(other))
	for _, k := range other {
		in[k] = true
	}
	return slices.DeleteFunc(slices.Clone(list), func(k directory.Key) bool { return in[k] })
}

// name finds the entries with these keys.
func name(s *directory.Survey, want map[directory.Key]*directory.Subject) {
	if len(want) == 0 {
		return
	}
	for a := range s.Accounts.All() {
		if _, ok := want[a.Key]; ok {
			want[a.Key] = &a.Subject
		}
	}
	for i := range s.Groups {
		if _, ok := want[s.Groups[i].Key]; ok {
			want[s.Groups[i].Key] = &s.Groups[i].Subject
		}
	}
}

package main

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"yardbroom/bench/houses"
	"yardbroom/internal/audit"
	"yardbroom/internal/directory"
	"yardbroom/internal/reconcile"
	"yardbroom/internal/roster"
	"yardbroom/internal/settings"
	"yardbroom/internal/source"
)

// share is how many of some cases are bad, or good.
type share struct{ part, all int }

func (s *share) count(part bool) {
	s.all++
	if part {
		s.part++
	}
}

func (s share) String() string {
	if s.all == 0 {
		return "-"
	}
	return fmt.Sprintf("%.2f %%", 100*float64(s.part)/float64(s.all))
}

// outcome is what came of the accounts of one kind of people.
type outcome struct{ found, wrong share }

// verdict is what came of houses: accounts whose owner is found, pairs that
// are wrong, among them sure ones; leavers reported who are none, among them
// sure ones; accounts surely of nobody that are somebody's.
type verdict struct {
	found, wrong, wrongSure               share
	falseLeavers, sureLeavers, sureNobody share
	leaversFound, likelyNobody, nobodies  share
	baseFound, baseWrong                  share
	groups                                map[string]*outcome
	examples                              map[string][]string
}

func (v *verdict) group(names []string, found, stated, wrong bool) {
	for _, name := range names {
		o := v.groups[name]
		if o == nil {
			o = &outcome{}
			v.groups[name] = o
		}
		o.found.count(found)
		if stated {
			o.wrong.count(wrong)
		}
	}
}

// judgeHouses makes houses and holds what the audit says of each against the
// truth.
func judgeHouses(people int, seeds []uint64) (*verdict, error) {
	v := &verdict{groups: map[string]*outcome{}, examples: map[string][]string{}}
	for _, seed := range seeds {
		if err := v.house(houses.Make(people, seed)); err != nil {
			return nil, err
		}
	}
	return v, nil
}

func (v *verdict) house(c *houses.Case) error {
	var entries, rows bytes.Buffer
	if err := c.WriteLDIF(&entries); err != nil {
		return err
	}
	if err := c.WriteRoster(&rows); err != nil {
		return err
	}
	list, err := roster.Read(&rows, "roster", roster.Options{})
	if err != nil {
		return err
	}
	f, err := source.OpenFile("-", &entries)
	if err != nil {
		return err
	}
	defer f.Close()
	survey, err := f.Survey(context.Background())
	if err != nil {
		return err
	}
	set := settings.Defaults()
	r, err := reconcile.Run(list.People(houses.AsOf, roster.TrustStatus), survey,
		reconcile.Options{Second: regexp.MustCompile("(?i)" + set.Audit.AdminAccountPattern)})
	if err != nil {
		return err
	}
	report, err := audit.Run(survey, set,
		audit.Options{AsOf: houses.AsOf, People: r, Checks: []string{"leaver-enabled", "no-person"}})
	if err != nil {
		return err
	}
	v.pairs(c, r, survey)
	v.findings(c, r, report)
	v.baseline(c, survey)
	return nil
}

func (v *verdict) example(kind, format string, args ...any) {
	v.examples[kind] = append(v.examples[kind], fmt.Sprintf(format, args...))
}

// isOwner tells whether somebody is the owner of an account in truth.
func isOwner(c *houses.Case, logon string, p *roster.Person) bool {
	return slices.ContainsFunc(p.Rows, func(n int) bool { return slices.Contains(c.Owner[logon], n-1) })
}

func describe(c *houses.Case, r *reconcile.Result, a *directory.Account) string {
	text := a.DN + " " + a.Text.First(directory.AttrDisplayName) + " " + a.Text.First(directory.AttrMail)
	for _, n := range c.Owner[a.Logon] {
		text += "\n      truth: " + strings.Join(c.Rows[n], "|")
		for i := range r.People {
			if slices.Contains(r.People[i].Rows, n+1) {
				text += " :: " + reconcile.Reasons(r.Explain(i, a))
			}
		}
	}
	if pair := r.Pair(a); pair != nil {
		text += fmt.Sprintf("\n      stated by %s %.3f: %s :: %s", pair.By, pair.Score,
			strings.Join(c.Rows[r.People[pair.Person].Rows[0]-1], "|"), reconcile.Reasons(r.Explain(pair.Person, a)))
	}
	if d := r.Doubt(a); d != nil {
		text += "\n      doubt: " + d.Why
		for _, one := range d.Candidates {
			text += fmt.Sprintf("\n        %.3f %s", one.Score,
				strings.Join(c.Rows[r.People[one.Person].Rows[0]-1], "|"))
		}
	}
	return text + "\n      dirt: " + strings.Join(c.Dirt[a.Logon], ", ")
}

func (v *verdict) pairs(c *houses.Case, r *reconcile.Result, survey *directory.Survey) {
	for a := range survey.Accounts.All() {
		_, owned := c.Owner[a.Logon]
		pair := r.Pair(a)
		right := pair != nil && isOwner(c, a.Logon, &r.People[pair.Person])
		if owned {
			v.found.count(right)
			names := append([]string{"culture " + c.Culture[a.Logon]}, c.Dirt[a.Logon]...)
			v.group(names, right, pair != nil, !right)
			if pair == nil {
				v.example("missed", "%s", describe(c, r, a))
			}
		}
		if pair == nil {
			continue
		}
		v.wrong.count(!right)
		if pair.Sure {
			v.wrongSure.count(!right)
		}
		if !right && pair.Sure {
			v.example("sure", "%s", describe(c, r, a))
		} else if !right {
			v.example("wrong", "%s", describe(c, r, a))
		}
	}
}

func (v *verdict) findings(c *houses.Case, r *reconcile.Result, report *audit.Report) {
	byDN := map[string]*directory.Account{}
	for a := range report.Survey.Accounts.All() {
		byDN[a.DN] = a
	}
	reported := map[string]bool{}
	for i := range report.Findings {
		f := &report.Findings[i]
		a := byDN[f.DN]
		rows, owned := c.Owner[a.Logon]
		switch f.Check {
		case "leaver-enabled":
			reported[a.Logon] = true
			wrong := !owned || !hasLeft(c, rows)
			v.falseLeavers.count(wrong)
			if f.Confidence == audit.Sure {
				v.sureLeavers.count(wrong)
			}
			if wrong {
				v.example("leavers", "%s", describe(c, r, a))
			}
		case "no-person":
			v.likelyNobody.count(f.Confidence != audit.Sure)
			if !owned {
				v.nobodies.count(f.Confidence == audit.Sure)
			}
			if f.Confidence == audit.Sure {
				v.sureNobody.count(owned)
				if owned {
					v.example("nobody", "%s", describe(c, r, a))
				}
			}
		}
	}
	for a := range report.Survey.Accounts.All() {
		if rows, owned := c.Owner[a.Logon]; owned && hasLeft(c, rows) && a.Flags&2 == 0 {
			v.leaversFound.count(reported[a.Logon])
		}
	}
}

// hasLeft tells whether all rows of a person have ended.
func hasLeft(c *houses.Case, rows []int) bool {
	return len(rows) > 0 && !slices.ContainsFunc(rows, func(n int) bool { return c.Rows[n][9] != "left" })
}

// baseline pairs by exact id, else exact mail, else full name in one spelling,
// where only one has it on either side.
func (v *verdict) baseline(c *houses.Case, survey *directory.Survey) {
	type side struct{ people, accounts map[string][]int }
	keys := [3]side{}
	for i := range keys {
		keys[i] = side{map[string][]int{}, map[string][]int{}}
	}
	add := func(m map[string][]int, key string, who int) {
		if key != "" {
			m[key] = append(m[key], who)
		}
	}
	for n, row := range c.Rows[1:] {
		add(keys[0].people, row[0], n+1)
		add(keys[1].people, strings.ToLower(row[3]), n+1)
		if row[1] != "" && row[2] != "" {
			add(keys[2].people, directory.FoldText(row[2]+" "+row[1]), n+1)
		}
	}
	var accounts []*directory.Account
	for a := range survey.Accounts.All() {
		n := len(accounts)
		accounts = append(accounts, a)
		add(keys[0].accounts, a.Text.First(directory.AttrEmployeeID), n)
		add(keys[1].accounts, strings.ToLower(a.Text.First(directory.AttrMail)), n)
		if g, f := a.Text.First(directory.AttrGivenName), a.Text.First(directory.AttrSN); g != "" && f != "" {
			add(keys[2].accounts, directory.FoldText(g+" "+f), n)
		}
	}
	owner := map[int]int{}
	for _, k := range keys {
		for key, who := range k.accounts {
			if people := k.people[key]; len(who) == 1 && len(people) == 1 && owner[who[0]] == 0 {
				owner[who[0]] = people[0]
			}
		}
	}
	for n, a := range accounts {
		if rows, owned := c.Owner[a.Logon]; owned {
			v.baseFound.count(slices.Contains(rows, owner[n]))
		}
		if owner[n] != 0 {
			v.baseWrong.count(!slices.Contains(c.Owner[a.Logon], owner[n]))
		}
	}
}

// writeHouse writes the directory and the roster of a house into files of a
// folder, to try the program on.
func writeHouse(folder string, people int, seed uint64) error {
	c := houses.Make(people, seed)
	for name, write := range map[string]func(io.Writer) error{"house.ldif": c.WriteLDIF, "people.csv": c.WriteRoster} {
		var b bytes.Buffer
		if err := write(&b); err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(folder, name), b.Bytes(), 0o600); err != nil {
			return err
		}
	}
	return nil
}

// print writes the figures, and so many examples of each kind of mistake.
func (v *verdict) print(most int, groups bool) {
	fmt.Printf("%-34s %10s of\n", "", "share")
	for _, line := range []struct {
		what string
		s    share
	}{
		{"accounts whose person was found", v.found}, {"  by the baseline", v.baseFound}, {"stated pairs that are wrong", v.wrong}, {"  by the baseline", v.baseWrong}, {"sure pairs that are wrong", v.wrongSure},
		{"leavers reported that are none", v.falseLeavers}, {"  of the sure ones", v.sureLeavers}, {"enabled leavers reported", v.leaversFound},
		{"surely nobody's, and somebody's", v.sureNobody}, {"nobody's that are likely", v.likelyNobody}, {"accounts of nobody, surely found", v.nobodies},
	} {
		fmt.Printf("%-34s %10s %d\n", line.what, line.s, line.s.all)
	}
	if groups {
		fmt.Printf("\n%-30s %9s %9s %9s\n", "culture or dirt", "accounts", "found", "wrong")
		names := slices.SortedFunc(maps.Keys(v.groups), func(a, b string) int {
			return cmp.Or(cmp.Compare(btoi(!strings.HasPrefix(a, "culture")), btoi(!strings.HasPrefix(b, "culture"))),
				cmp.Compare(a, b))
		})
		for _, name := range names {
			o := v.groups[name]
			fmt.Printf("%-30s %9d %9s %9s\n", name, o.found.all, o.found, o.wrong)
		}
	}
	for _, kind := range slices.Sorted(maps.Keys(v.examples)) {
		for i, step := 0, max(1, len(v.examples[kind])/max(most, 1)); i < len(v.examples[kind]) && i/step < most; i += step {
			fmt.Printf("%s: %s\n", kind, v.examples[kind][i])
		}
	}
}

func btoi(b bool) int {
	if b {
		return 1
	}
	return 0
}

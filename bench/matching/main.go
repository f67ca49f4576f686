// Command matching measures how well people are matched with accounts, on
// rosters and directories with dirt of graded strength:
//
//	go run ./bench/matching -people 20000
//
// Precision is the share of the stated pairs that are true, recall the share
// of the true pairs that are stated. What is open is neither.
package main

import (
	"bytes"
	"context"
	"flag"
	"fmt"
	"os"
	"regexp"
	"slices"
	"strings"

	"yardbroom/bench/muddle"
	"yardbroom/internal/directory"
	"yardbroom/internal/reconcile"
	"yardbroom/internal/roster"
	"yardbroom/internal/settings"
	"yardbroom/internal/source"
)

func main() {
	people := flag.Int("people", 20000, "how many people each roster has")
	seed := flag.Uint64("seed", 1, "which of many")
	wrong := flag.Int("wrong", 0, "show so many wrong pairs of each level")
	missed := flag.Int("missed", 0, "show so many pairs of each level that were not stated")
	many := flag.Int("houses", 0, "measure so many international houses instead")
	examples := flag.Int("examples", 0, "show so many mistakes of each kind that were made in houses")
	groups := flag.Bool("by", false, "tell them by culture and by dirt")
	folder := flag.String("write", "", "write an international house into this folder instead")
	flag.Parse()
	if *folder != "" {
		if err := writeHouse(*folder, *people, *seed); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		return
	}
	if *many > 0 {
		var seeds []uint64
		for i := range *many {
			seeds = append(seeds, *seed+uint64(i))
		}
		v, err := judgeHouses(*people, seeds)
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		v.print(*examples, *groups)
		return
	}
	fmt.Printf("%-12s %8s %9s %8s %8s %7s %7s %10s %8s\n", "dirt", "people", "accounts", "stated", "sure", "wrong",
		"open", "precision", "recall")
	for _, d := range muddle.Levels {
		s, err := measure(d, *people, *seed)
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		fmt.Printf("%-12s %8d %9d %8d %8d %7d %7d %10.5f %8.4f\n", d.Name, s.people, s.accounts, s.stated, s.sure,
			len(s.wrong), s.open, s.precision(), s.recall())
		for _, text := range s.wrong[:min(*wrong, len(s.wrong))] {
			fmt.Println("   wrong: ", text)
		}
		for _, text := range s.missed[:min(*missed, len(s.missed))] {
			fmt.Println("   missed:", text)
		}
	}
}

// score is what came of one level.
type score struct {
	people, accounts, stated, sure, surelyWrong, open, right, true int
	wrong, missed                                                  []string
}

func (s *score) precision() float64 { return 1 - float64(len(s.wrong))/float64(s.stated) }
func (s *score) recall() float64    { return float64(s.right) / float64(s.true) }

// measure makes a case, reads it as any file is read, matches it, and holds
// the result against the truth.
func measure(d muddle.Dirt, people int, seed uint64) (*score, error) {
	c := muddle.Make(d, people, seed)
	var entries, rows bytes.Buffer
	if err := c.WriteLDIF(&entries); err != nil {
		return nil, err
	}
	if err := c.WriteRoster(&rows); err != nil {
		return nil, err
	}
	list, err := roster.Read(&rows, "roster", roster.Options{})
	if err != nil {
		return nil, err
	}
	f, err := source.OpenFile("-", &entries)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	survey, err := f.Survey(context.Background())
	if err != nil {
		return nil, err
	}
	set := settings.Defaults()
	r, err := reconcile.Run(list.People(muddle.AsOf, roster.TrustStatus), survey,
		reconcile.Options{Second: regexp.MustCompile("(?i)" + set.Audit.AdminAccountPattern)})
	if err != nil {
		return nil, err
	}
	return judge(c, r, survey), nil
}

func judge(c *muddle.Case, r *reconcile.Result, survey *directory.Survey) *score {
	s := &score{
		people:   len(r.People),
		accounts: r.Accounts,
		stated:   len(r.Pairs),
		open:     len(r.Doubts),
		true:     len(c.Owner),
	}
	for i := range r.Pairs {
		p := &r.Pairs[i]
		if p.Sure {
			s.sure++
		}
		row := r.People[p.Person].Rows[0] - 1 // the header is line 1
		if slices.Contains(r.People[p.Person].Rows, c.Owner[p.Account.Logon]+1) {
			s.right++
			continue
		}
		if p.Sure {
			s.surelyWrong++
		}
		s.wrong = append(
			s.wrong,
			fmt.Sprintf("%s is not %s (by %s, %.3f): %s", p.Account.DN, strings.Join(c.Rows[row], "|"), p.By, p.Score,
				reconcile.Reasons(r.Explain(p.Person, p.Account))),
		)
	}
	byRow := map[int]int{}
	for i := range r.People {
		for _, n := range r.People[i].Rows {
			byRow[n-1] = i
		}
	}
	for a := range survey.Accounts.All() {
		row, known := c.Owner[a.Logon]
		if !known || r.Pair(a) != nil {
			continue
		}
		why := "no candidate"
		if d := r.Doubt(a); d != nil {
			why = d.Why
			for _, one := range d.Candidates {
				why += fmt.Sprintf(" [%.3f %s]", one.Score, strings.Join(c.Rows[r.People[one.Person].Rows[0]-1], "|"))
			}
		}
		why += " :: " + reconcile.Reasons(r.Explain(byRow[row], a))
		s.missed = append(s.missed, fmt.Sprintf("%s is %s: %s", a.DN, strings.Join(c.Rows[row], "|"), why))
	}
	return s
}

package reconcile

import (
	"bufio"
	"encoding/csv"
	"encoding/hex"
	"fmt"
	"io"
	"strconv"
	"strings"

	"yardbroom/internal/directory"
	"yardbroom/internal/roster"
)

// Known is what an earlier run found out about one account, by the key of the
// person or, where it is open, of all who may be the one.
type Known struct {
	Account string // raw identity
	By      Key    // "" where it is open
	Sure    bool
	Second  bool
	Score   float64
	Why     string // why it is open
	People  []string
	Scores  []float64 // of each of People, where it is open
}

// Keep writes what was found out about each account that has an identity, in
// a form that Recall reads.
func (r *Result) Keep(w io.Writer) error {
	out := csv.NewWriter(w)
	write := func(k *Known) error {
		if k.Account == "" {
			return nil
		}
		cells := []string{
			hex.EncodeToString([]byte(k.Account)),
			string(k.By),
			strconv.FormatBool(k.Sure),
			strconv.FormatBool(k.Second),
			decimal(k.Score),
			k.Why,
		}
		for i, p := range k.People {
			cells = append(cells, p)
			if k.By == "" {
				cells = append(cells, decimal(k.Scores[i]))
			}
		}
		return out.Write(cells)
	}
	for i := range r.Pairs {
		p := &r.Pairs[i]
		if err := write(&Known{Account: p.Account.ID, By: p.By, Sure: p.Sure, Second: p.Second, Score: p.Score, People: []string{PersonKey(&r.People[p.Person])}}); err != nil {
			return err
		}
	}
	for i := range r.Doubts {
		d := &r.Doubts[i]
		k := Known{Account: d.Account.ID, Why: d.Why}
		for _, c := range d.Candidates {
			k.People, k.Scores = append(k.People, PersonKey(&r.People[c.Person])), append(k.Scores, c.Score)
		}
		if err := write(&k); err != nil {
			return err
		}
	}
	out.Flush()
	return out.Error()
}

func decimal(f float64) string { return strconv.FormatFloat(f, 'f', 3, 64) }

// Recall reads what Keep wrote about some accounts, by raw identity.
func Recall(in io.Reader, accounts ...string) (map[string]*Known, error) {
	want := map[string]string{}
	for _, raw := range accounts {
		want[hex.EncodeToString([]byte(raw))] = raw
	}
	found := map[string]*Known{}
	lines := bufio.NewScanner(in)
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		id, _, _ := strings.Cut(lines.Text(), ",")
		raw, wanted := want[id]
		if !wanted || raw == "" {
			continue
		}
		k, err := parseKnown(raw, lines.Text())
		if err != nil {
			return nil, fmt.Errorf("the kept pairs are damaged: %q: %w", lines.Text(), err)
		}
		found[raw] = k
	}
	return found, lines.Err()
}

func parseKnown(account, line string) (*Known, error) {
	cells, err := csv.NewReader(strings.NewReader(line)).Read()
	if err != nil {
		return nil, err
	}
	if len(cells) < 6 {
		return nil, fmt.Errorf("it has %d cells", len(cells))
	}
	k := &Known{
		Account: account,
		By:      Key(cells[1]),
		Sure:    cells[2] == "true",
		Second:  cells[3] == "true",
		Why:     cells[5],
	}
	if k.Score, err = strconv.ParseFloat(cells[4], 64); err != nil {
		return nil, err
	}
	if k.By != "" {
		k.People = cells[6:]
		return k, nil
	}
	for i := 6; i+1 < len(cells); i += 2 {
		score, err := strconv.ParseFloat(cells[i+1], 64)
		if err != nil {
			return nil, err
		}
		k.People, k.Scores = append(k.People, cells[i]), append(k.Scores, score)
	}
	return k, nil
}

// Again is the result for one account alone, as an earlier run knew it: what
// people are and what accounts say may have changed since.
func (k *Known) Again(people []roster.Person, a *directory.Account, opt Options) *Result {
	byKey := map[string]int32{}
	for i := range people {
		key := PersonKey(&people[i])
		if _, twice := byKey[key]; twice {
			byKey[key] = nobody // which of them cannot be told
		} else {
			byKey[key] = int32(i)
		}
	}
	s := directory.Survey{}
	m := newMatcher(people, &s, opt)
	m.accounts, m.owner, m.second = []*directory.Account{a}, []int32{nobody}, []bool{k.Second}
	m.readLogons()
	m.readNames()
	m.readSupports()
	m.readMails()
	m.readManagers()
	m.readIDs()
	m.ids.compared = true
	var candidates []Candidate
	for i, key := range k.People {
		p, there := byKey[key]
		switch {
		case there && p == nobody:
		case there && k.By != "":
			m.state(p, 0, k.By, k.Sure || k.By == ByLink, k.Score)
		case there:
			candidates = append(candidates, Candidate{int(p), k.Scores[i]})
		case k.By != "":
			m.result.Gone[a] = Link{Account: k.Account, Person: key}
		}
	}
	if len(candidates) > 0 {
		m.doubt(0, k.Why, candidates)
	}
	return m.finish()
}

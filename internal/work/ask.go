package work

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"yardbroom/internal/calendar"
	"yardbroom/internal/ladder"
	"yardbroom/internal/settings"
	"yardbroom/internal/sheet"
)

// Asked is what one manager is asked, as a table to answer in.
type Asked struct {
	Manager string // name, or "nobody" for those who have none
	Sheet   sheet.Sheet
	told    []*ladder.Event
}

// byWorkbook begins the address of somebody who is asked by a workbook.
const byWorkbook = "workbook:"

// Names of the columns of such a table.
const (
	askAnswer  = "answer"
	askUntil   = "until"
	askToken   = "token"
	askAccount = "account"
)

// AnswerWords are what may stand in the column for answers: keep, or may go.
var AnswerWords = []string{"keep", "may go"}

// Questions makes a table for each manager of those on a ladder who are to be told of the
// next rung and were not yet: for yards without mail. That they were told counts once
// NoteAsked says so.
func (s *Session) Questions(ctx context.Context, p *Place, name string, q *Question) ([]*Asked, error) {
	all, err := s.Ladders(ctx, p, q)
	if err != nil {
		return nil, err
	}
	one, err := all.LadderNamed(name)
	if err != nil {
		return nil, err
	}
	key, err := s.answerKey(ctx)
	if err != nil {
		return nil, err
	}
	byManager := map[string]*Asked{}
	for _, st := range one.Standings {
		if !st.ToTell {
			continue
		}
		who := Contact{Name: "nobody", Address: "nobody"}
		if named := all.book.managers(st.DN); len(named) > 0 {
			who = named[0]
			who.Address = cmp.Or(who.Address, who.Entry.DN)
		}
		a := byManager[who.Address]
		if a == nil {
			a = &Asked{Manager: who.Name, Sheet: askSheet(one.Ladder, who.Name)}
			byManager[who.Address] = a
		}
		line, err := all.line(key, one.Ladder, st, byWorkbook+who.Address, "")
		if err != nil {
			return nil, err
		}
		line.By = "workbook"
		event := line.Event
		a.told = append(a.told, &event)
		a.Sheet.Rows = append(a.Sheet.Rows, []any{st.Account, line.Name, ladder.WhyOn(one.Ladder, line.Since, p.Location()), ladder.What(st.Next),
			st.Day.In(p.Location()).Format(time.DateOnly), nil, nil, line.Token})
	}
	out := make([]*Asked, 0, len(byManager))
	for _, address := range slices.Sorted(maps.Keys(byManager)) {
		out = append(out, byManager[address])
	}
	return out, nil
}

func askSheet(l *settings.Ladder, manager string) sheet.Sheet {
	return sheet.Sheet{Name: "Answers", Title: l.Name + ", " + manager, Columns: []sheet.Column{
		{Name: askAccount, Title: "Account"}, {Name: "name", Title: "Name"}, {Name: "why", Title: "Why", Wide: true},
		{Name: "what", Title: "What is to come", Wide: true}, {Name: "day", Title: "Not before"},
		{Name: askAnswer, Title: "Answer", Choices: AnswerWords}, {Name: askUntil, Title: "Keep until"}, {Name: askToken, Title: "Do not change"}}}
}

// managers are the managers of an entry, with or without an address.
func (b *AddressBook) managers(dn string) (all []Contact) {
	c, is := b.entry(dn)
	if !is {
		return nil
	}
	for _, attr := range Relations.Manager {
		for _, other := range c.Entry.Get(attr) {
			if m, is := b.entry(other); is {
				all = append(all, m)
			}
		}
	}
	return all
}

func (s *Session) answerKey(ctx context.Context) (ladder.Key, error) {
	if _, err := s.Store(ctx); err != nil { // which makes the folder
		return nil, err
	}
	return ladder.ReadKey(s.State)
}

// NoteAsked writes into the journal that managers were asked.
func (s *Session) NoteAsked(ctx context.Context, all []*Asked) error {
	kept, err := s.Store(ctx)
	if err != nil {
		return err
	}
	for _, a := range all {
		if err := s.appendAll(ctx, kept, ladder.EventTold, a.told); err != nil {
			return err
		}
	}
	return nil
}

// TakeAnswers takes a table back that Questions made. Each row is checked by itself: one that
// is not as it was written, or says what nobody understands, holds nobody and is named.
func (s *Session) TakeAnswers(ctx context.Context, raw []byte, name string, p *time.Location) (*Answers, error) {
	header, rows, err := s.tableOf(raw)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	at := map[string]int{}
	for i, title := range header {
		at[askName(title)] = i
	}
	for _, needed := range []string{askAccount, askAnswer, askToken} {
		if _, has := at[needed]; !has {
			return nil, fmt.Errorf("%s: the column %q is missing: it is no table that \"yardbroom ladder ask\" has made", name, needed)
		}
	}
	a, err := s.newAnswers(ctx)
	if err != nil {
		return nil, err
	}
	for _, row := range rows {
		cell := func(column string) string {
			if i, has := at[column]; has && i < len(row.Cells) {
				return strings.TrimSpace(sheet.UnsafeCell(row.Cells[i]))
			}
			return ""
		}
		if strings.Join(row.Cells, "") == "" {
			continue
		}
		if err := a.row(ctx, cell, p); err != nil {
			a.Doubtful = append(a.Doubtful, fmt.Sprintf("%s, row %d (%s): %v", name, row.Number, cell(askAccount), err))
		}
	}
	return &a.Answers, nil
}

// askName is the name of a column by its title.
func askName(title string) string {
	for _, c := range askSheet(&settings.Ladder{}, "").Columns {
		if strings.EqualFold(strings.TrimSpace(title), c.Title) || strings.EqualFold(strings.TrimSpace(title), c.Name) {
			return c.Name
		}
	}
	return title
}

// row takes in one row.
func (a *answering) row(ctx context.Context, cell func(string) string, zone *time.Location) error {
	switch strings.ToLower(cell(askAnswer)) {
	case "", "may go", "go", "no":
		return nil
	case "keep", "yes", "stay":
	default:
		return fmt.Errorf("%q is no answer: write keep, or may go", cell(askAnswer))
	}
	token := strings.TrimPrefix(cell(askToken), ladder.TokenPrefix)
	one := a.told[ladder.Ref(token)]
	if one == nil || !a.key.IsToken(token, &one.Event) {
		return fmt.Errorf("the cell that must not be changed is not as it was written")
	}
	if !strings.EqualFold(one.Account, cell(askAccount)) {
		return fmt.Errorf("the row was written for %s", one.Account)
	}
	var until time.Time
	if text := cell(askUntil); text != "" {
		var err error
		if until, err = calendar.ParseTime(text, zone); err != nil {
			return err
		}
		if !until.After(a.now) {
			return fmt.Errorf("%s is over", text)
		}
	}
	return a.object(ctx, one, "objection by workbook", strings.TrimPrefix(one.Address, byWorkbook), until, nil)
}

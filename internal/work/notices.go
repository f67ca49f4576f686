package work

import (
	"context"
	"slices"
	"strings"
	"time"

	"yardbroom/internal/batch"
	"yardbroom/internal/directory"
	"yardbroom/internal/ladder"
	"yardbroom/internal/settings"
)

// recipients are those whom a notice is for and who have an address, of one entry.
func (g *gathering) recipients(book *AddressBook, dn string, n *settings.Notice, language string) (all []ladder.Recipient) {
	add := func(who string, c Contact) {
		r := ladder.Recipient{Who: who, Name: c.Name, Address: c.Address}
		if c.Entry != nil {
			r.Tongue = c.Entry.First(language)
		}
		if !slices.ContainsFunc(all, func(o ladder.Recipient) bool { return strings.EqualFold(o.Address, r.Address) }) {
			all = append(all, r)
		}
	}
	for _, who := range n.Who {
		switch who {
		case settings.WhoPerson:
			if c, has := book.Itself(dn); has {
				add(who, c)
			}
		case settings.WhoManager, settings.WhoOwner:
			attrs := Relations.Manager
			if who == settings.WhoOwner {
				attrs = Relations.Owner
			}
			for _, c := range book.Named(dn, attrs) {
				if !g.off(c.Entry) { // who is gone reads no mail
					add(who, c)
				}
			}
		default:
			add("", Contact{Address: who})
		}
	}
	return all
}

// off tells whether the account of somebody who is to be told is disabled.
func (g *gathering) off(e *directory.Entry) bool {
	a := g.dialect.Account(e)
	return g.survey.Disabled(&a, g.AsOf).Yes
}

// withinDays is how long after a rung somebody is still told that it was taken.
const withinDays = 7

// mails collects the mails that the climb of a ladder makes necessary, those left out
// that wait to be handed over already.
func (c *climbing) mails(ctx context.Context, l *LadderClimb) error {
	pending, err := ladder.Pending(ctx, c.kept)
	if err != nil {
		return err
	}
	if l.Letters, err = c.beforehand(l.OneLadder, pending); err != nil {
		return err
	}
	past, err := c.all.past.Again(ctx, c.kept)
	if err != nil {
		return err
	}
	l.Letters = append(l.Letters, c.onTheDay(l.OneLadder, past, pending)...)
	for _, b := range l.Batches {
		if b.Batch == nil || b.Down || !strings.HasSuffix(b.Waits, "signature") && !strings.HasSuffix(b.Waits, "signatures") {
			continue
		}
		l.Letters = append(l.Letters, c.toSign(l.OneLadder, b)...)
	}
	if len(l.Letters) > 0 && c.s.Settings.Mail.Server == "" {
		l.Letters, l.Untold = nil, "the settings name no mail server (mail: server); \"yardbroom ladder ask\" writes workbooks instead"
	}
	return nil
}

// letterTo is the letter to somebody among others, a new one where there is none yet.
func letterTo(all *[]*ladder.Letter, like ladder.Letter) *ladder.Letter {
	for _, l := range *all {
		if l.Occasion == like.Occasion && l.Rung == like.Rung && l.Batch == like.Batch && strings.EqualFold(l.To.Address, like.To.Address) {
			return l
		}
	}
	*all = append(*all, &like)
	return &like
}

// beforehand are the letters to those who are to be told now what is to come.
func (c *climbing) beforehand(l *OneLadder, pending map[string]bool) (all []*ladder.Letter, err error) {
	key, err := ladder.ReadKey(c.s.State)
	if err != nil {
		return nil, err
	}
	for _, st := range l.Standings {
		for _, to := range st.Tell {
			if pending[ladder.PendingKey(ladder.EventTold, st.ID, st.Next.Name, to.Address)] {
				continue
			}
			letter := letterTo(&all, ladder.Letter{Occasion: ladder.Beforehand, To: to, Ladder: l.Ladder, Rung: st.Next, Zone: c.p.Location()})
			if letter.Ref == "" {
				if letter.Ref, err = ladder.NewRef(); err != nil {
					return nil, err
				}
			}
			line, err := c.all.line(key, l.Ladder, st, to.Address, letter.Ref)
			if err != nil {
				return nil, err
			}
			line.By = "mail"
			letter.Lines = append(letter.Lines, line)
		}
	}
	return all, nil
}

// line is one account of a letter to an address, with the token to answer by.
func (l *Ladders) line(key ladder.Key, of *settings.Ladder, st *ladder.Standing, address, mail string) (line ladder.LetterLine, err error) {
	line = ladder.LetterLine{Event: ladder.Event{Directory: l.past.Directory, Ladder: of.Name, Rung: st.Next.Name, ID: st.ID, Account: st.Account,
		DN: st.DN, Address: address, Day: st.Day, Mail: mail}, Since: st.Start.Since}
	if c, is := l.book.entry(st.DN); is {
		line.Name = c.Name
	}
	if line.Ref, err = ladder.NewRef(); err != nil {
		return line, err
	}
	line.Token = ladder.TokenPrefix + key.Token(&line.Event)
	return line, nil
}

// entry is an entry of the book, with or without an address.
func (b *AddressBook) entry(dn string) (Contact, bool) {
	if b == nil || b.entries[directory.FoldDN(dn)] == nil {
		return Contact{}, false
	}
	c, _ := b.Itself(dn)
	return c, true
}

// onTheDay are the letters to those who were told beforehand, that it was done.
func (c *climbing) onTheDay(l *OneLadder, past *ladder.Past, pending map[string]bool) (all []*ladder.Letter) {
	for _, w := range past.Ways() {
		top := w.Top()
		if top == nil || w.Ladder != l.Name || top.Batch == 0 || w.OnTheDay[top.Batch] || top.At.AddDate(0, 0, withinDays).Before(c.s.now()) {
			continue
		}
		i, is := l.Rung(top.Rung)
		if !is || l.Rungs[i].Tell == nil || l.Rungs[i].Tell.Quiet {
			continue
		}
		seen := map[string]bool{}
		for _, t := range w.Told {
			address := strings.ToLower(t.Address)
			if seen[address] {
				continue // they were told more than once
			}
			if t.Rung != top.Rung || t.CameBack || t.By != "mail" || t.At.Before(w.Below()) || pending[ladder.PendingKey(ladder.EventToldDay, w.ID, top.Rung, t.Address)] {
				continue
			}
			seen[address] = true
			letter := letterTo(&all, ladder.Letter{Occasion: ladder.OnTheDay, To: ladder.Recipient{Address: t.Address}, Ladder: l.Ladder, Rung: &l.Rungs[i],
				Zone: c.p.Location(), Batch: top.Batch})
			letter.Lines = append(letter.Lines, ladder.LetterLine{Event: ladder.Event{Directory: past.Directory, Ladder: l.Name, Rung: top.Rung, ID: w.ID,
				Account: w.Account, DN: w.DN, Address: t.Address, Day: top.At, By: "mail"}, Since: earliest(top.Since, top.At)})
		}
	}
	return all
}

// toSign are the letters to those who may sign a batch.
func (c *climbing) toSign(l *OneLadder, b *ClimbBatch) (all []*ladder.Letter) {
	i, is := l.Rung(b.Rung)
	if !is {
		return nil
	}
	for _, address := range l.Signers {
		letter := &ladder.Letter{Occasion: ladder.ToSign, To: ladder.Recipient{Address: address}, Ladder: l.Ladder, Rung: &l.Rungs[i], Zone: c.p.Location(),
			Batch: b.Batch.ID}
		for _, st := range l.Standings {
			if slices.ContainsFunc(b.Batch.Lines, func(line batch.Line) bool { return line.ID == st.ID }) {
				letter.Lines = append(letter.Lines, ladder.LetterLine{Event: ladder.Event{Account: st.Account, Day: c.s.now()}, Since: st.Start.Since})
			}
		}
		all = append(all, letter)
	}
	return all
}

// earliest is the first of two times that is known.
func earliest(a, b time.Time) time.Time {
	if a.IsZero() {
		return b
	}
	return a
}

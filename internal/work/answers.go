package work

import (
	"context"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"yardbroom/internal/ladder"
	"yardbroom/internal/mail"
	"yardbroom/internal/settings"
	"yardbroom/internal/store"
)

// Answers is what the mails of a mailbox, or the rows of workbooks, have come to.
type Answers struct {
	Held []*ladder.Event // who is held now
	// Known were held by the same answer before; Late are answers to what is over.
	Known, Late []*ladder.Event
	// CameBack are those who could not be told after all.
	CameBack []*ladder.Event
	// Doubtful says of answers why they were not believed.
	Doubtful []string
	// Automatic and Others count mails that programs have written, and those that
	// answer nothing.
	Automatic, Others int
	// Letters tell those who have answered what came of it.
	Letters []*ladder.Letter
}

// ReadAnswers reads the answers in a mailbox to what ladders have told. An answer can
// only hold an account, never hasten anything.
func (s *Session) ReadAnswers(ctx context.Context, box mail.Box) (*Answers, error) {
	a, err := s.newAnswers(ctx)
	if err != nil {
		return nil, err
	}
	err = box.Each(ctx, func(in *mail.Incoming, err error) (bool, error) {
		if err != nil {
			a.Doubtful = append(a.Doubtful, err.Error())
			return false, nil
		}
		return a.mail(ctx, in)
	})
	return &a.Answers, err
}

// answering is the reading of answers.
type answering struct {
	Answers
	s    *Session
	kept *store.Store
	key  ladder.Key
	// told are what was told, by what each is found by, and by its mail.
	told   map[string]*told
	byMail map[string][]*told
	now    time.Time
}

// told is that somebody was told of an account, and where that stands now.
type told struct {
	ladder.Told
	way *ladder.Way
}

func (s *Session) newAnswers(ctx context.Context) (*answering, error) {
	kept, err := s.Store(ctx)
	if err != nil {
		return nil, err
	}
	if err := kept.Whole(ctx); err != nil {
		return nil, err
	}
	a := &answering{s: s, kept: kept, told: map[string]*told{}, byMail: map[string][]*told{}, now: s.now()}
	if a.key, err = ladder.ReadKey(s.State); err != nil {
		return nil, err
	}
	pasts, err := ladder.ReadAll(ctx, kept)
	if err != nil {
		return nil, err
	}
	for _, past := range pasts {
		for _, w := range past.Ways() {
			for i := range w.Told {
				one := &told{w.Told[i], w}
				a.told[one.Ref] = one
				if one.Mail != "" {
					a.byMail[one.Mail] = append(a.byMail[one.Mail], one)
				}
			}
		}
	}
	return a, nil
}

// mail takes in one mail, and tells whether it was an answer.
func (a *answering) mail(ctx context.Context, in *mail.Incoming) (bool, error) {
	if in.Failed {
		came, err := a.cameBack(ctx, in)
		if !came {
			a.Automatic++
		}
		return came, err
	}
	if in.Automatic {
		a.Automatic++
		return false, nil
	}
	chosen, doubt := a.chosen(in)
	if doubt != "" {
		a.Doubtful = append(a.Doubtful, fmt.Sprintf("mail from %s: %s", in.From, doubt))
		return false, nil
	}
	if len(chosen) == 0 {
		a.Others++
		return false, nil
	}
	letter := &ladder.Letter{Occasion: ladder.Answered, To: ladder.Recipient{Address: in.From}, Zone: time.UTC, Answers: in.ID}
	for _, one := range chosen {
		if err := a.object(ctx, one, "objection by mail", in.From, time.Time{}, letter); err != nil {
			return false, err
		}
	}
	a.Letters = append(a.Letters, letter)
	return true, nil
}

// chosen are the accounts that a mail answers about; doubt says why it is not believed.
func (a *answering) chosen(in *mail.Incoming) (chosen []*told, doubt string) {
	var ofMail []*told
	for _, id := range in.Answers {
		token, is := strings.CutPrefix(id, ladder.TokenPrefix)
		token, _, _ = strings.Cut(token, "@")
		if !is || len(a.byMail[ladder.Ref(token)]) == 0 {
			continue
		}
		all := a.byMail[ladder.Ref(token)]
		switch address := all[0].Address; {
		case !a.key.IsMailToken(token, address):
			doubt = "it answers no mail that was sent"
		case !strings.EqualFold(address, in.From):
			doubt = "the mail that it answers was sent to somebody else"
		default:
			ofMail = all
		}
	}
	typed, whyTyped := a.byTokens(in, ladder.Tokens(in.Typed))
	quoted, whyQuoted := a.byTokens(in, ladder.Tokens(in.Quoted))
	for _, one := range ofMail {
		if names(in.Typed, one.Account) && !slices.Contains(typed, one) {
			typed = append(typed, one)
		}
	}
	switch {
	case len(typed) > 0:
		return typed, ""
	case len(ofMail) > 0:
		return ofMail, ""
	case len(quoted) > 0:
		return quoted, ""
	}
	for _, why := range []string{doubt, whyTyped, whyQuoted} {
		if why != "" {
			return nil, why
		}
	}
	return nil, ""
}

// byTokens are what the tokens in a text stand for, as far as they are right and come
// from whom they were sent to.
func (a *answering) byTokens(in *mail.Incoming, tokens []string) (all []*told, doubt string) {
	for _, token := range tokens {
		one := a.told[ladder.Ref(token)]
		switch {
		case one == nil, !a.key.IsToken(token, &one.Event):
			doubt = "a keep- word in it was never sent"
		case !strings.EqualFold(one.Address, in.From):
			doubt = "a keep- word in it was sent to somebody else"
		default:
			all = append(all, one)
		}
	}
	return all, doubt
}

// names tells whether a text has a name as a word of its own.
func names(text, name string) bool {
	re, err := regexp.Compile(`(?i)(^|[^\pL\pN._-])` + regexp.QuoteMeta(name) + `($|[^\pL\pN_-])`)
	return err == nil && name != "" && re.MatchString(text)
}

// object holds an account by an answer, unless what it answers is over.
func (a *answering) object(ctx context.Context, one *told, why, by string, until time.Time, letter *ladder.Letter) error {
	e := one.Event
	e.Why, e.Address, e.Day = why, by, time.Time{}
	e.DN = one.way.DN
	set := a.s.Settings.LadderNamed(e.Ladder)
	say := func(list *[]*ladder.Event) {
		*list = append(*list, &e)
		if letter != nil {
			letter.Lines = append(letter.Lines, ladder.LetterLine{Event: e})
			if letter.Ladder == nil {
				letter.Ladder = set
			}
		}
	}
	w := one.way
	if w.Since.After(one.At) || w.Gone() || set == nil {
		e.Until = time.Time{}
		say(&a.Late)
		return nil
	}
	if slices.ContainsFunc(w.Objected, func(ref string) bool { return ref == e.Ref }) {
		e.Until = w.Hold.Until
		say(&a.Known)
		return nil
	}
	if until.IsZero() {
		notice := settings.Notice{}
		if i, is := set.Rung(e.Rung); is && set.Rungs[i].Tell != nil {
			notice = *set.Rungs[i].Tell
		}
		notice = notice.WithDefaults()
		until = notice.Hold.After(a.now)
	}
	if w.Hold != nil && w.Hold.Until.After(until) {
		until = w.Hold.Until // nobody's word is cut short by another's
	}
	e.Until = until
	r, err := e.Record(ladder.EventHeld, a.s.By, a.now)
	if err != nil {
		return err
	}
	if _, err := a.kept.Append(ctx, r); err != nil {
		return err
	}
	w.Hold = &ladder.Hold{Until: until, At: a.now, Why: why, By: by, Ref: e.Ref}
	w.Objected = append(w.Objected, e.Ref)
	say(&a.Held)
	return nil
}

// cameBack takes in that a mail could not be delivered: whom it was for was not told.
func (a *answering) cameBack(ctx context.Context, in *mail.Incoming) (is bool, err error) {
	for _, id := range in.Returned {
		token, ours := strings.CutPrefix(id, ladder.TokenPrefix)
		token, _, _ = strings.Cut(token, "@")
		all := a.byMail[ladder.Ref(token)]
		if !ours || len(all) == 0 || !a.key.IsMailToken(token, all[0].Address) {
			continue
		}
		for _, one := range all {
			if is = true; one.CameBack {
				continue
			}
			r, err := one.Record(ladder.EventBounced, a.s.By, a.now)
			if err != nil {
				return is, err
			}
			if _, err := a.kept.Append(ctx, r); err != nil {
				return is, err
			}
			one.CameBack = true
			a.CameBack = append(a.CameBack, &one.Event)
		}
	}
	return is, nil
}

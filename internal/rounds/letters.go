package rounds

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"yardbroom/internal/ladder"
	"yardbroom/internal/mail"
	"yardbroom/internal/render"
	"yardbroom/internal/store"
	"yardbroom/internal/work"
)

// KeepLetters writes the letters of ladders as mails that wait to be handed over. That
// somebody was told counts once their mail server has taken it.
func KeepLetters(ctx context.Context, s *work.Session, letters []*ladder.Letter) error {
	if len(letters) == 0 {
		return nil
	}
	kept, err := s.Store(ctx)
	if err != nil {
		return err
	}
	key, err := ladder.ReadKey(s.State)
	if err != nil {
		return err
	}
	now := s.Now().UTC()
	var all []*store.Message
	for _, l := range letters {
		m, err := letterMessage(s, key, l, now)
		if err != nil {
			return fmt.Errorf("the mail to %s: %w", l.To.Address, err)
		}
		all = append(all, m)
	}
	return kept.AddMessages(ctx, all...)
}

// letterMessage is a letter as a message.
func letterMessage(s *work.Session, key ladder.Key, l *ladder.Letter, now time.Time) (*store.Message, error) {
	subject, text, own, err := l.Write()
	if err != nil {
		return nil, err
	}
	id, err := letterID(key, l)
	if err != nil {
		return nil, err
	}
	m := &mail.Message{Thread: l.Answers, From: s.Settings.Mail.From, To: []string{l.To.Address}, Subject: subject, Date: now, Text: text,
		ID: id + "@" + domainOf(s.Settings.Mail.From)}
	if l.Occasion == ladder.Beforehand {
		m.ReplyTo = s.Settings.Answers.Address
	}
	if !own && l.Occasion != ladder.Answered {
		var page bytes.Buffer
		if err := render.WriteLetter(&page, l, subject, text); err != nil {
			return nil, err
		}
		m.HTML = page.String()
	}
	body, err := mail.Compose(m)
	if err != nil {
		return nil, err
	}
	head := messageHead{Subject: subject, ID: m.ID}
	switch l.Occasion {
	case ladder.Beforehand:
		head.Event = ladder.EventTold
	case ladder.OnTheDay:
		head.Event, head.Batch = ladder.EventToldDay, l.Batch
	}
	head.By = s.By
	for i := range l.Lines {
		if head.Event != "" {
			head.Told = append(head.Told, l.Lines[i].Event)
		}
	}
	headText, err := json.Marshal(head)
	return &store.Message{Kind: kindMail, Made: now, Head: headText, Body: body, To: []store.Delivery{{Address: l.To.Address}}}, err
}

// letterID is the left side of the Message-ID of a letter: one that asks for an answer
// is known again by it.
func letterID(key ladder.Key, l *ladder.Letter) (string, error) {
	if l.Occasion == ladder.Beforehand {
		return ladder.TokenPrefix + key.MailToken(l.To.Address, l.Ref), nil
	}
	ref, err := ladder.NewRef()
	return "ladder." + ref, err
}

// domainOf is what stands behind the @ of an address.
func domainOf(address string) string {
	address = mail.Bare(address)
	return address[strings.LastIndex(address, "@")+1:]
}

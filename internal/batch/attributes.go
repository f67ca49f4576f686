package batch

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"yardbroom/internal/directory"
	"yardbroom/internal/pattern"
	"yardbroom/internal/source"
)

// batchMark stands in a value for the number of the batch until it has one.
// It holds an octet that no text of a batch may.
const batchMark = "\x00batch\x00"

// maxDescription is the longest description that the `ad` schema takes.
const maxDescription = 1024

// describe plans a new description: a text with {date}, {batch}, {reason} and
// {old} filled in.
func (s *Stager) describe(c *Candidate, o *Order, line *Line) error {
	e := &c.Entry
	if strings.TrimSpace(o.Text) == "" {
		return errors.New("say with --text what it is to be described as")
	}
	reason, _, _ := strings.Cut(line.Reason, " (")
	if check := s.Catalog.Find(line.Check); check != nil && c.Finding != nil {
		reason = check.Because(c.Finding)
	} else if line.Reason == named {
		reason = cmp.Or(o.Why, "chosen by name")
	}
	text := o.Text
	if !e.Has("description") {
		text = oldAndLabel().ReplaceAllString(text, "")
	}
	value, err := fillIn(text, map[string]string{"date": o.At.Format(time.DateOnly), "batch": batchMark,
		"reason": directory.OneLine(reason), "old": directory.OneLine(strings.Join(e.Get("description"), "; "))})
	if err != nil {
		return err
	}
	switch value = strings.TrimSpace(value); {
	case value == "":
		return fmt.Errorf("its description would be empty: nothing is known of it for %q", o.Text)
	case utf8.RuneCountInString(value) > maxDescription:
		return fmt.Errorf("its description would be longer than %d characters", maxDescription)
	case strings.ContainsFunc(strings.ReplaceAll(value, batchMark, ""), unicode.IsControl):
		return errors.New("its description would hold control characters")
	}
	return s.put(Describe, e,
		Mod{Attr: "description", Old: OctetsOf(e.Get("description")), New: []Octets{Octets(value)}}, line)
}

// oldAndLabel is {old} with a word before it and the signs around it, such as "; was:
// {old}": nothing of it is written where there was no description.
var oldAndLabel = pattern.Lazy(`[\s;,|(\[–—-]*(\pL+\s*[:=]?)?\s*["'(\[]*\{old\}["')\]]*`)

// fillIn fills the names of a text for describe in.
func fillIn(text string, values map[string]string) (string, error) {
	return substitute(text, func(name string) (string, error) {
		value, known := values[name]
		if !known {
			return "", fmt.Errorf("{%s} is not one of {date}, {batch}, {reason} and {old}", name)
		}
		return value, nil
	})
}

// CheckText refuses a text for describe that names what cannot be filled in.
func CheckText(text string) error {
	_, err := fillIn(text, map[string]string{"date": "", "batch": "", "reason": "", "old": ""})
	return err
}

// put adds an action that changes one attribute to known values.
func (s *Stager) put(name string, e *directory.Entry, m Mod, line *Line) error {
	switch {
	case e.Incomplete(m.Attr):
		return fmt.Errorf("its %s could not be read whole", m.Attr)
	case slices.Equal(m.Old, m.New):
		return already("its %s is %s already", m.Attr, readable(m.Attr, m.Old))
	}
	line.Actions = append(line.Actions, Action{Name: name, Put: []Mod{m}})
	line.Changes = append(line.Changes, ChangeOf(m))
	return nil
}

// number puts the number of the batch where its lines have the mark.
func (b *Batch) number() {
	id := strconv.Itoa(b.ID)
	for i := range b.Lines {
		l := &b.Lines[i]
		for j := range l.Actions {
			if l.Actions[j].Name != Describe {
				continue
			}
			for k := range l.Actions[j].Put {
				m := &l.Actions[j].Put[k]
				for n := range m.New {
					m.New[n] = Octets(strings.ReplaceAll(string(m.New[n]), batchMark, id))
				}
			}
		}
		for j := range l.Changes {
			l.Changes[j].New = strings.ReplaceAll(l.Changes[j].New, batchMark, id)
		}
	}
}

// expire plans the end of an account.
func (s *Stager) expire(ctx context.Context, e *directory.Entry, o *Order, line *Line) error {
	switch {
	case o.Expires.IsZero():
		return errors.New("say with --expires on which date")
	case !o.Expires.After(o.At):
		return errors.New("an end that has passed is no end: use disable")
	}
	var m Mod
	switch {
	case s.Dialect == directory.AD:
		m = Mod{Attr: "accountExpires", New: []Octets{Octets(directory.FormatFileTime(o.Expires))}}
	case e.HasClass("shadowAccount"):
		days := (o.Expires.Unix() + 86399) / 86400
		m = Mod{Attr: "shadowExpire", New: []Octets{Octets(strconv.FormatInt(days, 10))}}
	case s.Dialect == directory.OpenLDAP:
		m = Mod{Attr: "pwdEndTime", New: []Octets{Octets(o.Expires.UTC().Format("20060102150405Z"))}}
	default:
		return errors.New("this schema has no end of an account but shadowExpire, and it is no shadowAccount")
	}
	m.Old = OctetsOf(e.Get(m.Attr))
	if server, ok := s.From.(*source.Server); ok && m.Attr == "pwdEndTime" {
		if allowed, err := server.Knows(ctx, m.Attr); err != nil || !allowed {
			return errors.Join(err,
				errors.New("this server's password policy knows no pwdEndTime, and it is no shadowAccount"))
		}
	}
	return s.put(Expire, e, m, line)
}

// hideAttribute keeps an account out of the address lists of the mail system.
const hideAttribute = "msExchHideFromAddressLists"

// hide plans to keep an account out of the mail system's address lists.
func (s *Stager) hide(ctx context.Context, e *directory.Entry, line *Line) error {
	if s.Dialect != directory.AD {
		return errors.New("this schema has no address lists to hide it from")
	}
	if server, ok := s.From.(*source.Server); ok {
		if allowed, err := server.Knows(ctx, hideAttribute); err != nil || !allowed {
			return errors.Join(err, fmt.Errorf("the schema of this directory has no %s", hideAttribute))
		}
	}
	if e.First(hideAttribute) == "TRUE" {
		return already("it is hidden already")
	}
	return s.put(Hide, e, Mod{Attr: hideAttribute, Old: OctetsOf(e.Get(hideAttribute)), New: []Octets{"TRUE"}}, line)
}

// leaveRole plans to take an account of a 389 Directory Server out of the role that
// disables it.
func (s *Stager) leaveRole(ctx context.Context, e *directory.Entry, line *Line) error {
	server, live := s.From.(*source.Server)
	if !live || s.Dialect != directory.NS389 {
		return errors.New("roles are those of a 389 Directory Server, which has to be asked")
	}
	role, err := server.LockingRole(ctx, e)
	switch {
	case err != nil:
		return err
	case role == "":
		return errors.New("no role disables it")
	}
	now := e.Get("nsRoleDN")
	left := slices.DeleteFunc(slices.Clone(now),
		func(dn string) bool { return directory.FoldDN(dn) == directory.FoldDN(role) })
	if len(left) == len(now) {
		return fmt.Errorf(
			"the role %s disables it by what it is, and is not one that it could leave: change the role, or what it goes by",
			role,
		)
	}
	return s.put(LeaveRole, e, Mod{Attr: "nsRoleDN", Old: OctetsOf(now), New: OctetsOf(left)}, line)
}

// substitute fills in the {names} of a text. Two braces stand for one.
func substitute(text string, value func(name string) (string, error)) (string, error) {
	var b strings.Builder
	for rest := text; rest != ""; {
		switch {
		case strings.HasPrefix(rest, "{{"), strings.HasPrefix(rest, "}}"):
			b.WriteByte(rest[0])
			rest = rest[2:]
		case rest[0] == '{':
			name, after, ok := strings.Cut(rest[1:], "}")
			if !ok || name == "" {
				return "", fmt.Errorf("%q has a { without its }", text)
			}
			v, err := value(name)
			if err != nil {
				return "", err
			}
			b.WriteString(v)
			rest = after
		default:
			b.WriteByte(rest[0])
			rest = rest[1:]
		}
	}
	return b.String(), nil
}

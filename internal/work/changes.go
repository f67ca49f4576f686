package work

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"yardbroom/internal/batch"
	"yardbroom/internal/directory"
	"yardbroom/internal/logs"
	"yardbroom/internal/source"
)

// AccountChange is a change of an account: who made it, when, from where, and who says so.
type AccountChange struct {
	At   time.Time
	What string // disabled, renamed, lockoutTime
	More string // to what
	Who  string // "" where nobody says
	From string // machine or address, or the server at which it was made
	By   ChangeTeller
	// Batch is the batch of ours that it was, 0 for none.
	Batch int
}

// ChangeTeller is who tells of a change.
type ChangeTeller string

// Logs tell of each change, the directory of the last of each attribute, the journal of
// ours.
const (
	ToldByLog       ChangeTeller = "log"
	ToldByDirectory ChangeTeller = "directory"
	ToldByJournal   ChangeTeller = "journal"
)

// Changes are who has changed the account of a trace, by its logs, the replication
// metadata of the directory, and our own journal, the latest first.
func (s *Session) Changes(ctx context.Context, p *Place, t *AccountTrace) ([]AccountChange, error) {
	var all []AccountChange
	names := map[string]string{}
	for _, a := range t.Trace.Changes() {
		c := AccountChange{At: a.At, What: a.What.String(), More: a.Change, Who: a.By, From: a.Machine, By: ToldByLog}
		if c.From == "" && a.Address.IsValid() {
			c.From = a.Address.String()
		}
		if a.What == logs.Locked {
			c.Who = ""
		}
		if strings.HasPrefix(c.Who, "S-1-") {
			var err error
			if c.Who, err = nameOfSID(ctx, p, c.Who, names); err != nil {
				return nil, err
			}
		}
		all = append(all, c)
	}
	for _, c := range t.Changed {
		all = append(all, AccountChange{At: c.At, What: lastChanges[c.Attr], More: c.Attr, From: c.Server, By: ToldByDirectory})
	}
	all = append(all, stamped(t)...)
	ours, err := s.doneTo(ctx, p, t)
	if err != nil {
		return nil, err
	}
	all = append(all, ours...)
	slices.SortStableFunc(all, func(a, b AccountChange) int {
		return cmp.Or(b.At.Compare(a.At), strings.Compare(string(a.By), string(b.By)), strings.Compare(a.What, b.What))
	})
	return all, nil
}

// lastChanges are what the last change of an attribute was, as far as that alone tells.
var lastChanges = map[string]string{"userAccountControl": "enabled, disabled, or another flag", "unicodePwd": "password set", "pwdLastSet": "password set, or to be changed",
	"lockoutTime": "locked or unlocked", "accountExpires": "expiry set", "sAMAccountName": "logon name set", "userPrincipalName": "sign-in name set", "name": "renamed or moved",
	"whenCreated": "created", "adminCount": "marked as privileged, or no more"}

// stamped is what servers write into each entry: who made it, and who changed it last (RFC
// 4512, section 3.4).
func stamped(t *AccountTrace) (all []AccountChange) {
	if t.Entry == nil {
		return nil
	}
	for _, one := range []struct{ what, at, who string }{{"created", "createTimestamp", "creatorsName"}, {"changed last", "modifyTimestamp", "modifiersName"}} {
		at, err := directory.ParseGeneralizedTime(t.Entry.First(one.at))
		if who := t.Entry.First(one.who); err == nil && who != "" {
			all = append(all, AccountChange{At: at, What: one.what, Who: who, By: ToldByDirectory})
		}
	}
	return all
}

// system is the identifier of the server itself (MS-DTYP 2.4.2.4).
const system = "S-1-5-18"

// nameOfSID is what to call who has an identifier: the logon name, or, of one that is in
// this directory no more, the identifier.
func nameOfSID(ctx context.Context, p *Place, sid string, known map[string]string) (string, error) {
	if sid == system {
		return "the system", nil
	}
	if name, asked := known[sid]; asked {
		return name, nil
	}
	known[sid] = sid
	raw, err := directory.EncodeSID(sid)
	if err != nil {
		return sid, nil
	}
	found, err := p.Find(ctx, "(objectSid="+source.EscapeOctets(raw)+")")
	if err != nil {
		return "", err
	}
	if len(found) == 1 && found[0].First("sAMAccountName") != "" {
		known[sid] = found[0].First("sAMAccountName")
	}
	return known[sid], nil
}

// doneTo is what batches of ours have done to an account.
func (s *Session) doneTo(ctx context.Context, p *Place, t *AccountTrace) ([]AccountChange, error) {
	if t.Account == nil {
		return nil, nil
	}
	kept, err := s.storeIfAny(ctx)
	if kept == nil || err != nil {
		return nil, err
	}
	id, err := p.Identity(ctx)
	if err != nil {
		return nil, err
	}
	list, err := batch.List(ctx, kept)
	if err != nil {
		return nil, err
	}
	var all []AccountChange
	for _, one := range list {
		b, err := batch.Load(ctx, kept, one.ID)
		if err != nil {
			return nil, err
		}
		if !b.Identity.Same(id) {
			continue
		}
		for i := range b.Lines {
			l := &b.Lines[i]
			if l.ID != source.ShowIdentity(t.Survey.Dialect, t.Account.ID) || l.State != batch.Applied {
				continue
			}
			names := make([]string, len(l.Actions))
			for k := range l.Actions {
				names[k] = l.Actions[k].Name
			}
			what := strings.Join(names, ", ")
			if b.UndoOf != 0 {
				what = fmt.Sprintf("undo of batch %d: %s", b.UndoOf, what)
			}
			all = append(all, AccountChange{At: l.At, What: what, More: b.Why, Who: b.By, Batch: b.ID, By: ToldByJournal})
		}
	}
	return all, nil
}

package tracing

import (
	"fmt"
	"strings"
	"time"

	"yardbroom/internal/logs"
	"yardbroom/internal/wording"
)

var causes = [...]string{"none", "clock or encryption trouble", "guessing", "an old password", "a stored password", "somebody typing", "the account itself", "not known"}

func (c Cause) String() string { return causes[c] }

// Verdict is the judgement in a few words: a stored password on PHONE-7.
func (j *Judgement) Verdict() string {
	switch j.Cause {
	case None:
		return "nobody was refused"
	case Trouble:
		return map[logs.Why]string{logs.ClockSkew: "clocks that differ", logs.Encryption: "no encryption that both sides know", logs.Replay: "requests that are sent twice"}[j.Last] + at(" on ", j.Source)
	case Guessing:
		if j.Origin != nil {
			return "guessing from " + j.Origin.Name
		}
		return fmt.Sprintf("guessing from %d sources", j.Sources)
	case Old:
		return "an old password" + at(" on ", j.Source)
	case Stored:
		return "a stored password" + at(" on ", j.Source)
	case Typing:
		return "somebody typing" + at(" at ", j.Source)
	case Barred:
		return "the account itself: " + barredWords[j.Last]
	}
	return "not known"
}

var barredWords = map[logs.Why]string{logs.AccountDisabled: "it is disabled", logs.AccountExpired: "it has expired", logs.PasswordExpired: "its password has expired",
	logs.MustChange: "its password must be changed first", logs.NotNow: "it may not sign in at that time", logs.NotHere: "it may not sign in there",
	logs.NoSuchAccount: "there is none of this name", logs.Revoked: "it is disabled, expired or locked"}

func at(word string, s *Source) string {
	if s == nil || s.Name() == "" {
		return ""
	}
	return word + s.Name()
}

// Sentence is the judgement with how sure it is: "A stored password on PHONE-7 (sure)."
func (j *Judgement) Sentence() string {
	switch j.Cause {
	case None:
		return "Nobody was refused, as far as the logs go."
	case NotKnown:
		return "What it is cannot be told."
	default:
		text := j.Verdict()
		return strings.ToUpper(text[:1]) + text[1:] + " (" + j.Confidence() + ")."
	}
}

// Confidence is sure or likely.
func (j *Judgement) Confidence() string {
	if j.Sure {
		return "sure"
	}
	return "likely"
}

// Because are the reasons of a judgement, each a phrase.
func (j *Judgement) Because(c *Case, loc *time.Location) []string {
	switch j.Cause {
	case Trouble:
		return []string{wording.Count(j.Source.Whys[j.Last], "sign-in") + " refused because of " + map[logs.Why]string{logs.ClockSkew: "the time", logs.Encryption: "the encryption",
			logs.Replay: "a request that was seen before"}[j.Last] + ", not of the password"}
	case Guessing:
		return j.becauseGuessing()
	case Old:
		return []string{"it is refused as wrong, but none of the servers has counted it (" + wording.Count(len(c.Servers), "server") + " asked), as happens with one of the last passwords"}
	case Stored:
		return j.becauseStored(c, loc)
	case Typing:
		return []string{wording.Count(j.Source.Refused, "mistake") + ", unevenly spaced", "then signed in at " + wording.Moment(j.SignedIn, loc)}
	case Barred:
		return []string{"that is what the servers answered; the password may be right"}
	case NotKnown:
		if j.Source != nil {
			return []string{"most come" + at(" from ", j.Source) + ", but too few, or too unevenly, to say more"}
		}
		return []string{"they come from several sources, and follow no pattern"}
	case None:
	}
	return nil
}

func (j *Judgement) becauseGuessing() []string {
	if j.Origin == nil {
		return []string{fmt.Sprintf("%d sources tried this account within an hour", j.Sources)}
	}
	o := j.Origin
	all := []string{"it tried " + wording.Count(o.Accounts+o.Strangers, "name")}
	if o.Strangers > 0 {
		all[0] += fmt.Sprintf(", %d of which no account has", o.Strangers)
	}
	switch {
	case o.Breached > 0:
		all = append(all, wording.Count(o.Breached, "account")+" then signed in from there: look at these first")
	case o.In == 0:
		all = append(all, "nobody signed in from there")
	default:
		all = append(all, "only "+wording.Count(o.In, "account")+" signed in from there")
	}
	return all
}

func (j *Judgement) becauseStored(c *Case, loc *time.Location) []string {
	s := j.Source
	var all []string
	switch {
	case s.Rhythm.Regular:
		all = append(all, "it comes every "+Span(s.Rhythm.Every))
	case s.Rhythm.DayAndNight:
		all = append(all, "it goes on around the clock, as nobody types")
	}
	switch s.Type {
	case logs.Service:
		all = append(all, "a service signs in by itself")
	case logs.BatchJob:
		all = append(all, "a scheduled task signs in by itself")
	}
	if j.Began {
		text := "it began within " + Span(s.First.Sub(c.PasswordSet)) + " of the new password (" + wording.Moment(c.PasswordSet, loc) + ")"
		switch {
		case j.In:
			text += ", and signed in until then"
		case j.Before:
			text += ", and the logs show nothing of it before"
		}
		all = append(all, text)
	}
	return all
}

// Do is what to do about it, "" where there is nothing.
func (j *Judgement) Do() string {
	switch j.Cause {
	case Trouble:
		if j.Last == logs.ClockSkew {
			return "Set the clock" + at(" of ", j.Source) + " right: Kerberos allows five minutes."
		}
		return "Look at the kinds of encryption that the account and the client" + at(" on ", j.Source) + " allow."
	case Guessing:
		if j.Origin != nil {
			if j.Origin.In == 0 {
				return "Block " + j.Origin.Name + "."
			}
			return "Block " + j.Origin.Name + ", and look at who signed in from there."
		}
		return "See where these sources come in, and close that way; a longer password or a second factor makes guessing vain."
	case Old, Stored:
		return "Set the new password " + where(j.Source) + ", or remove it there" + map[bool]string{true: "; then unlock.", false: "."}[j.Cause == Stored]
	case Typing:
		return "Nothing, or help with a new password."
	case Barred:
		switch j.Last {
		case logs.AccountDisabled, logs.AccountExpired, logs.Revoked, logs.NoSuchAccount:
			return "Find out what still signs in" + at(" on ", j.Source) + ", and stop it there."
		case logs.PasswordExpired, logs.MustChange:
			return "A new password is needed."
		default:
			return "Look at the hours and the machines that the account is allowed."
		}
	case NotKnown:
		if j.Source != nil && j.Source.Name() != "" {
			return "Look at " + j.Source.Name() + ", or trace again with the log of the server that it signs in to."
		}
		return "Trace again with the logs of the other servers."
	case None:
	}
	return ""
}

func where(s *Source) string {
	on := at(" on ", s)
	switch {
	case s.Type == logs.Service:
		return "for the service" + on
	case s.Type == logs.BatchJob:
		return "for the scheduled task" + on
	case strings.HasPrefix(s.Via, "LDAP"):
		return "for the program" + on + " that signs in over LDAP"
	}
	return "in the device or program" + on
}

// Unlocking says in a sentence whether it helps.
func (j *Judgement) Unlocking() string {
	switch j.Unlock {
	case UnlockHelps:
		return "Unlocking helps: it is not going on."
	case UnlockWillNotLast:
		if j.Again > 0 {
			return "Unlocking will not last: it is still going on, and would lock the account again within " + Span(j.Again) + "."
		}
		return "Unlocking will not last: it is still going on."
	case UnlockChangesNothing:
		return "Unlocking changes nothing."
	case UnlockUnknown:
	}
	return "Whether unlocking lasts cannot be said."
}

// Span is a time that passes, rounded as people say it: 10 minutes.
func Span(d time.Duration) string {
	switch {
	case d < 90*time.Second:
		return wording.Count(max(1, int(d.Round(time.Second)/time.Second)), "second")
	case d < 90*time.Minute:
		return wording.Count(int(d.Round(time.Minute)/time.Minute), "minute")
	case d < 48*time.Hour:
		return wording.Count(int(d.Round(time.Hour)/time.Hour), "hour")
	}
	return wording.Count(int(d.Round(24*time.Hour)/(24*time.Hour)), "day")
}

// short is Span for a narrow column: 10 min.
func short(d time.Duration) string {
	n, unit, _ := strings.Cut(Span(d), " ")
	return n + " " + map[string]string{"second": "s", "minute": "min", "hour": "h", "day": "d"}[strings.TrimSuffix(unit, "s")]
}

// Describe says how they follow each other: "every 10 min".
func (r Rhythm) Describe() string {
	switch {
	case r.Regular:
		return "every " + short(r.Every)
	case r.DayAndNight:
		return "day and night"
	case r.Tries >= enough:
		return "uneven"
	}
	return ""
}

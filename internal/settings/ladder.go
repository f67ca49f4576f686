package settings

import (
	"cmp"
	"errors"
	"fmt"
	"net/mail"
	"slices"
	"strings"
	"text/template"

	"yardbroom/internal/calendar"
	"yardbroom/internal/pattern"
)

// Ladder ages accounts in steps: whom it is for, what puts somebody on it, and
// what happens on each rung. An account is on the first ladder of its yard that
// takes it.
type Ladder struct {
	Name  string `yaml:"name"`
	Yard  string `yaml:"yard"`  // default: the default yard
	Title string `yaml:"title"` // what it is for, in a few words
	// Starts is what puts an account on the ladder, and must stay true of it.
	Starts Start `yaml:"starts"`
	// Of are conditions, and Checks checks of which one must find it, for an
	// account to be taken on. What the ladder itself does later (it moves people
	// out of what stands under a name) does not take them off again.
	Of       *Filter `yaml:"of"`
	Checks   Words   `yaml:"checks"`
	LeaveOut Words   `yaml:"leave_out"` // DNs; nobody at or below them is taken on
	Rungs    []Rung  `yaml:"rungs"`
	// Signers are the mail addresses of those who are told that a batch waits for
	// a signature.
	Signers Words `yaml:"signers"`
	// Language is the attribute that tells in which language somebody is written
	// to; default: preferredLanguage.
	Language string `yaml:"language"`
}

// Start is what puts an account on a ladder: one of its fields is set. The time
// is how long that must have been so.
type Start struct {
	Idle      *calendar.Span `yaml:"idle"`       // no sign-in, or never one since it was made
	NeverUsed *calendar.Span `yaml:"never_used"` // made so long ago, and no sign-in ever
	Disabled  *calendar.Span `yaml:"disabled"`
	Expired   *calendar.Span `yaml:"expired"`
	Left      *calendar.Span `yaml:"left"`  // the person has left, by the roster
	Found     *calendar.Span `yaml:"found"` // by the checks of the ladder
}

// Starting is one way to come on a ladder.
type Starting string

// The ways to come on a ladder.
const (
	StartIdle      Starting = "idle"
	StartNeverUsed Starting = "never used"
	StartDisabled  Starting = "disabled"
	StartExpired   Starting = "expired"
	StartLeft      Starting = "left"
	StartFound     Starting = "found"
)

// By is which way it is, and how long that must have been so.
func (s *Start) By() (Starting, calendar.Span) {
	for _, one := range s.all() {
		if one.span != nil {
			return one.by, *one.span
		}
	}
	return "", calendar.Span{}
}

type startBy struct {
	by   Starting
	span *calendar.Span
}

func (s *Start) all() []startBy {
	return []startBy{{StartIdle, s.Idle}, {StartNeverUsed, s.NeverUsed}, {StartDisabled, s.Disabled},
		{StartExpired, s.Expired}, {StartLeft, s.Left}, {StartFound, s.Found}}
}

// String says it in words.
func (s *Start) String() string {
	by, span := s.By()
	switch by {
	case StartLeft:
		return "left " + span.String() + " ago"
	case StartNeverUsed:
		return "never used, made " + span.String() + " ago"
	}
	return string(by) + " for " + span.String()
}

// Rung is one step of a ladder.
type Rung struct {
	Name string `yaml:"name"`
	// After is the waiting time: from the day that the account came on the ladder,
	// or from the rung before.
	After   calendar.Span `yaml:"after"`
	Actions Words         `yaml:"actions"`
	To      string        `yaml:"to"`      // DN, for move
	Text    string        `yaml:"text"`    // for describe
	Expires string        `yaml:"expires"` // for expire: a date, or a span from the day
	Groups  Words         `yaml:"groups"`  // for join-group and leave-group
	Attr    string        `yaml:"attribute"`
	Value   string        `yaml:"value"`
	// AppendAccount puts the logon name into the name where that is taken.
	AppendAccount bool `yaml:"append_account"`
	// IncludeLikely takes in those of whom the evidence is likely, not sure.
	IncludeLikely bool `yaml:"include_likely"`
	// Unattended lets a climb carry the rung out by itself, as far as that needs no
	// signature; else it is left for somebody to carry out.
	Unattended bool `yaml:"unattended"`
	// Signature asks for a signature also where the rules of signing do not.
	Signature bool `yaml:"signature"`
	// EnableAgain lets the ladder enable again whom this rung has disabled, when
	// they leave the ladder.
	EnableAgain bool `yaml:"enable_again"`
	// KeepDeleted is how long what the rung deletes is kept as LDIF; default: as
	// long as what other batches delete (batch: keep_deleted).
	KeepDeleted *calendar.Span `yaml:"keep_deleted"`
	Tell        *Notice        `yaml:"tell"`
}

// Who is told what is to come.
const (
	WhoPerson  = "person"
	WhoManager = "manager"
	WhoOwner   = "owner"
)

// Notice says whom a rung tells beforehand, and what an objection does.
type Notice struct {
	Who    Words         `yaml:"who"`    // person, manager, owner, or mail addresses
	Before calendar.Span `yaml:"before"` // at least so long before; default: 14d
	// Otherwise is the address for those of whom nobody else can be told. Without
	// it they stay where they are.
	Otherwise string `yaml:"otherwise"`
	// Hold is how long an objection holds an account; default: 90d.
	Hold calendar.Span `yaml:"hold"`
	// Quiet tells nobody again on the day.
	Quiet bool `yaml:"quiet"`
	// Subject and Text are the mail, as templates; Languages have them by the
	// beginning of a language's tag (de, fr).
	Subject   string           `yaml:"subject"`
	Text      string           `yaml:"text"`
	Languages map[string]Words `yaml:"languages"` // subject and text
}

// WithDefaults is the notice with the defaults where nothing is set.
func (n *Notice) WithDefaults() Notice {
	out := *n
	if out.Before == (calendar.Span{}) {
		out.Before = calendar.Days(14)
	}
	if out.Hold == (calendar.Span{}) {
		out.Hold = calendar.Days(90)
	}
	return out
}

// Answers is the mailbox of its own that replies to notices come to.
type Answers struct {
	Address         string `yaml:"address"` // that replies go to; default: that of mail: from
	Server          string `yaml:"server"`  // IMAP, host:port
	TLS             string `yaml:"tls"`     // tls (default), starttls, or none on this machine only
	CAFile          string `yaml:"ca_file"`
	Name            string `yaml:"name"`
	PasswordFile    string `yaml:"password_file"`
	PasswordEnv     string `yaml:"password_env"`
	PasswordCommand string `yaml:"password_command"`
	Folder          string `yaml:"folder"` // default: INBOX
}

// LadderNamed returns a ladder by its name, nil for none.
func (s *Settings) LadderNamed(name string) *Ladder {
	for i := range s.Ladders {
		if s.Ladders[i].Name == name {
			return &s.Ladders[i]
		}
	}
	return nil
}

// LaddersOf are the ladders of a yard, in their order.
func (s *Settings) LaddersOf(yard string) (all []*Ladder) {
	for i := range s.Ladders {
		if cmp.Or(s.Ladders[i].Yard, s.Default) == yard {
			all = append(all, &s.Ladders[i])
		}
	}
	return all
}

// Rung returns where a rung stands, and false where the ladder has none of that
// name.
func (l *Ladder) Rung(name string) (int, bool) {
	i := slices.IndexFunc(l.Rungs, func(r Rung) bool { return r.Name == name })
	return i, i >= 0
}

// LanguageAttr is the attribute that tells in which language somebody is
// written to.
func (l *Ladder) LanguageAttr() string { return cmp.Or(l.Language, "preferredLanguage") }

// Doing is what a rung does, as a step of a round would.
func (r *Rung) Doing() *StageStep {
	return &StageStep{Actions: r.Actions, To: r.To, Text: r.Text, Expires: r.Expires, Groups: r.Groups, Attr: r.Attr, Value: r.Value,
		IncludeLikely: r.IncludeLikely, AppendAccount: r.AppendAccount}
}

var ladderName = pattern.Lazy(`^[a-z][a-z0-9-]{0,30}$`)

// checkLadders refuses ladders that cannot be meant.
func (s *Settings) checkLadders() *Fault {
	seen := map[string]bool{}
	for i := range s.Ladders {
		l := &s.Ladders[i]
		at := func(err error, path ...any) *Fault { return Faulty(err, append([]any{"ladders", i}, path...)...) }
		switch {
		case !ladderName().MatchString(l.Name):
			return at(fmt.Errorf("%q cannot name a ladder: use small letters, digits and dashes", l.Name), "name")
		case seen[l.Name]:
			return at(fmt.Errorf("two ladders are called %q", l.Name), "name")
		}
		seen[l.Name] = true
		if path, err := l.check(s); err != nil {
			return at(err, path...)
		}
	}
	return nil
}

func (l *Ladder) check(s *Settings) (path []any, err error) {
	yard := cmp.Or(l.Yard, s.Default)
	if _, ok := s.Yards[yard]; !ok {
		return []any{"yard"}, fmt.Errorf("%q is none of the yards", yard)
	}
	given := 0
	for _, one := range l.Starts.all() {
		if one.span != nil {
			given++
		}
	}
	switch {
	case given != 1:
		return []any{"starts"}, errors.New("starts: give one of idle, never_used, disabled, expired, left and found: what puts somebody on it, and after how long")
	case l.Starts.Found != nil && len(l.Checks) == 0:
		return []any{"starts"}, errors.New("found: by which checks? Name them in checks")
	case len(l.Rungs) == 0:
		return nil, errors.New("rungs: name at least one")
	}
	if f := checkDNs(l.LeaveOut, "leave_out"); f != nil {
		return f.Path, f.Err
	}
	for _, to := range l.Signers {
		if _, err := mail.ParseAddress(to); err != nil {
			return []any{"signers"}, fmt.Errorf("%q is not a mail address", to)
		}
	}
	seen := map[string]bool{}
	for i := range l.Rungs {
		r := &l.Rungs[i]
		at := []any{"rungs", i}
		switch {
		case !ladderName().MatchString(r.Name):
			return append(at, "name"), fmt.Errorf("%q cannot name a rung: use small letters, digits and dashes", r.Name)
		case seen[r.Name]:
			return append(at, "name"), fmt.Errorf("two rungs are called %q", r.Name)
		case i > 0 && r.After == (calendar.Span{}):
			return append(at, "after"), errors.New("after is missing: how long does an account stay on the rung before?")
		}
		seen[r.Name] = true
		if key, err := r.check(s, i == len(l.Rungs)-1); err != nil {
			return append(at, key), err
		}
	}
	return nil, nil
}

// check refuses a rung that cannot be meant; key is what is wrong with it.
func (r *Rung) check(s *Settings, last bool) (key string, err error) {
	has := func(action string) bool { return slices.Contains(r.Actions, action) }
	switch {
	case len(r.Actions) == 0:
		return "actions", errors.New("actions are missing")
	case has("delete") && !last:
		return "actions", errors.New("delete is for the last rung: nothing is left for those above it")
	case has("delete") && r.Unattended:
		return "unattended", errors.New("what deletes is never carried out unattended: somebody signs it")
	case has("delete") && r.IncludeLikely:
		return "include_likely", errors.New("nothing is deleted on likely evidence")
	case has("enable") || has("unlock") || has("reset-password"):
		return "actions", errors.New("a ladder enables nobody, and sets no passwords")
	case has("move") && r.To == "":
		return "to", errors.New("move needs to: the container to move to")
	case !has("move") && r.To != "":
		return "to", errors.New("to goes with move")
	case r.EnableAgain && !has("disable"):
		return "enable_again", errors.New("enable_again goes with disable")
	case r.Signature && s.Signing.AllowedSigners == "":
		return "signature", errors.New("nobody can sign: the settings name no allowed signers (signing: allowed_signers)")
	case r.Signature && r.Unattended:
		return "unattended", errors.New("a rung that wants a signature is not carried out unattended")
	}
	if r.To != "" {
		if f := checkDNs([]string{r.To}); f != nil {
			return "to", f.Err
		}
	}
	if r.Tell == nil {
		return "", nil
	}
	return "tell", r.Tell.check()
}

func (n *Notice) check() error {
	if len(n.Who) == 0 {
		return errors.New("who is missing: person, manager, owner, or mail addresses")
	}
	for _, who := range n.Who {
		if slices.Contains([]string{WhoPerson, WhoManager, WhoOwner}, who) {
			continue
		}
		if _, err := mail.ParseAddress(who); err != nil {
			return fmt.Errorf("who: %q is neither person, manager, owner nor a mail address", who)
		}
	}
	if n.Otherwise != "" {
		if _, err := mail.ParseAddress(n.Otherwise); err != nil {
			return fmt.Errorf("otherwise: %q is not a mail address", n.Otherwise)
		}
	}
	for _, text := range []string{n.Subject, n.Text} {
		if _, err := template.New("").Parse(text); err != nil {
			return fmt.Errorf("text: %s", strings.TrimPrefix(err.Error(), "template: "))
		}
	}
	for tag, both := range n.Languages {
		if len(both) != 2 {
			return fmt.Errorf("languages: %s: give two texts: the subject and the mail", tag)
		}
		for _, text := range both {
			if _, err := template.New("").Parse(text); err != nil {
				return fmt.Errorf("languages: %s: %s", tag, strings.TrimPrefix(err.Error(), "template: "))
			}
		}
	}
	return nil
}

// check refuses a mailbox that cannot be meant.
func (a *Answers) check() error {
	if *a == (Answers{}) {
		return nil
	}
	if a.Address != "" {
		if _, err := mail.ParseAddress(a.Address); err != nil {
			return fmt.Errorf("address: %q is not a mail address", a.Address)
		}
	}
	if a.Server == "" {
		return nil
	}
	host, err := hostAndPort(a.Server, "imap.larkmoor.example:993")
	if err != nil {
		return err
	}
	if err := checkTLS(a.TLS, host, "tls", "starttls"); err != nil {
		return err
	}
	if a.Name == "" {
		return errors.New("name is missing: who signs in to the mailbox?")
	}
	return oneSource(a.Name, a.PasswordFile, a.PasswordEnv, a.PasswordCommand)
}

// With is the same start after another time.
func (s Start) With(span calendar.Span) Start {
	for _, one := range []**calendar.Span{&s.Idle, &s.NeverUsed, &s.Disabled, &s.Expired, &s.Left, &s.Found} {
		if *one != nil {
			*one = &span
		}
	}
	return s
}

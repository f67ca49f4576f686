package ladder

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"
	"text/template"
	"time"
	"unicode"

	"yardbroom/internal/settings"
	"yardbroom/internal/wording"
)

// Occasion is why somebody is written to.
type Occasion int

// The occasions.
const (
	Beforehand Occasion = iota // a rung is to come
	OnTheDay                   // it was taken
	ToSign                     // a batch waits for a signature
	Answered                   // somebody has objected
)

// Letter is a mail that a ladder wants to be sent to one address.
type Letter struct {
	Occasion Occasion
	To       Recipient
	Ladder   *settings.Ladder
	Rung     *settings.Rung
	Lines    []LetterLine
	Zone     *time.Location
	// Ref is what the whole mail is found by again; Batch what is told of.
	Ref   string
	Batch int
	// Answers is the Message-ID of the mail that it is an answer to, "" for none.
	Answers string
}

// LetterLine is one account of a letter.
type LetterLine struct {
	Event
	Name  string    // of the person, "" where there is none
	Since time.Time // what put it on the ladder
	Token string    // with TokenPrefix; "" where nobody is asked
}

// LetterText is what the templates of a letter see.
type LetterText struct {
	// Name is of whom is written to; Self tells that it is their own account.
	Name string
	Self bool
	// Ladder, Title and Rung are those of the settings; What says what is done.
	Ladder, Title, Rung, What string
	// Day is the first day on which it is done, as "22 December 2026", and Date as
	// 2026-12-22.
	Day, Date string
	Hold      string // for how long an objection holds: "90 days"
	Accounts  []LetterAccount
	// Kept and Late are those of an answer that are held, and that it came too late
	// for.
	Kept, Late []LetterAccount
	Batch      int
}

// LetterAccount is one account of a letter, as templates see it.
type LetterAccount struct {
	Account, Name, Why, Day, Date, Token string
}

// deeds say what actions do to an account.
var deeds = map[string]string{
	"move": "moved", "disable": "disabled", "delete": "deleted", "leave-groups": "taken out of its groups", "leave-group": "taken out of a group",
	"join-group": "put into a group", "hide": "hidden from address lists", "expire": "given an expiry date", "describe": "marked in its description",
	"set-home-aside": "parted from its home folder", "leave-role": "taken out of a role", "unmark-privileged": "no longer marked as privileged",
}

// What says what a rung does, in words that follow "will be".
func What(r *settings.Rung) string {
	var parts []string
	for _, a := range r.Actions {
		if a == "describe" && len(r.Actions) > 1 {
			continue
		}
		parts = append(parts, cmp.Or(deeds[a], "changed ("+a+")"))
	}
	if slices.Contains(r.Actions, "delete") {
		return "deleted"
	}
	return wording.List(parts)
}

// WhyOn says what has put an account on a ladder, with the day as tables have days.
func WhyOn(l *settings.Ladder, since time.Time, zone *time.Location) string {
	return whyOn(l, since.In(zone).Format(time.DateOnly))
}

// whyOn says it of a day.
func whyOn(l *settings.Ladder, day string) string {
	switch by, _ := l.Starts.By(); by {
	case settings.StartIdle:
		return "not used since " + day
	case settings.StartNeverUsed:
		return "never used since it was made on " + day
	case settings.StartDisabled:
		return "disabled since " + day
	case settings.StartExpired:
		return "expired on " + day
	case settings.StartLeft:
		return "of somebody who left on " + day
	}
	return "reported as " + strings.Join(l.Checks, " and ") + " since " + day
}

// dayForm is how letters write days.
const dayForm = "2 January 2006"

const beforehandSubject = `{{if .Self}}Your account {{(index .Accounts 0).Account}}{{else if eq (len .Accounts) 1}}The account {{(index .Accounts 0).Account}}{{else}}{{len .Accounts}} accounts{{end}} will be {{.What}} on {{.Day}}`

const beforehandText = `{{if .Name}}Dear {{.Name}},

{{end}}{{if .Self}}Your account will be {{.What}} on {{.Day}}, unless you object.{{else if eq (len .Accounts) 1}}This account will be {{.What}} on {{.Day}}, unless you object.{{else}}These accounts will be {{.What}}, the first of them on {{.Day}}, unless you object.{{end}}
{{range .Accounts}}
  {{.Account}}{{if .Name}} ({{.Name}}){{end}}
    {{.Why}}; on {{.Day}}
    {{.Token}}
{{end}}
{{if eq (len .Accounts) 1}}To keep it as it is, reply to this mail and leave its keep- word in.{{else}}To keep some as they are, reply and write which: their names, or their keep- words. A reply that names none keeps all of them.{{end}} What you keep stays as it is for {{.Hold}}; then you are asked again. If it may go, you need not do anything.
`

const onTheDaySubject = `{{if .Self}}Your account {{(index .Accounts 0).Account}}{{else if eq (len .Accounts) 1}}The account {{(index .Accounts 0).Account}}{{else}}{{len .Accounts}} accounts{{end}} {{if eq (len .Accounts) 1}}was{{else}}were{{end}} {{.What}}`

const onTheDayText = `{{if .Name}}Dear {{.Name}},

{{end}}{{if .Self}}Your account was {{.What}} on {{.Day}}.{{else if eq (len .Accounts) 1}}This account was {{.What}} on {{.Day}}.{{else}}These accounts were {{.What}} on {{.Day}}.{{end}}
{{range .Accounts}}
  {{.Account}}{{if .Name}} ({{.Name}}){{end}}
    {{.Why}}
{{end}}
{{if eq (len .Accounts) 1}}Whoever needs it{{else}}Whoever needs one of them{{end}} can have it back as it was: sign in, or ask those who look after the directory.
`

const toSignSubject = `Batch {{.Batch}} of the ladder {{.Ladder}} waits for your signature`

const toSignText = `Batch {{.Batch}} would take {{if eq (len .Accounts) 1}}an account{{else}}{{len .Accounts}} accounts{{end}} to the rung {{.Rung}} of the ladder {{.Ladder}}: they would be {{.What}}.
{{range .Accounts}}
  {{.Account}}{{if .Name}} ({{.Name}}){{end}}: {{.Why}}{{end}}

Look at it with "yardbroom batch show {{.Batch}}" and sign it with "yardbroom batch sign {{.Batch}}". Until then nothing happens.
`

const answeredSubject = `{{if .Kept}}Kept as it is: {{range $i, $a := .Kept}}{{if $i}}, {{end}}{{$a.Account}}{{end}}{{else}}Too late: {{range $i, $a := .Late}}{{if $i}}, {{end}}{{$a.Account}}{{end}}{{end}}`

const answeredText = `Your answer has come.
{{range .Kept}}
  {{.Account}} stays as it is until {{.Day}}.{{end}}{{range .Late}}
  {{.Account}}: what you were asked about is over. Ask those who look after the directory.{{end}}

Nothing else was changed by it. Before anything happens to what you keep, you are asked again.
`

// Write makes the subject and the text of a letter, in the words of the settings and
// the language of whom it is for, where they have it. Own tells whether these are the
// settings' own words.
func (l *Letter) Write() (subject, text string, own bool, err error) {
	subject, text = beforehandSubject, beforehandText
	switch l.Occasion {
	case OnTheDay:
		subject, text = onTheDaySubject, onTheDayText
	case ToSign:
		subject, text = toSignSubject, toSignText
	case Answered:
		subject, text = answeredSubject, answeredText
	case Beforehand:
		n := l.Rung.Tell
		if both := n.Languages[tongue(n, l.To.Tongue)]; len(both) == 2 {
			subject, text, own = both[0], both[1], true
		} else if n.Text != "" {
			subject, text, own = cmp.Or(n.Subject, subject), n.Text, true
		}
	}
	data := l.Data()
	if subject, err = fill("subject", subject, data); err != nil {
		return "", "", own, err
	}
	text, err = fill("text", text, data)
	return strings.Join(strings.Fields(subject), " "), text, own, err
}

// CheckWords refuses words for the mails of a rung that name what there is not.
func CheckWords(l *settings.Ladder, r *settings.Rung) error {
	try := Letter{Ladder: l, Rung: r, Zone: time.UTC, Lines: []LetterLine{{Event: Event{Account: "ada"}, Name: "Ada Quill", Token: TokenPrefix}}}
	tongues := []string{""}
	for tag := range r.Tell.Languages {
		tongues = append(tongues, tag)
	}
	for _, tag := range tongues {
		try.To.Tongue = tag
		_, text, own, err := try.Write()
		if err != nil {
			return fmt.Errorf("tell: %w", err)
		}
		if own && !strings.Contains(text, TokenPrefix) {
			return errors.New("tell: the text has no {{.Token}} of the accounts ({{range .Accounts}}{{.Token}}{{end}}), so nobody could answer which one is meant")
		}
	}
	return nil
}

// tongue is the language of the settings that a language tag begins with, "" for
// none.
func tongue(n *settings.Notice, tag string) string {
	tag = strings.ToLower(tag)
	for _, part := range strings.FieldsFunc(tag, func(r rune) bool { return r == ',' || r == ';' || r == ' ' }) {
		for len(part) > 0 {
			if _, has := n.Languages[part]; has {
				return part
			}
			part = part[:max(strings.LastIndexAny(part, "-_"), 0)]
		}
	}
	return ""
}

func fill(name, text string, data *LetterText) (string, error) {
	t, err := template.New(name).Option("missingkey=error").Parse(text)
	if err != nil {
		return "", err
	}
	var b bytes.Buffer
	if err := t.Execute(&b, data); err != nil {
		return "", fmt.Errorf("the words of the mail: %w", err)
	}
	return b.String(), nil
}

// Data is what templates see of a letter. Values of the directory are made harmless:
// no line of theirs can look like one of the letter's own.
func (l *Letter) Data() *LetterText {
	if l.Occasion == Answered {
		return l.answered()
	}
	d := &LetterText{Name: oneLine(l.To.Name), Ladder: l.Ladder.Name, Title: cmp.Or(l.Ladder.Title, l.Ladder.Name), Rung: l.Rung.Name,
		What: What(l.Rung), Batch: l.Batch}
	if l.Rung.Tell != nil {
		n := l.Rung.Tell.WithDefaults()
		d.Hold = inWords(n.Hold.String())
	}
	var first time.Time
	for i := range l.Lines {
		line := &l.Lines[i]
		if first.IsZero() || line.Day.Before(first) {
			first = line.Day
		}
		one := LetterAccount{Account: oneLine(line.Account), Name: oneLine(line.Name), Why: whyOn(l.Ladder, line.Since.In(l.Zone).Format(dayForm)),
			Day: line.Day.In(l.Zone).Format(dayForm), Date: line.Day.In(l.Zone).Format(time.DateOnly), Token: line.Token}
		if one.Name == one.Account {
			one.Name = ""
		}
		d.Accounts = append(d.Accounts, one)
	}
	d.Day, d.Date = first.In(l.Zone).Format(dayForm), first.In(l.Zone).Format(time.DateOnly)
	d.Self = l.To.Who == settings.WhoPerson && len(l.Lines) == 1
	return d
}

// answered is the data of an answer to an answer.
func (l *Letter) answered() *LetterText {
	d := &LetterText{}
	for i := range l.Lines {
		line := &l.Lines[i]
		one := LetterAccount{Account: oneLine(line.Account)}
		if line.Until.IsZero() {
			d.Late = append(d.Late, one)
			continue
		}
		one.Day = line.Until.In(l.Zone).Format(dayForm)
		d.Kept = append(d.Kept, one)
	}
	return d
}

// oneLine is a value of a directory on one line, without what is no text.
func oneLine(text string) string {
	return strings.Join(strings.FieldsFunc(text, func(r rune) bool { return unicode.IsControl(r) || unicode.Is(unicode.Cf, r) || unicode.IsSpace(r) }), " ")
}

// inWords writes a span as people say it: "90 days".
func inWords(span string) string {
	for unit, word := range map[string]string{"mo": "month", "d": "day"} {
		if n, is := strings.CutSuffix(span, unit); is {
			if n == "1" {
				return "1 " + word
			}
			return n + " " + word + "s"
		}
	}
	return span
}

package rounds

import (
	"context"
	"encoding/base64"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/directory"
	"yardbroom/internal/ladder"
	"yardbroom/internal/mail"
	"yardbroom/internal/settings"
	"yardbroom/internal/work"
)

// askingLadder tells the person and the manager ten days before it disables.
const askingLadder = `  none:
    steps: [survey]
answers: {address: objections@larkmoor.example}
ladders:
  - name: unused
    starts: {idle: 30d}
    of: {kind: people, under: "OU=Staff,DC=larkmoor,DC=example", where: {enabled: true}}
    rungs:
      - name: disabled
        after: 20d
        actions: [disable]
        unattended: true
        tell: {who: [person, manager], before: 10d, hold: 60d}
      - {name: gone, after: 30d, actions: [describe], text: gone, unattended: true}
`

// asking is a yard on which Ada and Cleo have been told what is to come, and so has Bram,
// their manager.
type asking struct {
	*yard
	t   *testing.T
	box string
	n   int
}

func newAsking(t *testing.T) *asking {
	t.Helper()
	a := &asking{yard: emptyYard(t, askingLadder), t: t, box: t.TempDir()}
	for _, name := range []string{"new", "cur", "tmp"} {
		require.NoError(t, os.Mkdir(filepath.Join(a.box, name), 0o700))
	}
	a.add(t, "CN=practice,"+base, "objectClass", "server", "dNSHostName", "practice.larkmoor.example")
	a.add(t, "CN=NTDS Settings,CN=practice,"+base, "objectClass", "nTDSDSA")
	a.person(t, "Ada Quill", 45)
	a.person(t, "Cleo Birk", 45)
	a.signsIn("Bram Tern", 0)
	a.climb()
	return a
}

// climb climbs, and hands the mails over.
func (a *asking) climb() *work.LadderClimb {
	a.t.Helper()
	ctx := context.Background()
	p, err := a.Open(ctx, work.From{})
	require.NoError(a.t, err)
	defer p.Close()
	c, err := a.Climb(ctx, p, &work.ClimbRequest{})
	require.NoError(a.t, err)
	require.NoError(a.t, c.All[0].Error)
	require.NoError(a.t, KeepLetters(ctx, a.Session, c.All[0].Letters))
	a.deliver()
	return c.All[0]
}

func (a *asking) deliver() {
	kept, err := a.Store(context.Background())
	require.NoError(a.t, err)
	require.NoError(a.t, Deliver(context.Background(), kept, a.Settings, a.post, a.Now, func(string, ...any) {}))
}

// days lets days pass, on which Bram and the keeper work.
func (a *asking) days(n int) {
	a.at = a.at.AddDate(0, 0, n)
	a.signsIn("Bram Tern", 0)
	a.signsIn("Keeper", 0)
}

// asked is the last mail that somebody got, and its Message-ID.
func (a *asking) asked(to string) (m sent, id string) {
	a.t.Helper()
	for _, one := range a.post.mails {
		if one.to == to {
			m = one
		}
	}
	found := regexp.MustCompile(`(?m)^Message-ID: <(.*)>`).FindStringSubmatch(m.raw)
	require.NotNil(a.t, found, "%s got no mail", to)
	return m, found[1]
}

// token is the word by which an account of a mail is kept.
func (a *asking) token(m sent, account string) string {
	a.t.Helper()
	_, after, _ := strings.Cut(m.text, "\n  "+account+" ")
	found := regexp.MustCompile(`keep-[a-z2-9]{32}`).FindString(after)
	require.NotEmpty(a.t, found)
	return found
}

// answers are what comes of mails that came into the mailbox.
func (a *asking) answers(mails ...string) *work.Answers {
	a.t.Helper()
	for _, text := range mails {
		a.n++
		require.NoError(a.t, os.WriteFile(filepath.Join(a.box, "new", fmt.Sprint(a.n)), []byte(strings.ReplaceAll(text, "\n", "\r\n")), 0o600))
	}
	got, err := a.ReadAnswers(context.Background(), mail.Maildir(a.box))
	require.NoError(a.t, err)
	require.NoError(a.t, KeepLetters(context.Background(), a.Session, got.Letters))
	a.deliver()
	return got
}

func held(got *work.Answers) (names []string) {
	for _, e := range got.Held {
		names = append(names, e.Account)
	}
	return names
}

// reply is a mail from somebody about another one.
func reply(from, to, more, text string) string {
	head := "From: " + from + "\nTo: objections@larkmoor.example\nSubject: Re: accounts\nMessage-ID: <answer@larkmoor.example>\n" + more
	if to != "" {
		head += "In-Reply-To: <" + to + ">\nReferences: <" + to + ">\n"
	}
	return head + "\n" + text + "\n"
}

// quoted is a text as mail readers quote it.
func quoted(text string) string { return "> " + strings.ReplaceAll(text, "\n", "\n> ") }

const bram, adaMail = "bram@larkmoor.example", "ada@larkmoor.example"

func TestOnlyRealObjectionsHold(t *testing.T) {
	page := "Content-Type: text/html; charset=utf-8\n"
	for name, c := range map[string]struct {
		mail func(a *asking, m sent, id string) string
		held []string
		say  string // of what was not believed
		auto int
	}{
		"a reply holds all that it was asked about": {mail: func(_ *asking, _ sent, id string) string {
			return reply("Bram Tern <"+bram+">", id, "", "Please leave them.")
		},
			held: []string{"ada", "cleo"}},
		"one that names some holds these": {mail: func(_ *asking, m sent, id string) string { return reply(bram, id, "", "Keep Cleo!\n\n"+quoted(m.text)) },
			held: []string{"cleo"}},
		"by the word of one": {mail: func(a *asking, m sent, _ string) string { return reply(bram, "", "", a.token(m, "ada")) }, held: []string{"ada"}},
		"quoted, by a mail reader that keeps no threads": {mail: func(a *asking, m sent, _ string) string {
			return reply(bram, "", "", "No!\n> "+a.token(m, "cleo"))
		}, held: []string{"cleo"}},
		"as a page": {mail: func(_ *asking, m sent, id string) string {
			return reply(bram, id, page, "<p>ada stays</p><blockquote>"+m.text+"</blockquote>")
		}, held: []string{"ada"}},
		"in another encoding": {mail: func(_ *asking, _ sent, id string) string {
			return reply(bram, id, "Content-Type: text/plain; charset=windows-1252\nContent-Transfer-Encoding: base64\n",
				base64.StdEncoding.EncodeToString([]byte("F\xfcr Cleo brauchen wir es")))
		}, held: []string{"cleo"}},
		"a word that was made up": {mail: func(a *asking, m sent, _ string) string {
			token := a.token(m, "ada")
			return reply(bram, "", "", token[:len(token)-2]+"zz")
		}, say: "was never sent"},
		"the word of another account": {mail: func(a *asking, m sent, _ string) string {
			return reply(bram, "", "", a.token(m, "ada")[:21]+a.token(m, "cleo")[21:])
		}, say: "was never sent"},
		"from another address": {mail: func(a *asking, m sent, _ string) string {
			return reply("eve@larkmoor.example", "", "", a.token(m, "ada"))
		},
			say: "sent to somebody else"},
		"a forwarded mail that somebody else answers": {mail: func(_ *asking, m sent, id string) string {
			return reply(adaMail, id, "", "Keep me.\n"+quoted(m.text))
		}, say: "sent to somebody else"},
		"a made-up thread": {mail: func(_ *asking, _ sent, id string) string {
			return reply(bram, id[:len(id)-28]+"zz"+id[len(id)-26:], "", "ada")
		}, say: "no mail that was sent"},
		"from two at once": {mail: func(_ *asking, _ sent, id string) string { return reply(bram+", eve@larkmoor.example", id, "", "ada") }, say: "somebody else"},
		"an answer of a program": {mail: func(_ *asking, m sent, id string) string {
			return reply(bram, id, "Auto-Submitted: auto-replied\n", "I am away.\n"+quoted(m.text))
		}, auto: 1},
		"something else": {mail: func(*asking, sent, string) string { return reply(bram, "", "", "Lunch?") }},
	} {
		t.Run(name, func(t *testing.T) {
			a := newAsking(t)
			m, id := a.asked(bram)
			got := a.answers(c.mail(a, m, id))
			assert.Equal(t, c.held, held(got))
			assert.Equal(t, c.auto, got.Automatic)
			if c.say == "" {
				assert.Empty(t, got.Doubtful)
			} else {
				require.Len(t, got.Doubtful, 1)
				assert.Contains(t, got.Doubtful[0], c.say)
			}
			a.days(30)
			a.climb()
			for _, who := range []string{"Ada Quill", "Cleo Birk"} {
				account := strings.ToLower(strings.Fields(who)[0])
				flags := "514"
				if slices.Contains(c.held, account) {
					flags = "512"
				}
				assert.Equal(t, flags, a.flags(who), who)
			}
		})
	}
}

func TestAnAnswerCountsOnceAndIsConfirmed(t *testing.T) {
	a := newAsking(t)
	_, id := a.asked(adaMail)
	text := reply(adaMail, id, "", "Keep it, please.")
	got := a.answers(text)
	require.Equal(t, []string{"ada"}, held(got))
	until := a.at.AddDate(0, 0, 60)
	assert.Equal(t, until, got.Held[0].Until)
	confirmed, _ := a.asked(adaMail)
	assert.Contains(t, confirmed.subject, "Kept as it is: ada")
	assert.Contains(t, confirmed.raw, "In-Reply-To: <answer@larkmoor.example>")

	a.days(20)
	again := a.answers(text)
	assert.Empty(t, held(again), "it was answered before")
	require.Len(t, again.Known, 1)
	assert.Equal(t, until, again.Known[0].Until, "and holds no longer by that")

	a.days(41) // the hold is over; nothing happens before she was asked again
	a.climb()
	assert.Equal(t, "512", a.flags("Ada Quill"))
	asked, next := a.asked(adaMail)
	assert.Contains(t, asked.subject, "will be disabled")
	assert.NotEqual(t, id, next)
	a.days(9)
	a.climb()
	assert.Equal(t, "512", a.flags("Ada Quill"), "ten days are not over")
	a.days(1)
	a.climb()
	assert.Equal(t, "514", a.flags("Ada Quill"))
	told, _ := a.asked(adaMail)
	assert.Contains(t, told.subject, "was disabled")
	late := a.answers(reply(adaMail, next, "", "Keep it!"))
	assert.Empty(t, held(late))
	require.Len(t, late.Late, 1)
	said, _ := a.asked(adaMail)
	assert.Contains(t, said.subject, "Too late")
}

func TestAMailThatCameBackToldNobody(t *testing.T) {
	a := newAsking(t)
	_, id := a.asked(adaMail)
	bounce := func(id string) string {
		return "From: MAILER-DAEMON@larkmoor.example\nContent-Type: multipart/report; report-type=delivery-status; boundary=b\n\n--b\n" +
			"Content-Type: message/delivery-status\n\nAction: failed\n\n--b\nContent-Type: text/rfc822-headers\n\nMessage-ID: <" + id + ">\n--b--\n"
	}
	got := a.answers(bounce(id), bounce("keep-"+strings.Repeat("a", 32)+"@larkmoor.example"))
	require.Len(t, got.CameBack, 1)
	assert.Equal(t, adaMail, got.CameBack[0].Address)
	assert.Empty(t, held(got))
	a.days(20)
	a.climb()
	assert.Equal(t, "514", a.flags("Ada Quill"), "her manager was told")

	b := newAsking(t)
	_, id = b.asked(adaMail)
	_, of := b.asked(bram)
	b.answers(bounce(id), bounce(of))
	b.days(60)
	c := b.climb()
	assert.Equal(t, "512", b.flags("Ada Quill"))
	for _, st := range c.Standings {
		if st.Account == "ada" {
			require.NotEmpty(t, st.Holds)
			assert.Contains(t, st.Holds[0].Why, "came back")
		}
	}
}

func TestMailThatIsDownTellsNobody(t *testing.T) {
	a := &asking{yard: emptyYard(t, askingLadder), t: t, box: t.TempDir()}
	a.add(t, "CN=practice,"+base, "objectClass", "server", "dNSHostName", "practice.larkmoor.example")
	a.add(t, "CN=NTDS Settings,CN=practice,"+base, "objectClass", "nTDSDSA")
	a.person(t, "Ada Quill", 45)
	a.post.shut = errDown
	for range 6 {
		a.climb()
		a.days(10)
	}
	assert.Equal(t, "512", a.flags("Ada Quill"))
	a.post.shut = nil
	a.climb()
	mails := len(a.post.to(adaMail))
	assert.Equal(t, 1, mails, "it waited, once")
	a.days(9)
	a.climb()
	assert.Equal(t, "512", a.flags("Ada Quill"), "ten days count from when it was handed over")
	a.days(1)
	a.climb()
	assert.Equal(t, "514", a.flags("Ada Quill"))
}

func TestWorkbooksAskWhereThereIsNoMail(t *testing.T) {
	a := &asking{yard: emptyYard(t, askingLadder), t: t, box: t.TempDir()}
	a.Settings.Mail = settings.Mail{}
	a.add(t, "CN=practice,"+base, "objectClass", "server", "dNSHostName", "practice.larkmoor.example")
	a.add(t, "CN=NTDS Settings,CN=practice,"+base, "objectClass", "nTDSDSA")
	a.person(t, "Ada Quill", 45)
	a.person(t, "Cleo Birk", 45)
	for _, who := range []string{"Ada Quill", "Cleo Birk", "Bram Tern"} {
		a.dir.Edit("CN="+who+",OU=Staff,"+base, func(e *directory.Entry) { e.Set("mail") })
	}
	c := a.climb()
	assert.Contains(t, c.Untold+fmt.Sprint(c.Standings[0].Holds), "address")
	a.days(40)
	a.climb()
	assert.Equal(t, "512", a.flags("Ada Quill"), "nobody was told")

	ask := func() []*work.Asked {
		p, err := a.Open(t.Context(), work.From{})
		require.NoError(t, err)
		defer p.Close()
		asked, err := a.Questions(t.Context(), p, "unused", &work.Question{})
		require.NoError(t, err)
		return asked
	}
	asked := ask()
	require.Len(t, asked, 1)
	assert.Equal(t, "Bram Tern", asked[0].Manager)
	require.Len(t, asked[0].Sheet.Rows, 2)
	require.NoError(t, a.NoteAsked(t.Context(), asked))
	assert.Empty(t, ask(), "they were asked")

	row := func(r []any, answer string) string {
		return fmt.Sprintf("%s,%s,,,,%s,,%s\n", r[0], r[1], answer, r[7])
	}
	head := "account,name,why,what,day,answer,until,token\n"
	rows := asked[0].Sheet.Rows
	mixed := row([]any{rows[0][0], "", "", "", "", "", "", rows[1][7]}, "keep")
	got, err := a.TakeAnswers(t.Context(), []byte(head+row(rows[0], "keep")+row(rows[1], "perhaps")+mixed), "bram.csv", time.UTC)
	require.NoError(t, err)
	assert.Equal(t, []string{"ada"}, held(got))
	require.Len(t, got.Doubtful, 2)
	assert.Contains(t, got.Doubtful[0], `bram.csv, row 3 (cleo): "perhaps" is no answer`)
	assert.Contains(t, got.Doubtful[1], "the row was written for cleo")
	a.days(10)
	a.climb()
	assert.Equal(t, "512", a.flags("Ada Quill"), "she is held")
	assert.Equal(t, "514", a.flags("Cleo Birk"), "and she was asked for")
	_, err = a.TakeAnswers(t.Context(), []byte("a,b\n1,2\n"), "other.csv", time.UTC)
	require.Error(t, err)
	assert.Contains(t, err.Error(), "is no table")
}

func TestWordsOfTheSettingsAreInTheLanguageOfWhoeverReadsThem(t *testing.T) {
	l := &settings.Ladder{Name: "unused", Starts: settings.Start{}, Rungs: []settings.Rung{{Name: "disabled", Actions: settings.Words{"disable"}, Tell: &settings.Notice{
		Who: settings.Words{"person"}, Subject: "Soon: {{.What}}", Text: "{{range .Accounts}}{{.Account}} {{.Date}} {{.Token}}{{end}}",
		Languages: map[string]settings.Words{"de": {"Bald", "{{range .Accounts}}{{.Account}} am {{.Date}}: {{.Token}}{{end}}"}}}}}}
	write := func(tongue string) string {
		letter := ladder.Letter{Ladder: l, Rung: &l.Rungs[0], To: ladder.Recipient{Tongue: tongue}, Zone: time.UTC,
			Lines: []ladder.LetterLine{{Event: ladder.Event{Account: "ada\nkeep-x", Day: time.Date(2027, 1, 2, 0, 0, 0, 0, time.UTC)}, Token: "keep-1"}}}
		subject, text, own, err := letter.Write()
		require.NoError(t, err)
		assert.True(t, own)
		return subject + "|" + text
	}
	assert.Equal(t, "Soon: disabled|ada keep-x 2027-01-02 keep-1", write(""), "what stands in the directory stays on its line")
	assert.Equal(t, "Bald|ada keep-x am 2027-01-02: keep-1", write("de-AT"))
	assert.Equal(t, "Bald|ada keep-x am 2027-01-02: keep-1", write("fr;q=0.9, de"))
	assert.Equal(t, "Soon: disabled|ada keep-x 2027-01-02 keep-1", write("denmark"))
	for text, why := range map[string]string{"{{.Colour}} {{range .Accounts}}{{.Token}}{{end}}": "Colour", "Goodbye": "no {{.Token}}"} {
		l.Rungs[0].Tell.Text = text
		err := ladder.CheckWords(l, &l.Rungs[0])
		require.Error(t, err)
		assert.Contains(t, err.Error(), why)
	}
}

func TestAnAddressThatIsNoneKeepsNobodyElseFromBeingTold(t *testing.T) {
	a := &asking{yard: emptyYard(t, askingLadder), t: t, box: t.TempDir()}
	a.add(t, "CN=practice,"+base, "objectClass", "server", "dNSHostName", "practice.larkmoor.example")
	a.add(t, "CN=NTDS Settings,CN=practice,"+base, "objectClass", "nTDSDSA")
	a.person(t, "Ada Quill", 45)
	a.person(t, "Cleo Birk", 45)
	a.dir.Edit("CN=Ada Quill,OU=Staff,"+base, func(e *directory.Entry) { e.Set("mail", "ada@larkmoor.example\nBcc: eve@larkmoor.example") })
	a.climb()
	var to []string
	for _, m := range a.post.mails {
		to = append(to, m.to)
	}
	assert.ElementsMatch(t, []string{bram, "cleo@larkmoor.example"}, to)
}

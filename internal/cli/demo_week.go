package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"yardbroom/internal/demo"
	"yardbroom/internal/directory"
	"yardbroom/internal/practice"
	"yardbroom/internal/render"
	"yardbroom/internal/rounds"
	"yardbroom/internal/settings"
	"yardbroom/internal/work"
)

// week plays a week of the round "nightly" at a clock of its own, on a copy of the
// directory, and leaves the pages and the mails.
func (d *demonstration) week(ctx context.Context, number string, bold func(string) string) error {
	fmt.Fprintf(d.out, "%sAnd then it runs by itself. The settings describe a round: every day at 06:00 it keeps a survey,\n"+
		"looks for what is new, stages who has left, and tells whom it concerns. A week of it, at a clock of its own:\n\n", number)
	w, err := d.newWeek(ctx)
	if err != nil {
		return err
	}
	defer w.close()
	width := d.style(nil).Width
	for _, day := range weekdays {
		w.at = w.at.AddDate(0, 0, 1)
		w.work()
		if day.happens != nil {
			if err := day.happens(ctx, w); err != nil {
				return err
			}
		}
		run, err := w.runner.Run(ctx, "nightly", &rounds.Request{Planned: w.at})
		if err != nil {
			return err
		}
		mail := "no mail"
		if subject := run.Headline(); subject != "" {
			mail = "mail: " + subject
		}
		fmt.Fprintf(d.out, "  %-10s %s\n", w.at.Format("Mon 2 Jan"), day.says)
		const pad = "             "
		fmt.Fprintln(d.out, pad+render.Wrap(render.Visible(string(run.Outcome)+"; "+mail), width-len(pad), pad+"  "))
	}
	in := func(parts ...string) string { return filepath.Join(append([]string{d.dir, "week"}, parts...)...) }
	fmt.Fprintf(d.out, "\nThe pages for the intranet: %s\nThe mails, as files and as pages: %s\nWhat the last run did: %s\n", in("www", "index.html"),
		in("mail"), bold(fmt.Sprintf("yardbroom --state %s round show nightly", quoted([]string{in("state")}))))
	return nil
}

// weekDay is a day of the demo's week.
type weekDay struct {
	says    string
	happens func(ctx context.Context, w *demoWeek) error
}

var weekdays = []weekDay{
	{"The first run.", nil},
	{"Two lock themselves out.", func(_ context.Context, w *demoWeek) error {
		for _, account := range []string{"aquill", "ddrummond"} {
			w.sets(account, "lockoutTime", directory.FormatFileTime(w.at.Add(-5*time.Minute)))
		}
		return nil
	}},
	{"Nothing happens.", nil},
	{"Somebody lets a service account have no password.", func(_ context.Context, w *demoWeek) error {
		w.sets("svc-plate-scanner", "userAccountControl", "544")
		return nil
	}},
	{"Half of HR's list arrives.", func(_ context.Context, w *demoWeek) error { return w.roster(2) }},
	{"The list is whole again, and a person has released the round.", func(ctx context.Context, w *demoWeek) error {
		if err := w.roster(1); err != nil {
			return err
		}
		_, err := w.runner.Release(ctx, "nightly", "HR has sent the whole list")
		return err
	}},
	{"The server is down.", func(_ context.Context, w *demoWeek) error {
		w.server.Close()
		return nil
	}},
}

// demoWeek is the directory and the runner of the week.
type demoWeek struct {
	d      *demonstration
	part   string // its folder
	at     time.Time
	dir    *practice.Directory
	server *practice.Server
	runner *rounds.Runner
	people map[string]string // DN by logon name
}

func (d *demonstration) newWeek(ctx context.Context) (*demoWeek, error) {
	start := time.Date(d.asOf.Year(), d.asOf.Month(), d.asOf.Day(), 6, 0, 0, 0, time.UTC)
	for start = start.AddDate(0, 0, 1); start.Weekday() != time.Sunday; { // the first run is on the Monday after
		start = start.AddDate(0, 0, 1)
	}
	return d.newCopy(ctx, "week", start)
}

// newCopy serves a copy of the directory, for a part of the demo in a folder of its own
// with a clock of its own.
func (d *demonstration) newCopy(ctx context.Context, part string, start time.Time) (*demoWeek, error) {
	w := &demoWeek{d: d, part: part, at: start, people: map[string]string{}}
	now := func() time.Time { return w.at }
	file, err := os.Open(filepath.Join(d.dir, "larkmoor.ldif"))
	if err != nil {
		return nil, err
	}
	defer file.Close()
	w.dir = practice.New(demo.Base, demo.SID, now)
	if err := w.dir.Load(file); err != nil {
		return nil, err
	}
	for _, e := range w.dir.Dump() {
		w.people[e.First("sAMAccountName")] = e.DN
	}
	w.server = &practice.Server{Dir: w.dir, Account: demo.Account, Password: demoPassword, Host: "dc1.larkmoor.example"}
	address, err := w.server.Listen(ctx, "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	set, err := settings.Load(filepath.Join(d.dir, "settings.yaml"))
	if err != nil {
		return nil, err
	}
	folder := filepath.Join(d.dir, part)
	for _, name := range []string{"", "mail"} {
		if err := os.MkdirAll(filepath.Join(folder, name), 0o700); err != nil {
			return nil, err
		}
	}
	yard := set.Yards["observatory"]
	yard.Servers = []string{address}
	set.Yards["observatory"] = yard
	round := set.Rounds["nightly"]
	round.Folder.Path, round.Metrics = filepath.Join(folder, "www"), filepath.Join(folder, "metrics.txt")
	round.Roster.From = filepath.Join(folder, "roster.csv")
	set.Rounds["nightly"] = round
	session, err := work.New(set)
	if err != nil {
		return nil, err
	}
	session.State, session.By, session.Now = filepath.Join(folder, "state"), actor(), now
	w.runner = &rounds.Runner{Session: session, Host: "larkmoor.example", Send: rounds.Into(filepath.Join(folder, "mail"))}
	return w, w.roster(1)
}

func (w *demoWeek) close() {
	w.server.Close()
	_ = w.runner.Close() // it is thrown away
}

// work lets a day pass: who has worked lately works, and signs in.
func (w *demoWeek) work() {
	lately := w.d.asOf.AddDate(0, 0, -20)
	for _, dn := range w.people {
		w.dir.Edit(dn, func(e *directory.Entry) {
			for _, attr := range []string{"lastLogon", "lastLogonTimestamp"} {
				if at, err := directory.ParseFileTime(e.First(attr)); err == nil && at.After(lately) {
					e.Set(attr, directory.FormatFileTime(w.at.Add(-12*time.Hour)))
				}
			}
		})
	}
}

// sets changes an account.
func (w *demoWeek) sets(account, attr, value string) {
	w.dir.Edit(w.people[account], func(e *directory.Entry) { e.Set(attr, value) })
}

// roster writes HR's list, or the first part of it.
func (w *demoWeek) roster(parts int) error {
	text, err := os.ReadFile(filepath.Join(w.d.dir, "roster.csv"))
	if err != nil {
		return err
	}
	lines := strings.SplitAfter(string(text), "\n")
	return os.WriteFile(filepath.Join(w.d.dir, w.part, "roster.csv"), []byte(strings.Join(lines[:len(lines)/parts], "")), 0o600)
}

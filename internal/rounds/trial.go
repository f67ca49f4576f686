package rounds

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"yardbroom/internal/mail"
	"yardbroom/internal/settings"
	"yardbroom/internal/source"
	"yardbroom/internal/trust"
	"yardbroom/internal/wording"
	"yardbroom/internal/work"
)

// Trial is one thing that was looked at before a round runs.
type Trial struct {
	What string
	OK   bool
	Text string
}

// trials gathers them.
type trials struct{ all []Trial }

func (t *trials) add(what string, err error, format string, args ...any) {
	if err != nil {
		t.all = append(t.all, Trial{what, false, fault(err)})
		return
	}
	t.all = append(t.all, Trial{what, true, fmt.Sprintf(format, args...)})
}

// Test tries everything that a round needs, and writes nothing but files that it
// removes again: servers, sign-in and rights, the roster, the mail server, folders,
// files of passwords, free space. Nobody gets a message.
func (r *Runner) Test(ctx context.Context, name string) ([]Trial, error) {
	round, err := r.Named(name)
	if err != nil {
		return nil, err
	}
	t := &trials{}
	t.schedule(r, round)
	for _, yard := range round.YardNames(r.Settings) {
		t.yard(ctx, r, round, name, yard)
	}
	t.mail(ctx, r, round)
	if slices.ContainsFunc(round.Steps, func(s settings.Step) bool { return s.Answers != nil }) {
		t.add("Answers", mail.IMAP{Set: &r.Settings.Answers}.Try(ctx), "%s lets %s in", r.Settings.Answers.Server, r.Settings.Answers.Name)
	}
	for i := range round.Post {
		t.post(ctx, &round.Post[i])
	}
	if round.Folder != nil {
		t.add("Folder", checkFolder(name, round.Folder), "%s may be written", round.Folder.Path)
	}
	if round.Metrics != "" {
		t.add("Metrics", mayWriteIn(filepath.Dir(round.Metrics)), "%s may be written", round.Metrics)
	}
	t.space("State", r.State)
	if round.Folder != nil {
		t.space("Folder", round.Folder.Path)
	}
	return t.all, nil
}

// schedule says when the round runs.
func (t *trials) schedule(r *Runner, round *settings.Round) {
	when, timed, err := round.Schedule(r.Settings)
	switch {
	case err == nil && !timed:
		t.add("Schedule", nil, "none: it runs only when it is told to")
	default:
		at := when.Next(r.Now())
		t.add("Schedule", err, "next at %s", wording.Moment(at, at.Location()))
	}
}

// yard tries one yard: sign-in, rights, what the steps name.
func (t *trials) yard(ctx context.Context, r *Runner, round *settings.Round, name, yard string) {
	s := r.Fresh()
	defer s.Close()
	s.Ask = nil // nobody is there at night
	place, err := s.Open(ctx, work.From{Where: yard})
	if err != nil {
		t.add("Yard "+yard, err, "")
		return
	}
	defer place.Close()
	if server, ok := place.Server(); ok {
		t.server(ctx, server, r, round, yard)
	}
	y := &yardRun{running: &running{by: r, Session: s, round: round, name: name, run: &Run{Began: s.Now()}, req: &Request{}},
		YardRun: &YardRun{Yard: yard}, place: place}
	if round.Roster.From != "" {
		from := y.rosterFrom()
		list, err := s.ReadRoster(ctx, place, &from)
		if err == nil {
			t.add("Roster", nil, "%s: %s", list.About.Source, wording.Count(list.About.Rows, "row"))
		} else {
			t.add("Roster", err, "")
		}
	}
	if round.Activity != "" {
		_, err := os.Stat(round.Activity)
		t.add("Sign-ins", err, "%s", round.Activity)
	}
}

// server tries what a server lets the round do.
func (t *trials) server(ctx context.Context, server *source.Server, r *Runner, round *settings.Round, yard string) {
	probe, err := server.Probe(ctx)
	if err != nil {
		t.add("Yard "+yard, err, "")
		return
	}
	t.add("Yard "+yard, nil, "%s, %s, bound as %s", server.HostName(), probe.Encryption, server.Bound)
	for _, right := range probe.Rights {
		t.all = append(t.all, Trial{right.What, right.OK, right.Text})
	}
	t.all = append(t.all, Trial{"Clock", probe.ClockOK(), probe.ClockText()})
	if round.Apply {
		no, err := server.TakesWrites(ctx)
		if no != "" {
			err = errors.New(no)
		}
		t.add("Writes", err, "the server takes writes")
	}
	for _, step := range round.Steps {
		if step.List == nil {
			continue
		}
		var unknown []string
		for _, attr := range query(step.List).Attributes() {
			lacks, err := server.Lacks(ctx, attr)
			if err != nil {
				t.add("List "+step.List.Title, err, "")
				return
			}
			if lacks {
				unknown = append(unknown, attr)
			}
		}
		if len(unknown) > 0 {
			t.add("List "+step.List.Title, fmt.Errorf("the directory knows no attribute %s", strings.Join(unknown, ", ")), "")
		}
	}
	t.places(ctx, server, r, round, yard)
}

// places tries whether the places are there that the round names.
func (t *trials) places(ctx context.Context, server *source.Server, r *Runner, round *settings.Round, yard string) {
	var dns []string
	for i := range round.Tell {
		dns = append(dns, round.Tell[i].Under...)
	}
	for _, s := range round.Steps {
		switch {
		case s.List != nil:
			dns = append(dns, s.List.Filter.Under)
		case s.Stage != nil:
			if dns = append(dns, s.Stage.To); s.Stage.Of != nil {
				dns = append(dns, s.Stage.Of.Under)
			}
		case s.Climb != nil:
			for _, l := range climbedBy(r.Settings, s.Climb, yard) {
				if dns = append(dns, l.LeaveOut...); l.Of != nil {
					dns = append(dns, l.Of.Under)
				}
				for i := range l.Rungs {
					dns = append(dns, l.Rungs[i].To)
				}
			}
		}
	}
	slices.Sort(dns)
	for _, dn := range slices.Compact(dns) {
		if dn == "" {
			continue
		}
		found, err := server.Get(ctx, []string{dn})
		if err == nil && len(found) == 0 {
			err = errors.New("there is no such entry, or this account does not see it")
		}
		if err != nil {
			t.add("Place "+dn, err, "")
		}
	}
}

// climbedBy are the ladders of a yard that a step climbs.
func climbedBy(s *settings.Settings, step *settings.ClimbStep, yard string) []*settings.Ladder {
	return slices.DeleteFunc(s.LaddersOf(yard), func(l *settings.Ladder) bool {
		return len(step.Ladders) > 0 && !slices.Contains(step.Ladders, l.Name)
	})
}

// writes tells whether a step of a round mails people by itself.
func writes(s *settings.Settings, round *settings.Round) bool {
	for _, step := range round.Steps {
		for _, yard := range round.YardNames(s) {
			if step.Climb != nil && slices.ContainsFunc(climbedBy(s, step.Climb, yard), func(l *settings.Ladder) bool {
				return slices.ContainsFunc(l.Rungs, func(r settings.Rung) bool { return r.Tell != nil })
			}) {
				return true
			}
		}
	}
	return false
}

// mail tries the mail server, and says who would get what.
func (t *trials) mail(ctx context.Context, r *Runner, round *settings.Round) {
	if len(round.Tell) == 0 && (!writes(r.Settings, round) || r.Settings.Mail.Server == "") {
		return
	}
	conn, err := r.sender().Mail(ctx, &r.Settings.Mail)
	if err == nil {
		err = conn.Close()
	}
	t.add("Mail server", err, "%s takes mail from %s", r.Settings.Mail.Server, r.Settings.Mail.From)
	for i := range round.Tell {
		tell := &round.Tell[i]
		who := strings.Join(tell.To, ", ")
		if tell.Each != "" {
			who = strings.TrimSuffix(fmt.Sprintf("each %s; the rest: %s", tell.Each, who), "; the rest: ")
		}
		t.add("Mail to", nil, "%s: %s", who, tellInWords(tell))
	}
}

// tellInWords says what somebody gets, and when.
func tellInWords(t *settings.Tell) string {
	out := map[settings.When]string{settings.Always: "after each run", settings.OnFailure: "when a run fails or is stopped"}[t.When]
	if out == "" {
		out = "when something is new, waits or went wrong"
	}
	if t.Severity != "" {
		out += ", " + t.Severity + " and above"
	}
	if len(t.Checks) > 0 {
		out += ", of " + strings.Join(t.Checks, ", ")
	}
	if len(t.Under) > 0 {
		out += ", under " + strings.Join(t.Under, " or ")
	}
	if len(t.Attach) > 0 {
		out += ", with " + strings.Join(t.Attach, ", ")
	}
	return out
}

// post tries the files of an address. The address itself is not asked: whoever is
// behind it would take that for a result.
func (t *trials) post(ctx context.Context, p *settings.Post) {
	for _, path := range []string{p.TokenFile, p.SecretFile} {
		if path != "" {
			if _, err := (trust.Kept{File: path}).Read(ctx); err != nil {
				t.add("Post", err, "")
				return
			}
		}
	}
	_, err := httpClient(p.CAFile)
	t.add("Post", err, "%s, not tried", p.URL)
}

// mayWriteIn tells whether a file may be made in a folder.
func mayWriteIn(folder string) error {
	f, err := os.CreateTemp(folder, ".yardbroom-test-*")
	if err != nil {
		return err
	}
	return errors.Join(f.Close(), os.Remove(f.Name()))
}

// LeastSpace is how much room there should be, in octets.
const LeastSpace = 1 << 30

// space tells how much room there is.
func (t *trials) space(what, folder string) {
	free, err := FreeSpace(folder)
	if err == nil && free < LeastSpace {
		err = fmt.Errorf("%s: %d MB are free, less than %d", folder, free>>20, LeastSpace>>20)
	}
	if errors.Is(err, errors.ErrUnsupported) {
		return
	}
	t.add(what, err, "%s: %d MB are free", folder, free>>20)
}

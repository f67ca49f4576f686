// Package doctor looks over a whole installation: settings, state folder, secrets,
// servers, the accounts that are bound, rounds, exemptions and links. It changes
// nothing.
package doctor

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	"yardbroom/internal/directory"
	"yardbroom/internal/logs"
	"yardbroom/internal/rounds"
	"yardbroom/internal/source"
	"yardbroom/internal/trust"
	"yardbroom/internal/wording"
	"yardbroom/internal/work"
)

// Sign is one thing that was looked at. It is a contract: fields may be added.
type Sign struct {
	Area string `json:"area"`
	OK   bool   `json:"ok"`
	Text string `json:"text"`
	Do   string `json:"do,omitempty"` // what to do, where it is not in order
}

// Shape is what a doctor says, for programs. It is a contract: fields may be added.
type Shape struct {
	Schema string `json:"schema"` // yardbroom/doctor/1
	Signs  []Sign `json:"signs"`
}

// ShapeOf makes the shape.
func ShapeOf(signs []Sign) Shape { return Shape{"yardbroom/doctor/1", append([]Sign{}, signs...)} }

// Request says how thoroughly to look.
type Request struct {
	// Quick asks no server.
	Quick bool
	// Late is how long after its time a round may begin.
	Late time.Duration
}

// Soon is how long before its end a certificate or a password is spoken of.
const soon = 30 * 24 * time.Hour

// look is one look over an installation.
type look struct {
	*rounds.Runner
	signs []Sign
}

// Look looks over everything.
func Look(ctx context.Context, r *rounds.Runner, req *Request) ([]Sign, error) {
	l := &look{Runner: r}
	l.settings()
	if err := l.state(ctx); err != nil {
		return nil, err
	}
	l.secrets()
	l.logs()
	if !req.Quick {
		if err := l.yards(ctx); err != nil {
			return nil, err
		}
	}
	if err := l.exemptions(ctx); err != nil {
		return nil, err
	}
	if err := l.due(ctx); err != nil {
		return nil, err
	}
	return l.signs, l.rounds(ctx, req.Late)
}

func (l *look) fine(area, format string, args ...any) {
	l.signs = append(l.signs, Sign{Area: area, OK: true, Text: fmt.Sprintf(format, args...)})
}

func (l *look) wrong(area, do, format string, args ...any) {
	l.signs = append(l.signs, Sign{Area: area, Text: fmt.Sprintf(format, args...), Do: do})
}

// settings looks at who may change the settings.
func (l *look) settings() {
	file := l.Settings.File
	if file == "" {
		l.wrong("Settings", "write a settings file; the README has a small one", "there is none, so no yard is known by name")
		return
	}
	info, err := os.Stat(file)
	switch {
	case err != nil:
		l.wrong("Settings", "make the file readable", "%v", err)
	case runtime.GOOS != "windows" && info.Mode().Perm()&0o022 != 0:
		l.wrong("Settings", "chmod go-w "+file, "others may change %s (mode %04o), and so whom it protects", file, info.Mode().Perm())
	default:
		l.fine("Settings", "%s, %s", file, wording.Count(len(l.Settings.Yards), "yard"))
	}
	if err := trust.Folder(filepath.Dir(file)); err != nil {
		l.wrong("Settings", "let nobody else write in that folder", "%v", err)
	}
}

// state looks at the state folder: who may write in it, whether the journal is whole,
// and how much room there is.
func (l *look) state(ctx context.Context) error {
	if _, err := os.Stat(l.State); errors.Is(err, fs.ErrNotExist) {
		l.fine("State", "%s is made when something is first kept", l.State)
		return nil
	}
	if err := trust.Folder(l.State); err != nil {
		l.wrong("State", "let nobody else write in that folder", "%v", err)
		return nil
	}
	kept, err := l.Store(ctx)
	if err != nil {
		l.wrong("State", "restore the state folder from a copy", "%v", err)
		return nil
	}
	proof, err := kept.Verify(ctx, "")
	switch {
	case err == nil:
		l.fine("Journal", "whole: %s", wording.Count(proof.Records, "record"))
	case kept.Whole(ctx) == nil:
		l.fine("Journal", "whole but for what somebody has accepted: %v", err)
	default:
		l.wrong("Journal", "find out who did it, and restore the state folder from a copy", "%v", err)
	}
	free, err := rounds.FreeSpace(l.State)
	switch {
	case errors.Is(err, errors.ErrUnsupported):
	case err != nil:
		return err
	case free < rounds.LeastSpace:
		l.wrong("Space", "make room, or keep less (yardbroom survey --prune)", "%d MB are free for %s", free>>20, l.State)
	default:
		l.fine("Space", "%d MB are free for %s", free>>20, l.State)
	}
	old, err := l.Prunable(ctx)
	if err == nil && !old.Nothing() {
		l.wrong("Kept", "yardbroom survey --prune", "the settings keep no longer: %s", old)
	}
	return err
}

// silent is for how long a log of sign-ins may not have been written to.
const silent = 48 * time.Hour

// logs looks at the logs of sign-ins: whether they are there, may be read, and are still
// written.
func (l *look) logs() {
	for _, name := range slices.Sorted(maps.Keys(l.Settings.Yards)) {
		for _, one := range l.Settings.Yards[name].Logs {
			area := "Logs of " + name
			path, written, err := (&logs.Log{Path: one.Path}).Newest()
			switch {
			case err != nil:
				l.wrong(area, "see that the log is brought here, and that this account may read it", "%s: %v", one.Path, err)
			case l.Now().Sub(written) > silent:
				l.wrong(area, "see that the log is still brought here", "%s was last written to on %s", path, written.UTC().Format(time.DateOnly))
			default:
				l.fine(area, "%s is written", path)
			}
		}
	}
}

// secrets looks at the files of passwords, tokens and keys.
func (l *look) secrets() {
	files := map[string]string{"mail": l.Settings.Mail.PasswordFile, "signing: key": l.Settings.Signing.Key}
	for name, y := range l.Settings.Yards {
		files["yards: "+name] = y.Bind.PasswordFile
	}
	for name, r := range l.Settings.Rounds {
		files["rounds: "+name+": roster"] = r.Roster.TokenFile
		for i, p := range r.Post {
			files[fmt.Sprintf("rounds: %s: post: %d", name, i+1)] = p.TokenFile + p.SecretFile
		}
	}
	good := 0
	for _, where := range slices.Sorted(maps.Keys(files)) {
		if files[where] == "" {
			continue
		}
		if _, err := trust.ReadSecret(files[where]); err != nil {
			l.wrong("Secrets", "chmod 600, and let it be yours", "%s: %v", where, err)
			continue
		}
		good++
	}
	if good > 0 {
		l.fine("Secrets", "%s nobody else may read", wording.Count(good, "file"))
	}
}

// yards looks at each server of each yard, and at what the settings name there.
func (l *look) yards(ctx context.Context) error {
	wanted := map[string]*wantedName{}
	if err := l.links(ctx, wanted); err != nil {
		return err
	}
	if err := l.exempted(ctx, wanted); err != nil {
		return err
	}
	all := true // yards were asked
	for _, name := range slices.Sorted(maps.Keys(l.Settings.Yards)) {
		place := l.servers(ctx, name)
		if place == nil {
			all = false
			continue
		}
		err := l.place(ctx, name, place, wanted)
		place.Close()
		if err != nil {
			return err
		}
	}
	for _, key := range slices.Sorted(maps.Keys(wanted)) {
		if w := wanted[key]; all && !w.found {
			l.wrong(w.area, w.do, "%s", w.text)
		}
	}
	return nil
}

// servers looks at each server of a yard, and returns the yard by the first one that
// answers; nil where none does.
func (l *look) servers(ctx context.Context, name string) (place *work.Place) {
	for _, url := range l.Settings.Yards[name].Servers {
		s := l.Fresh()
		s.Ask = nil
		p, err := s.OpenOne(ctx, work.From{Where: name}, url)
		if err != nil {
			l.unreadable(name, url, err)
			continue
		}
		server, ok := p.Server()
		if !ok {
			p.Close()
			continue
		}
		if l.server(ctx, name, server); place == nil {
			place = p
			continue
		}
		p.Close()
	}
	return place
}

// unreadable says why a server of a yard cannot be read. Most such errors begin with its URL.
func (l *look) unreadable(yard, url string, err error) {
	l.wrong("Yard "+yard, "yardbroom yard test "+yard, "%s: %s", url, strings.TrimPrefix(err.Error(), url+": "))
}

// server looks at one server of a yard.
func (l *look) server(ctx context.Context, yard string, server *source.Server) {
	area := "Yard " + yard
	probe, err := server.Probe(ctx)
	if err != nil {
		l.unreadable(yard, server.URL, err)
		return
	}
	l.fine(area, "%s answers, %s, bound as %s", server.URL, probe.Encryption, server.Bound)
	if !probe.Encrypted && !probe.Loopback {
		l.wrong(area, "use ldaps://, or start_tls: true", "%s: the connection is not encrypted", server.URL)
	}
	if !probe.ClockOK() {
		l.wrong(area, "set the clocks", "%s: %s", server.URL, probe.ClockText())
	}
	for _, r := range probe.Rights {
		if !r.OK {
			l.wrong(area, "give the account that is bound the right to read it", "%s: %s: %s", server.URL, r.What, r.Text)
		}
	}
	if ends := server.CertificateEnds(); !ends.IsZero() && ends.Sub(l.Now()) < soon {
		l.wrong(area, "renew it", "%s: a certificate ends at %s", server.URL, wording.Moment(ends, time.Local))
	}
}

// place looks at what the settings name in a yard, and at the account that is bound.
func (l *look) place(ctx context.Context, name string, p *work.Place, wanted map[string]*wantedName) error {
	area := "Yard " + name
	missing, err := l.Missing(ctx, p, nil)
	if err != nil {
		return err
	}
	for _, n := range missing {
		l.wrong(area, "correct the name, or take it out", "%s, which is not there, or not shown", n)
	}
	if err := l.bound(ctx, area, p); err != nil {
		return err
	}
	for _, w := range wanted {
		if w.found {
			continue
		}
		if w.found, err = w.find(ctx, p); err != nil {
			return err
		}
	}
	return nil
}

// bound looks at when the password of the account that is bound expires.
func (l *look) bound(ctx context.Context, area string, p *work.Place) error {
	server, _ := p.Server()
	name := server.Bound
	if cut, _, ok := strings.Cut(name, "@"); ok && !directory.IsDN(name) {
		if _, err := l.FindAccount(ctx, p, name); err != nil {
			name = cut
		}
	}
	if name == "" || strings.Contains(name, " user of this process") {
		return nil
	}
	card, err := l.Show(ctx, p, name, &work.Question{})
	if errors.Is(err, work.ErrNoAccount) {
		return nil // an administrator of the server itself, who is no entry
	}
	if err != nil {
		l.wrong(area, "yardbroom yard test", "the account that is bound (%s) cannot be looked at: %v", server.Bound, err)
		return nil
	}
	for _, one := range []struct {
		what string
		at   directory.Moment
	}{{"the password of", card.Survey.PasswordExpires(card.Account)}, {"", card.Account.Expires}} {
		if one.at.Known() && one.at.Time().Sub(l.Now()) < soon {
			l.wrong(area, "change it before that, there and where yardbroom reads it", "%s", strings.TrimSpace(fmt.Sprintf(
				"%s %s, which is bound, expires at %s", one.what, server.Bound, wording.Moment(one.at.Time(), p.Zone()))))
		}
	}
	return nil
}

// wantedName is an account that something names, which some yard should have.
type wantedName struct {
	area, text, do string
	find           func(context.Context, *work.Place) (bool, error)
	found          bool
}

// links are the accounts that decisions name.
func (l *look) links(ctx context.Context, wanted map[string]*wantedName) error {
	all, err := l.Links(ctx)
	for i := range all {
		link := &all[i]
		wanted["link "+link.Dialect+link.AccountID] = &wantedName{area: "Links", do: fmt.Sprintf("yardbroom link end %d", link.Number),
			text: fmt.Sprintf("link %d is about the account %s, which is in no yard", link.Number, link.Account),
			find: func(ctx context.Context, p *work.Place) (bool, error) {
				server, _ := p.Server()
				if server.Dialect.Name != link.Dialect {
					return false, nil
				}
				id, err := source.ReadIdentity(server.Dialect, link.AccountID)
				if err != nil {
					return false, err
				}
				found, err := server.Find(ctx, source.IdentityFilter(server.Dialect, id))
				return len(found) > 0, err
			}}
	}
	return err
}

// exempted are the accounts that exemptions name.
func (l *look) exempted(ctx context.Context, wanted map[string]*wantedName) error {
	all, err := l.Exemptions(ctx)
	for i := range all {
		e := &all[i]
		if e.Match.Account == "" {
			continue
		}
		do := "take it out of the settings"
		if e.Number > 0 {
			do = fmt.Sprintf("yardbroom exempt end %d", e.Number)
		}
		wanted["exemption "+e.Match.Account] = &wantedName{area: "Exemptions", do: do,
			text: fmt.Sprintf("an exemption (%s) is for the account %s, which is in no yard", e.Reason, e.Match.Account),
			find: func(ctx context.Context, p *work.Place) (bool, error) {
				_, err := l.FindAccount(ctx, p, e.Match.Account)
				if errors.Is(err, work.ErrNoAccount) {
					return false, nil
				}
				return true, nil // or more than one
			}}
	}
	return err
}

// exemptions looks at those that have ended, and those that end soon.
func (l *look) exemptions(ctx context.Context) error {
	all, err := l.Exemptions(ctx)
	good := 0
	for i := range all {
		e := &all[i]
		switch {
		case e.Ended(l.Now()):
			l.wrong("Exemptions", "prolong it, or take it out", "the exemption of %s (%s) ended on %s; ask %s", e.Match, e.Reason, e.Until, e.Owner)
		case e.Ended(l.Now().Add(soon)):
			l.wrong("Exemptions", "prolong it, or let it end", "the exemption of %s (%s) ends on %s; ask %s", e.Match, e.Reason, e.Until, e.Owner)
		default:
			good++
		}
	}
	if good > 0 {
		l.fine("Exemptions", "%d in force", good)
	}
	return err
}

// due looks at batches whose time is over and that nobody has taken back.
func (l *look) due(ctx context.Context) error {
	all, err := l.Due(ctx)
	for _, d := range all {
		if d.Batch.Until.Before(l.Now()) {
			l.wrong("Due", "yardbroom due --apply", "batch %d was until %s, and %s not taken back", d.Batch.ID, wording.Moment(d.Batch.Until, time.Local),
				wording.Count(d.Left, "line"))
		}
	}
	return err
}

// rounds looks at how the rounds stand.
func (l *look) rounds(ctx context.Context, late time.Duration) error {
	all, err := l.Statuses(ctx, late)
	for _, s := range all {
		area := "Round " + s.Name
		trouble := s.Trouble()
		for _, text := range trouble {
			do := "yardbroom round show " + s.Name
			if s.Held != nil && s.Held.Released == nil {
				do = fmt.Sprintf("yardbroom round show %s, then yardbroom round release %s --why …", s.Name, s.Name)
			}
			l.wrong(area, do, "%s", text)
		}
		if len(trouble) == 0 {
			l.fine(area, "%s, next at %s", s.Outcome(), s.NextTime())
		}
	}
	return err
}

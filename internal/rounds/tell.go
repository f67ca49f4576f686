package rounds

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"yardbroom/internal/audit"
	"yardbroom/internal/directory"
	"yardbroom/internal/mail"
	"yardbroom/internal/render"
	"yardbroom/internal/settings"
	"yardbroom/internal/store"
	"yardbroom/internal/whole"
	"yardbroom/internal/wording"
)

// tell makes the messages of a run. What cannot be made is a fault of the run.
func (w *running) tell() {
	for i := range w.round.Tell {
		if err := w.tellOne(i, &w.round.Tell[i]); err != nil {
			w.fail(fmt.Errorf("a mail could not be made: %w", err))
		}
	}
	for i := range w.round.Post {
		p := &w.round.Post[i]
		if !w.wanted(p.When, settings.Always, w.run.New().All()) {
			continue
		}
		if err := w.post(p); err != nil {
			w.fail(fmt.Errorf("a post could not be made: %w", err))
		}
	}
}

// fail adds what went wrong to the run.
func (w *running) fail(err error) {
	if w.run.Error != "" {
		w.run.Error += "; "
	}
	w.run.Error += fault(err)
	w.log("%s", fault(err))
	if w.run.Outcome == Done {
		w.run.Outcome = Failed
	}
}

// wanted tells whether something is to be told, by when somebody wants to be.
func (w *running) wanted(when, otherwise settings.When, fresh int) bool {
	if when == "" {
		when = otherwise
	}
	alarm := len(w.run.Stops) > 0 || len(w.run.Faults()) > 0 || w.isHeld() || len(w.untold()) > 0
	switch when {
	case settings.Always:
		return true
	case settings.OnFailure:
		return alarm
	}
	return alarm || fresh > 0 || w.stagedSome()
}

// isHeld tells whether the round is held by the brake of an earlier run.
func (w *running) isHeld() bool { return w.held != nil && w.held.Released == nil }

// stagedSome tells whether the run has staged something, or carried it out.
func (w *running) stagedSome() bool {
	return slices.ContainsFunc(w.run.Yards, func(y *YardRun) bool {
		return slices.ContainsFunc(y.Steps, func(s *StepRun) bool { return s.Step != "waiting" && len(s.Batches) > 0 })
	})
}

// tellOne makes the mails of one part of tell.
func (w *running) tellOne(at int, t *settings.Tell) error {
	if t.Each == "" {
		return w.tellThem(fmt.Sprint(at), t, t.To, func(_ *report, f *audit.Finding) bool { return matches(t, f) })
	}
	// Each gets their own, and whoever is named the rest.
	theirs := map[string]map[string]bool{} // address → folded DNs
	for _, r := range w.reports {
		for dn, addresses := range r.concerned[t.Each] {
			for _, address := range addresses {
				if theirs[address] == nil {
					theirs[address] = map[string]bool{}
				}
				theirs[address][dn] = true
			}
		}
	}
	for _, address := range slices.Sorted(maps.Keys(theirs)) {
		own := func(_ *report, f *audit.Finding) bool {
			return f.AboutEntry() && matches(t, f) && theirs[address][directory.FoldDN(f.DN)]
		}
		if fresh := w.pick(own); count(fresh) > 0 {
			if err := w.mailTo(fmt.Sprintf("%d.%s", at, shortOf(address)), t, []string{address}, own, personal); err != nil {
				return err
			}
		}
	}
	if len(t.To) == 0 {
		return nil
	}
	return w.tellThem(fmt.Sprintf("%d.rest", at), t, t.To, func(r *report, f *audit.Finding) bool {
		return matches(t, f) && (!f.AboutEntry() || len(r.concerned[t.Each][directory.FoldDN(f.DN)]) == 0)
	})
}

// shortOf stands for an address in the names of mails and files.
func shortOf(address string) string {
	sum := sha256.Sum256([]byte(address))
	return hex.EncodeToString(sum[:6])
}

// tellThem makes one mail for several people, if they want it.
func (w *running) tellThem(id string, t *settings.Tell, to []string, chosen func(*report, *audit.Finding) bool) error {
	if !w.wanted(t.When, settings.OnNew, count(w.pick(chosen))) {
		return nil
	}
	what := ofTheRound
	if len(t.Checks) > 0 || len(t.Under) > 0 || t.Each != "" {
		what = inPart
	}
	return w.mailTo(id, t, to, chosen, what)
}

// pick are the reports with the findings that are chosen.
func (w *running) pick(chosen func(*report, *audit.Finding) bool) (all []*report) {
	for _, r := range w.reports {
		all = append(all, r.only(chosen))
	}
	return all
}

// count is how many findings are new.
func count(reports []*report) (n int) {
	for _, r := range reports {
		if r.fresh != nil {
			n += len(r.fresh.Findings)
		}
	}
	return n
}

// about is what a mail is about.
type about int

const (
	ofTheRound about = iota // everything that happened
	inPart                  // some checks or places: what went wrong too, but not which batches wait
	personal                // findings that concern one person, and nothing else
)

// mailTo makes a mail.
func (w *running) mailTo(id string, t *settings.Tell, to []string, chosen func(*report, *audit.Finding) bool, what about) error {
	reports := w.pick(chosen)
	d := w.digest(reports, what)
	attached, links, err := w.attach(id, t, reports)
	if err != nil {
		return err
	}
	d.Reports = append(d.Reports, links...)
	if t.Everything() {
		d.Reports = append(d.Reports, w.links...)
	}
	m := &mail.Message{From: w.Settings.Mail.From, To: to, Subject: w.subject(reports, what), Date: w.run.Ended,
		ID:     fmt.Sprintf("%s.%d.%s@%s", w.name, w.run.ID, id, w.host()),
		Thread: fmt.Sprintf("round.%s.%s@%s", w.name, id, w.host()), Attached: attached}
	var text, page bytes.Buffer
	if err := d.Text(&text); err != nil {
		return err
	}
	if err := d.HTML(&page); err != nil {
		return err
	}
	m.Text, m.HTML = text.String(), page.String()
	body, err := mail.Compose(m)
	if err != nil {
		return err
	}
	return w.message(kindMail, messageHead{Subject: m.Subject, ID: m.ID}, body, to)
}

// message puts a message among those that the run has to hand over.
func (w *running) message(kind string, head messageHead, body []byte, to []string) error {
	text, err := json.Marshal(head)
	if err != nil {
		return err
	}
	m := &store.Message{Round: w.name, Run: w.run.ID, Kind: kind, Made: w.run.Ended, Head: text, Body: body}
	for _, address := range to {
		m.To = append(m.To, store.Delivery{Address: address})
		w.run.Told = append(w.run.Told, Recipient{Address: address, How: kind, Subject: head.Subject})
	}
	w.messages = append(w.messages, m)
	return nil
}

func (w *running) host() string {
	if w.by.Host != "" {
		return w.by.Host
	}
	return "localhost"
}

// attach are the reports of a mail, or where they lie if they are too large.
func (w *running) attach(id string, t *settings.Tell, reports []*report) (all []mail.Attachment, links []render.Link, err error) {
	reports = slices.DeleteFunc(slices.Clone(reports), func(r *report) bool {
		if r.list != nil {
			return !t.Everything() && !slices.Contains(t.Lists, r.list.Sheet.Title)
		}
		return len(r.shown.Findings) == 0
	})
	made, err := files(reports, t.Attach, w.run.Ended)
	if err != nil {
		return nil, nil, err
	}
	octets := 0
	for _, f := range made {
		octets += len(f.data)
		all = append(all, mail.Attachment{Name: f.name, Data: f.data})
	}
	most := w.Settings.Mail.AttachUpTo
	if most == 0 {
		most = 5000
	}
	if octets <= most*1000 {
		return all, nil, nil
	}
	folder := filepath.Join(w.folder(), "mail-"+slug(id))
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, nil, err
	}
	for _, f := range made {
		path := filepath.Join(folder, f.name)
		if err := whole.Write(path, f.write); err != nil {
			return nil, nil, err
		}
		w.run.Written = append(w.run.Written, path)
		links = append(links, render.Link{Text: fmt.Sprintf("%s (%d KB, too large to attach)", f.name, len(f.data)/1000), Address: path})
	}
	return nil, links, nil
}

// digest is what a mail says.
func (w *running) digest(reports []*report, what about) *render.Digest {
	d := &render.Digest{
		Title:    fmt.Sprintf("%s: %s", strings.Join(w.round.YardNames(w.Settings), ", "), w.name),
		Subtitle: "as of " + wording.Moment(w.asOf(), w.zone()),
		First:    w.first,
		Footer: fmt.Sprintf("Run %d of the round %s on %s. All of it: yardbroom round show %s %d", w.run.ID, w.name, w.host(),
			w.name, w.run.ID),
	}
	for _, r := range reports {
		if r.fresh != nil {
			d.Add(r.fresh)
			d.Known += len(r.whole.Findings) - len(r.fresh.Findings)
		}
	}
	d.Fit()
	if what == personal {
		d.Known = 0
		d.Subtitle += "; what concerns you"
		d.Footer = fmt.Sprintf("Sent to you since you are named in the directory as responsible for them. Run %d of the round %s on %s.",
			w.run.ID, w.name, w.host())
		return d
	}
	d.Alarms = w.alarms()
	if what == ofTheRound {
		for _, b := range w.run.Waiting() {
			d.Waiting = append(d.Waiting, w.waits(&b))
		}
		d.Done = w.done()
	}
	for _, r := range reports {
		if r.list != nil {
			d.Lists = append(d.Lists, fmt.Sprintf("%s: %s", r.title, wording.Count(r.list.Found, "row")))
		}
	}
	d.Hidden = w.hidden(reports)
	return d
}

// done says what the steps of the run did that went well.
func (w *running) done() (all []string) {
	for _, y := range w.run.Yards {
		for _, s := range y.Steps {
			if s.Error == "" && s.Step != "waiting" {
				all = append(all, s.Name()+": "+s.Said())
			}
		}
	}
	return all
}

// asOf is the time that the run is about.
func (w *running) asOf() time.Time {
	for _, r := range w.reports {
		if r.whole != nil {
			return r.whole.AsOf
		}
	}
	return w.run.Began
}

// alarms are what went wrong, each with what to do.
func (w *running) alarms() (all []string) {
	for _, s := range w.run.Stops {
		all = append(all, fmt.Sprintf("Stopped by the brake: %s: %s. Nothing more is staged or carried out until: yardbroom round "+
			"release %s --why …", s.Yard, s.Why, w.name))
	}
	if w.isHeld() && len(w.run.Stops) == 0 {
		all = append(all, fmt.Sprintf("Held by the brake since run %d (%s): %s. To go on: yardbroom round release %s --why …",
			w.held.Run, wording.Moment(w.held.At, w.zone()), w.held.Stops[0].Why, w.name))
	}
	for _, text := range w.run.Faults() {
		all = append(all, "Failed: "+text)
	}
	return append(all, w.untold()...)
}

// untold says which batches runs have staged or carried out that were killed before they
// could tell anybody.
func (w *running) untold() (all []string) {
	for _, r := range w.killed {
		var batches []string
		for _, y := range r.Yards {
			for _, s := range y.Steps {
				for _, b := range s.Batches {
					if s.Step != "waiting" {
						batches = append(batches, fmt.Sprint(b.Batch))
					}
				}
			}
		}
		if len(batches) > 0 {
			slices.Sort(batches)
			all = append(all, fmt.Sprintf("Run %d was killed, or the machine stopped, when it had been at work on the batches %s: "+
				"yardbroom batch show %s", r.ID, strings.Join(slices.Compact(batches), ", "), batches[0]))
		}
	}
	return all
}

// waits says of a batch for what it waits, and how that is given.
func (w *running) waits(b *BatchRun) string {
	out := fmt.Sprintf("Batch %d (%s, %s) waits for %s", b.Batch, strings.Join(b.Actions, ", "), wording.Count(b.Lines, "line"), b.Waits)
	switch {
	case strings.Contains(b.Waits, "signature") && !strings.Contains(b.Waits, "yardbroom"):
		out += fmt.Sprintf(": yardbroom batch show %d, then yardbroom batch sign %d", b.Batch, b.Batch)
	case strings.HasPrefix(b.Waits, "somebody"):
		out += fmt.Sprintf(": yardbroom batch show %d, then yardbroom apply %d", b.Batch, b.Batch)
	}
	return out
}

// hidden are what could not be looked at, in words, each once.
func (w *running) hidden(reports []*report) (all []string) {
	looked := map[string]bool{}
	for _, r := range reports {
		if r.whole != nil {
			for _, sum := range r.whole.Summary {
				looked[sum.Check] = looked[sum.Check] || sum.Looked && len(sum.NotLooked) == 0
			}
		}
	}
	why := map[string][]string{}
	for _, r := range reports {
		if r.whole == nil {
			continue
		}
		for _, sum := range r.whole.Summary {
			for _, text := range sum.NotLooked {
				if !looked[sum.Check] && !slices.Contains(why[text], sum.Check) && !sum.Off {
					why[text] = append(why[text], sum.Check)
				}
			}
		}
	}
	for _, text := range slices.Sorted(maps.Keys(why)) {
		all = append(all, strings.Join(why[text], ", ")+": "+text)
	}
	return all
}

// subject says all of it in one line.
func (w *running) subject(reports []*report, what about) string {
	var parts []string
	if what != personal {
		switch faults := w.run.Faults(); {
		case len(w.run.Stops) > 0:
			parts = append(parts, "stopped by the brake: "+w.run.Stops[0].Why)
		case w.isHeld():
			parts = append(parts, fmt.Sprintf("held by the brake since run %d", w.held.Run))
		case len(faults) > 0:
			parts = append(parts, "failed: "+faults[0])
		}
	}
	var fresh Severities
	for _, r := range reports {
		if r.fresh != nil {
			fresh.add(r.fresh.Findings)
		}
	}
	if text := newInWords(fresh); text != "" || len(parts) == 0 {
		parts = append(parts, map[bool]string{true: "nothing new", false: text}[text == ""])
	}
	if what == ofTheRound {
		for _, b := range w.run.Waiting() {
			parts = append(parts, fmt.Sprintf("batch %d waits for %s", b.Batch, b.Waits))
		}
	}
	title := strings.Join(w.round.YardNames(w.Settings), ", ")
	return render.Visible(render.Clip(title+": "+strings.Join(parts, "; "), 180))
}

// newInWords says how much is new, the most severe first; "" for nothing.
func newInWords(fresh Severities) string {
	if fresh.All() == 0 {
		return ""
	}
	for level := audit.High; level >= audit.Info; level-- {
		if n := *fresh.At(level); n == fresh.All() {
			return fmt.Sprintf("%d new %s", n, level)
		} else if n > 0 {
			return fmt.Sprintf("%d new %s, %d new in all", n, level, fresh.All())
		}
	}
	return ""
}

// PostShape is what is posted.
type PostShape struct {
	Schema string                `json:"schema"` // yardbroom/post/1
	Text   string                `json:"text"`   // all of it in one line
	Run    *Run                  `json:"run"`
	New    []render.FindingShape `json:"new"` // at most a thousand
}

// mostPosted is how many findings are posted, at most.
const mostPosted = 1000

// post makes the message for an address.
func (w *running) post(p *settings.Post) error {
	out := PostShape{Schema: "yardbroom/post/1", Text: w.subject(w.reports, ofTheRound), Run: w.run.withoutLog(),
		New: []render.FindingShape{}}
	for _, r := range w.reports {
		if r.fresh != nil {
			fresh := r.fresh.Findings
			out.New = append(out.New, render.FindingShapes(fresh[:min(len(fresh), mostPosted-len(out.New))])...)
		}
	}
	var b bytes.Buffer
	if err := render.JSON(&b, out); err != nil {
		return err
	}
	return w.message(kindPost, messageHead{ID: fmt.Sprintf("%s.%d@%s", w.name, w.run.ID, w.host())}, b.Bytes(), []string{p.URL})
}

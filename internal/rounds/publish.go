package rounds

import (
	"bytes"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"yardbroom/internal/pattern"
	"yardbroom/internal/render"
	"yardbroom/internal/settings"
)

// shelf is the folder for a web server: a folder for each kept run, an index page, a
// feed, the latest run as JSON, and shelfFile, which says what is in it. Nothing is
// written or removed but what it names, and nothing outside of the folder.
type shelf struct {
	set    *settings.Folder
	root   *os.Root
	file   fs.FileMode
	folder fs.FileMode
	Schema string `json:"schema"`
	Round  string `json:"round"`
	Days   []day  `json:"days"` // newest first
}

// shelfFile is the list of what a folder holds.
const shelfFile = "runs.json"

// shelfSchema is the version of that list.
const shelfSchema = "yardbroom/folder/1"

// day is one kept run.
type day struct {
	Run     int       `json:"run"`
	At      time.Time `json:"at"`
	Outcome Outcome   `json:"outcome"`
	Text    string    `json:"text"` // all of it in one line
	// Looked tells whether anything was looked at, First that all of it was new since
	// nothing was told before.
	Looked   bool       `json:"looked"`
	First    bool       `json:"first,omitempty"`
	Findings Severities `json:"findings"`
	New      Severities `json:"new"`
	Folder   string     `json:"folder"`
	Files    []string   `json:"files"`
}

// dayName is what the folder of a run is called.
var dayName = pattern.Lazy(`^\d{4}-\d{2}-\d{2}-run-\d+$`)

// openShelf opens the folder of a round. One that holds pages of somebody else is
// refused.
func openShelf(round string, set *settings.Folder) (*shelf, error) {
	s := &shelf{set: set}
	s.file, s.folder = set.FileMode()
	if _, err := os.Stat(set.Path); errors.Is(err, fs.ErrNotExist) {
		if err := os.Mkdir(set.Path, s.folder); err != nil {
			return nil, fmt.Errorf("folder: %w", err)
		}
		if err := os.Chmod(set.Path, s.folder); err != nil { // whatever the umask is
			return nil, fmt.Errorf("folder: %w", err)
		}
	}
	root, err := os.OpenRoot(set.Path)
	if err != nil {
		return nil, fmt.Errorf("folder: %w", err)
	}
	s.root = root
	if err := s.read(round); err != nil {
		return nil, errors.Join(fmt.Errorf("folder %s: %w", set.Path, err), root.Close())
	}
	return s, nil
}

// read reads what the folder holds.
func (s *shelf) read(round string) error {
	text, err := s.root.ReadFile(shelfFile)
	if errors.Is(err, fs.ErrNotExist) {
		if _, err := s.root.Lstat("index.html"); err == nil {
			return errors.New("it has an index.html that no round has written; name an empty folder")
		}
		s.Schema, s.Round = shelfSchema, round
		return nil
	}
	if err != nil {
		return err
	}
	if err := json.Unmarshal(text, s); err != nil {
		return fmt.Errorf("%s: %w", shelfFile, err)
	}
	if s.Round != round {
		return fmt.Errorf("it is the folder of the round %q", s.Round)
	}
	s.Days = slices.DeleteFunc(s.Days, func(d day) bool { return !d.proper() })
	return nil
}

// proper tells whether a day names only what a round may have written.
func (d *day) proper() bool {
	return dayName().MatchString(d.Folder) && !slices.ContainsFunc(d.Files, func(name string) bool {
		return name != filepath.Base(name) || name == ".." || name == "." || strings.ContainsAny(name, `/\`)
	})
}

func (s *shelf) close() error { return s.root.Close() }

// put writes a file whole or not at all, with the mode of the folder's files.
func (s *shelf) put(name string, data []byte) (err error) {
	temp := path.Join(path.Dir(name), "."+path.Base(name)+".new")
	f, err := s.root.OpenFile(temp, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	defer func() {
		if err != nil {
			_ = s.root.Remove(temp) // what went wrong before is said
		}
	}()
	if _, err := f.Write(data); err != nil {
		return errors.Join(err, f.Close())
	}
	if err := errors.Join(f.Sync(), f.Close()); err != nil {
		return err
	}
	if err := s.root.Chmod(temp, s.file); err != nil {
		return err
	}
	return s.root.Rename(temp, name)
}

// add writes the files of a run.
func (s *shelf) add(d day, all []file) error {
	if err := s.root.Mkdir(d.Folder, s.folder); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	if err := s.root.Chmod(d.Folder, s.folder); err != nil {
		return err
	}
	for _, f := range all {
		if err := s.put(path.Join(d.Folder, f.name), f.data); err != nil {
			return err
		}
		d.Files = append(d.Files, f.name)
	}
	s.Days = append([]day{d}, s.Days...)
	return nil
}

// prune removes the runs of before a time: their files, and their folders where
// nothing else is in them.
func (s *shelf) prune(before time.Time) error {
	var kept []day
	for _, d := range s.Days {
		if !d.At.Before(before) {
			kept = append(kept, d)
			continue
		}
		for _, name := range d.Files {
			if err := s.root.Remove(path.Join(d.Folder, name)); err != nil && !errors.Is(err, fs.ErrNotExist) {
				return err
			}
		}
		_ = s.root.Remove(d.Folder) // not where somebody has put something into it
	}
	s.Days = kept
	return nil
}

// list writes the list of what there is, so that nothing is forgotten if the rest
// fails, then the pages.
func (s *shelf) list(page *render.Index, latest []byte, at time.Time) error {
	listed, err := json.MarshalIndent(s, "", "  ")
	if err != nil {
		return err
	}
	feed, err := s.feed(page.Title, at)
	if err != nil {
		return err
	}
	var index bytes.Buffer
	if err := page.Write(&index); err != nil {
		return err
	}
	return errors.Join(s.put(shelfFile, append(listed, '\n')), s.put("latest.json", latest), s.put("feed.xml", feed),
		s.put("index.html", index.Bytes()))
}

// address is by which something in the folder is reached: an address of the web
// server where the settings name it, else where it lies.
func (s *shelf) address(parts ...string) string {
	if s.set.Address == "" {
		return filepath.Join(append([]string{s.set.Path}, parts...)...)
	}
	u, err := url.JoinPath(s.set.Address, parts...)
	if err != nil {
		return s.set.Address // it was checked when the settings were read
	}
	return u
}

// feed is the folder's Atom feed (RFC 4287).
func (s *shelf) feed(title string, at time.Time) ([]byte, error) {
	type link struct {
		Rel  string `xml:"rel,attr,omitempty"`
		Href string `xml:"href,attr"`
	}
	type entry struct {
		Title   string `xml:"title"`
		ID      string `xml:"id"`
		Updated string `xml:"updated"`
		Link    link   `xml:"link"`
		Summary string `xml:"summary"`
	}
	id := func(of string) string { return "tag:yardbroom,2026:round/" + url.PathEscape(s.Round) + of }
	to := func(parts ...string) string {
		if s.set.Address != "" {
			return s.address(parts...)
		}
		return path.Join(parts...) // beside the feed
	}
	feed := struct {
		XMLName xml.Name `xml:"http://www.w3.org/2005/Atom feed"`
		Title   string   `xml:"title"`
		ID      string   `xml:"id"`
		Updated string   `xml:"updated"`
		Author  string   `xml:"author>name"`
		Links   []link   `xml:"link"`
		Entries []entry  `xml:"entry"`
	}{Title: render.Visible(title), ID: id(""), Updated: at.UTC().Format(time.RFC3339), Author: "Yard Broom",
		Links: []link{{"self", to("feed.xml")}, {"alternate", to("index.html")}}}
	for _, d := range s.Days[:min(len(s.Days), 50)] {
		page := "index.html"
		if i := slices.IndexFunc(d.Files, func(name string) bool { return strings.HasSuffix(name, ".html") }); i >= 0 {
			page = path.Join(d.Folder, d.Files[i])
		}
		feed.Entries = append(feed.Entries, entry{Title: render.Visible(d.Text), ID: id(fmt.Sprintf("/%d", d.Run)),
			Updated: d.At.UTC().Format(time.RFC3339), Link: link{"alternate", to(page)}, Summary: render.Visible(d.Text)})
	}
	out, err := xml.MarshalIndent(feed, "", "  ")
	return append([]byte(xml.Header), append(out, '\n')...), err
}

// publish writes the folder for the web server.
func (w *running) publish() error {
	if w.round.Folder == nil {
		return nil
	}
	s, err := openShelf(w.name, w.round.Folder)
	if err != nil {
		return err
	}
	defer s.close()
	all, err := files(w.reports, reportFormats, w.run.Ended)
	if err != nil {
		return err
	}
	var latest bytes.Buffer
	if err := render.JSON(&latest, w.run.withoutLog()); err != nil {
		return err
	}
	d := day{Run: w.run.ID, At: w.run.Ended, Outcome: w.run.Outcome, Text: w.subject(w.reports, ofTheRound), New: w.run.New(),
		Looked: slices.ContainsFunc(w.reports, func(r *report) bool { return r.whole != nil }), First: w.first,
		Folder: fmt.Sprintf("%s-run-%d", w.run.Ended.In(w.zone()).Format(time.DateOnly), w.run.ID)}
	for _, y := range w.run.Yards {
		d.Findings.and(y.Findings)
	}
	s.Days = slices.DeleteFunc(s.Days, func(old day) bool { return old.Run == d.Run })
	if err := s.add(d, append(all, file{"run.json", latest.Bytes()})); err != nil {
		return err
	}
	if err := s.prune(w.round.Folder.KeepFor().Before(w.run.Ended)); err != nil {
		return err
	}
	page, err := w.index(s)
	if err != nil {
		return err
	}
	if err := s.list(page, latest.Bytes(), w.run.Ended); err != nil {
		return err
	}
	w.run.Written = append(w.run.Written, s.address("index.html"))
	for _, f := range all {
		if strings.HasSuffix(f.name, ".html") {
			title := strings.TrimSuffix(f.name, ".html")
			w.links = append(w.links, render.Link{Text: title, Address: s.address(d.Folder, f.name)})
		}
	}
	w.links = append(w.links, render.Link{Text: "all kept days", Address: s.address("index.html")})
	return nil
}

// index is the index page of the folder.
func (w *running) index(s *shelf) (*render.Index, error) {
	page := &render.Index{Title: w.round.Folder.Title, Zone: w.zone(), Made: w.run.Ended}
	if page.Title == "" {
		page.Title = strings.Join(w.round.YardNames(w.Settings), ", ") + ": " + w.name
	}
	latest := &s.Days[0]
	page.Latest, page.Outcome, page.Alarm = latest.Text, string(latest.Outcome), latest.Outcome != Done
	for _, d := range s.Days {
		row := render.IndexDay{At: d.At, Outcome: string(d.Outcome), Alarm: d.Outcome != Done, Text: d.Text,
			Looked: d.Looked, First: d.First, Findings: d.Findings.list(), New: d.New.All()}
		for _, name := range d.Files {
			title, format := strings.TrimSuffix(name, path.Ext(name)), strings.TrimPrefix(path.Ext(name), ".")
			if n := len(row.Reports); n == 0 || row.Reports[n-1].Title != title {
				row.Reports = append(row.Reports, render.IndexReport{Title: title})
			}
			of := &row.Reports[len(row.Reports)-1]
			of.Files = append(of.Files, render.Link{Text: format, Address: path.Join(d.Folder, name)})
		}
		page.Days = append(page.Days, row)
	}
	for _, text := range w.alarms() {
		if !strings.Contains(page.Latest, strings.TrimPrefix(text, "Failed: ")) {
			page.Alarms = append(page.Alarms, text)
		}
	}
	for _, b := range w.run.Waiting() {
		page.Waiting = append(page.Waiting, w.waits(&b))
	}
	return page, page.Draw()
}

// checkFolder tells whether the folder of a round may be written, by writing a file
// that is removed again. A folder that is not there is made.
func checkFolder(round string, set *settings.Folder) (err error) {
	s, err := openShelf(round, set)
	if err != nil {
		return err
	}
	defer s.close()
	const name = "may-it-be-written.tmp"
	if err := s.put(name, []byte("yes\n")); err != nil {
		return fmt.Errorf("folder: %w", err)
	}
	return s.root.Remove(name)
}

// list are the numbers, the most severe first.
func (s Severities) list() [4]int { return [4]int{s.High, s.Medium, s.Low, s.Info} }

// and adds other numbers.
func (s *Severities) and(other Severities) {
	s.High += other.High
	s.Medium += other.Medium
	s.Low += other.Low
	s.Info += other.Info
}

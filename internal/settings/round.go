package settings

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"net"
	"net/mail"
	"net/url"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"yardbroom/internal/calendar"
	"yardbroom/internal/pattern"
	"yardbroom/internal/schedule"
)

// Round is a job that runs by itself: when, over which yards, what it does, and
// whom it tells.
type Round struct {
	// At are times of day (06:00) and Days days of the week (mon, or mon-fri; none
	// are all); Cron is a five-field cron expression instead. All are in TimeZone,
	// by default that of the first yard.
	At       Words  `yaml:"at"`
	Days     Words  `yaml:"days"`
	Cron     string `yaml:"cron"`
	TimeZone string `yaml:"time_zone"`
	// Yards are names; none is the default yard.
	Yards    Words      `yaml:"yards"`
	Roster   RosterFile `yaml:"roster"`
	Activity string     `yaml:"activity"` // file of sign-ins that other systems recorded
	Steps    []Step     `yaml:"steps"`
	// Apply lets the round itself carry out what it stages, as far as that needs
	// no signature, or has them.
	Apply bool  `yaml:"apply"`
	Brake Brake `yaml:"brake"`
	// Tell says who gets mail.
	Tell   []Tell  `yaml:"tell"`
	Folder *Folder `yaml:"folder"`
	// Metrics is an OpenMetrics text file for a collector.
	Metrics string `yaml:"metrics"`
	// Post are addresses that get the result as JSON.
	Post []Post `yaml:"post"`
}

// RosterFile is a list of people, and how to read it.
type RosterFile struct {
	From      string            `yaml:"from"` // file, or https:// address of a SCIM service
	TokenFile string            `yaml:"token_file"`
	Sheet     string            `yaml:"sheet"`
	Encoding  string            `yaml:"encoding"`
	Dates     string            `yaml:"dates"`
	Map       map[string]string `yaml:"map"`
}

// Step is one thing that a round does: one of its fields is set.
type Step struct {
	Survey    *SurveyStep    `yaml:"survey"`
	Audit     *AuditStep     `yaml:"audit"`
	List      *ListStep      `yaml:"list"`
	Reconcile *ReconcileStep `yaml:"reconcile"`
	Stage     *StageStep     `yaml:"stage"`
	Due       *DueStep       `yaml:"due"`
	Apply     *ApplyStep     `yaml:"apply"`
	Climb     *ClimbStep     `yaml:"climb"`
	Answers   *AnswersStep   `yaml:"answers"`
}

// ClimbStep takes those whose time has come up their ladders, and those who leave them
// back down.
type ClimbStep struct {
	Ladders Words `yaml:"ladders"` // names; none are all of the yard
}

// AnswersStep reads the replies to what ladders have told.
type AnswersStep struct{}

// SurveyStep keeps a survey of each yard.
type SurveyStep struct {
	// Full reads everything, not only what has changed since the last survey.
	Full bool `yaml:"full"`
}

// AuditStep runs checks.
type AuditStep struct {
	Checks Words `yaml:"checks"` // none are all that are not switched off
	// New shows only what the round has not reported before.
	New bool `yaml:"new"`
}

// ListStep makes a table of entries.
type ListStep struct {
	Title   string `yaml:"title"`
	Filter  Filter `yaml:"of"`
	Columns Words  `yaml:"columns"`
	Sort    string `yaml:"sort"`
}

// ReconcileStep compares people with accounts.
type ReconcileStep struct {
	Checks Words `yaml:"checks"`
	Strict bool  `yaml:"strict"`
	New    bool  `yaml:"new"`
}

// StageStep makes a batch, of the findings of checks or of what fulfils
// conditions. Who waits in an open batch of the round is left out.
type StageStep struct {
	Actions Words   `yaml:"actions"`
	Checks  Words   `yaml:"checks"`
	Of      *Filter `yaml:"of"`
	Why     string  `yaml:"why"`
	To      string  `yaml:"to"`      // DN, for move
	Text    string  `yaml:"text"`    // for describe
	Expires string  `yaml:"expires"` // for expire: a date, or a span from the day of the run
	Groups  Words   `yaml:"groups"`  // for join-group and leave-group
	Attr    string  `yaml:"attribute"`
	Value   string  `yaml:"value"`
	// Until is when the batch is to be taken back: a date, or a span from the day
	// of the run.
	Until         string `yaml:"until"`
	IncludeLikely bool   `yaml:"include_likely"`
	AppendAccount bool   `yaml:"append_account"`
}

// DueStep takes back what was staged until a date that is over.
type DueStep struct{}

// ApplyStep carries out what the round has staged, now or before, and has the
// signatures that it needs.
type ApplyStep struct {
	AcceptUnproved bool    `yaml:"accept_unproved"`
	Connections    int     `yaml:"connections"`
	Rate           float64 `yaml:"rate"` // writes a second
}

// Brake is what stops a round that would do far more than it usually does. Zero
// values are the defaults.
type Brake struct {
	Lines int     `yaml:"lines"` // staged in one run; default 200
	Share float64 `yaml:"share"` // of the accounts of the yard, in per cent; default 5
	// TimesUsual is how many times the median of the last ten runs; default 5.
	// Fewer than ten lines never are too many by this.
	TimesUsual float64 `yaml:"times_usual"`
	// RosterLoses is by how much a roster may be shorter than the last one, in per
	// cent; default 10. YardLoses is the same of accounts.
	RosterLoses float64 `yaml:"roster_loses"`
	YardLoses   float64 `yaml:"yard_loses"`
}

// WithDefaults is the brake with the defaults where nothing is set.
func (b Brake) WithDefaults() Brake {
	return Brake{
		Lines:       cmp.Or(b.Lines, 200),
		Share:       cmp.Or(b.Share, 5),
		TimesUsual:  cmp.Or(b.TimesUsual, 5),
		RosterLoses: cmp.Or(b.RosterLoses, 10),
		YardLoses:   cmp.Or(b.YardLoses, 10),
	}
}

// When is what must have happened for somebody to be told.
type When string

// The times to tell somebody.
const (
	Always    When = "always"
	OnNew     When = "new"     // something is new, or waits for somebody, or went wrong
	OnFailure When = "failure" // the round failed or was stopped
)

// Each says that a mail goes to everybody whom a finding concerns, each with
// only their own people.
type Each string

// Whom findings concern.
const (
	EachManager Each = "manager" // of a person
	EachOwner   Each = "owner"   // of a group, or of a service account
)

// Tell says who gets mail, and what of a run it is about.
type Tell struct {
	To   Words `yaml:"to"`
	Each Each  `yaml:"each"`
	When When  `yaml:"when"` // default: new
	// Severity leaves out what is less severe; Checks and Under what other checks
	// found, and what stands elsewhere.
	Severity string `yaml:"severity"`
	Checks   Words  `yaml:"checks"`
	Under    Words  `yaml:"under"`
	// Lists are the titles of the lists that are attached. None are all of them
	// where everything else is told too, else no list.
	Lists Words `yaml:"lists"`
	// Attach are formats of reports: html, xlsx, csv.
	Attach Words `yaml:"attach"`
}

// Everything tells whether nothing is left out.
func (t *Tell) Everything() bool {
	return t.Severity == "" && len(t.Checks) == 0 && len(t.Under) == 0 && len(t.Lists) == 0 && t.Each == ""
}

// Folder is a folder for a web server.
type Folder struct {
	Path string `yaml:"path"`
	// Mode is of files; folders may be entered by whoever may read the files.
	// Default: 0644.
	Mode    string        `yaml:"mode"`
	Keep    calendar.Span `yaml:"keep"`    // default: 90d
	Address string        `yaml:"address"` // by which it is reached, for the links in mails and the feed
	Title   string        `yaml:"title"`
}

// FileMode is the mode of files in the folder, and that of folders.
func (f *Folder) FileMode() (file, folder fs.FileMode) {
	n, err := strconv.ParseUint(cmp.Or(f.Mode, "0644"), 8, 32)
	if err != nil {
		n = 0o600 // it was checked when it was read
	}
	file = fs.FileMode(n) & 0o666
	return file, file | (file&0o444)>>2
}

// KeepFor is how long days are kept in the folder.
func (f *Folder) KeepFor() calendar.Span {
	if f.Keep == (calendar.Span{}) {
		return calendar.Days(90)
	}
	return f.Keep
}

// Post is an address that gets the result of a run as JSON.
type Post struct {
	URL string `yaml:"url"`
	// TokenFile holds a bearer token, SecretFile a key for an HMAC (SHA-256) of
	// the body, each in its first line.
	TokenFile  string `yaml:"token_file"`
	SecretFile string `yaml:"secret_file"`
	CAFile     string `yaml:"ca_file"`
	When       When   `yaml:"when"` // default: always
}

// Mail is how mail is sent.
type Mail struct {
	Server string `yaml:"server"` // host:port
	// TLS is starttls (default), tls, or none, which only a server on this machine
	// may have.
	TLS    string `yaml:"tls"`
	CAFile string `yaml:"ca_file"`
	From   string `yaml:"from"`
	Hello  string `yaml:"hello"` // the name to greet with; default: this machine's
	// Name and one of the others sign in.
	Name            string `yaml:"name"`
	PasswordFile    string `yaml:"password_file"`
	PasswordEnv     string `yaml:"password_env"`
	PasswordCommand string `yaml:"password_command"`
	// AttachUpTo is how many KB reports may have together; larger ones are named
	// by where they lie. Default: 5000.
	AttachUpTo int `yaml:"attach_up_to"`
}

// Keeping is how long what was read and found is kept.
type Keeping struct {
	Surveys Thinning `yaml:"surveys"`
	Audits  Thinning `yaml:"audits"`
	Runs    Thinning `yaml:"runs"`
}

// Thinning keeps everything for some days, then the last of each week for some weeks,
// then the last of each month for some months. The zero value keeps everything.
type Thinning struct {
	Days   int `yaml:"days"`
	Weeks  int `yaml:"weeks"`
	Months int `yaml:"months"`
}

// Schedule is when the round runs; false where it runs only when it is told to.
func (r *Round) Schedule(s *Settings) (schedule.Schedule, bool, error) {
	zone, err := r.Zone(s)
	if err != nil {
		return schedule.Schedule{}, false, err
	}
	switch {
	case r.Cron != "":
		when, err := schedule.Cron(r.Cron, zone)
		return when, true, err
	case len(r.At) > 0:
		when, err := schedule.Daily(r.At, r.Days, zone)
		return when, true, err
	}
	return schedule.Schedule{}, false, nil
}

// Zone is the time zone of the round.
func (r *Round) Zone(s *Settings) (*time.Location, error) {
	name := r.TimeZone
	if yards := r.YardNames(s); name == "" && len(yards) > 0 {
		name = s.Yards[yards[0]].TimeZone
	}
	return time.LoadLocation(name)
}

// YardNames are the yards of the round.
func (r *Round) YardNames(s *Settings) []string {
	if len(r.Yards) > 0 {
		return r.Yards
	}
	if s.Default == "" {
		return nil
	}
	return []string{s.Default}
}

var roundName = pattern.Lazy(`^[A-Za-z0-9][A-Za-z0-9._-]{0,63}$`)

// checkRounds refuses rounds that cannot be meant.
func (s *Settings) checkRounds() *Fault {
	folders := map[string]string{}
	for _, name := range slices.Sorted(maps.Keys(s.Rounds)) {
		r := s.Rounds[name]
		if !roundName().MatchString(name) {
			return Faulty(errors.New("a round's name is of letters, digits, dots, hyphens and underscores"), "rounds", name)
		}
		if f := r.check(s, name); f != nil {
			return f
		}
		for what, path := range map[string]string{"folder": r.folderPath(), "metrics": r.Metrics} {
			if path == "" {
				continue
			}
			if other, taken := folders[filepath.Clean(path)]; taken {
				return Faulty(fmt.Errorf("the round %s writes %s too", other, path), "rounds", name, what)
			}
			folders[filepath.Clean(path)] = name
		}
	}
	for name, r := range s.Rounds {
		for other := range s.Rounds {
			within := s.Rounds[other]
			outer := within.folderPath()
			if inner := r.folderPath(); outer != "" && inner != "" && other != name && isWithin(inner, outer) {
				return Faulty(fmt.Errorf("it is in the folder of the round %s", other), "rounds", name, "folder", "path")
			}
		}
	}
	return nil
}

func isWithin(inner, outer string) bool {
	rel, err := filepath.Rel(outer, inner)
	return err == nil && rel != ".." && !strings.HasPrefix(rel, ".."+string(filepath.Separator))
}

func (r *Round) folderPath() string {
	if r.Folder == nil {
		return ""
	}
	return r.Folder.Path
}

func (r *Round) check(s *Settings, name string) *Fault {
	at := func(err error, path ...any) *Fault { return Faulty(err, append([]any{"rounds", name}, path...)...) }
	yards := r.YardNames(s)
	if len(yards) == 0 {
		return at(errors.New("name a yard, or a default yard"))
	}
	for _, yard := range yards {
		if _, ok := s.Yards[yard]; !ok {
			return at(fmt.Errorf("%q is none of the yards", yard), "yards")
		}
	}
	if _, err := r.Zone(s); err != nil {
		return at(err, "time_zone")
	}
	switch {
	case r.Cron != "" && (len(r.At) > 0 || len(r.Days) > 0):
		return at(errors.New("give cron, or at and days"), "cron")
	case len(r.Days) > 0 && len(r.At) == 0:
		return at(errors.New("at is missing: at what time of these days?"), "days")
	}
	if _, _, err := r.Schedule(s); err != nil {
		if r.Cron != "" {
			return at(err, "cron")
		}
		return at(err, "at")
	}
	if len(r.Steps) == 0 {
		return at(errors.New("steps: name at least one"))
	}
	for i := range r.Steps {
		if err := r.checkStep(&r.Steps[i]); err != nil {
			return at(err, "steps", i)
		}
	}
	for i := range r.Tell {
		if err := r.Tell[i].check(s); err != nil {
			return at(err, "tell", i)
		}
	}
	for i := range r.Post {
		if err := r.Post[i].check(); err != nil {
			return at(err, "post", i)
		}
	}
	if r.Folder != nil {
		if err := r.Folder.check(); err != nil {
			return at(err, "folder")
		}
	}
	if err := r.Brake.check(); err != nil {
		return at(err, "brake")
	}
	return nil
}

func (r *Round) checkStep(step *Step) error {
	n := 0
	for _, is := range []bool{step.Survey != nil, step.Audit != nil, step.List != nil, step.Reconcile != nil,
		step.Stage != nil, step.Due != nil, step.Apply != nil, step.Climb != nil, step.Answers != nil} {
		if is {
			n++
		}
	}
	switch st := step.Stage; {
	case n != 1:
		return errors.New("a step is one of survey, audit, list, reconcile, stage, due, apply, climb and answers")
	case step.Reconcile != nil && r.Roster.From == "":
		return errors.New("reconcile: the round has no roster")
	case step.Apply != nil && !r.Apply:
		return errors.New("apply: the round may not carry anything out; \"apply: true\" beside its steps lets it")
	case st != nil && len(st.Actions) == 0:
		return errors.New("stage: actions are missing")
	case st != nil && len(st.Checks) == 0 && st.Of == nil:
		return errors.New("stage: say of whom: checks, or conditions under of")
	case st != nil && len(st.Checks) > 0 && st.Of != nil:
		return errors.New("stage: give checks or of, not both")
	}
	return nil
}

func (t *Tell) check(s *Settings) error {
	if s.Mail.Server == "" {
		return errors.New("no mail server is set: mail: {server: mail.larkmoor.example:587, from: …}")
	}
	if len(t.To) == 0 && t.Each == "" {
		return errors.New("to is missing: who is told?")
	}
	for _, to := range t.To {
		if _, err := mail.ParseAddress(to); err != nil {
			return fmt.Errorf("to: %q is not a mail address", to)
		}
	}
	if t.Each != "" && len(t.Lists) > 0 {
		return errors.New("lists: a list is of all that fulfil its conditions, and each gets only their own")
	}
	if !slices.Contains([]Each{"", EachManager, EachOwner}, t.Each) {
		return fmt.Errorf("each: %q is neither manager nor owner", t.Each)
	}
	if !slices.Contains([]When{"", Always, OnNew, OnFailure}, t.When) {
		return fmt.Errorf("when: %q is none of always, new and failure", t.When)
	}
	if !slices.Contains([]string{"", "info", "low", "medium", "high"}, t.Severity) {
		return fmt.Errorf("severity: %q is none of high, medium, low and info", t.Severity)
	}
	for _, format := range t.Attach {
		if !slices.Contains([]string{"html", "xlsx", "csv"}, format) {
			return fmt.Errorf("attach: %q is none of html, xlsx and csv", format)
		}
	}
	if f := checkDNs(t.Under); f != nil {
		return fmt.Errorf("under: %w", f.Err)
	}
	return nil
}

func (p *Post) check() error {
	u, err := url.Parse(p.URL)
	if err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http" {
		return fmt.Errorf("url: %q is not an https:// address", p.URL)
	}
	if u.Scheme == "http" && !isThisMachine(u.Hostname()) {
		return fmt.Errorf("url: %q is not encrypted; only this machine itself may be written to so", p.URL)
	}
	if p.TokenFile != "" && p.SecretFile != "" {
		return errors.New("give token_file or secret_file")
	}
	if !slices.Contains([]When{"", Always, OnNew, OnFailure}, p.When) {
		return fmt.Errorf("when: %q is none of always, new and failure", p.When)
	}
	return nil
}

func (f *Folder) check() error {
	if f.Path == "" {
		return errors.New("path is missing")
	}
	n, err := strconv.ParseUint(cmp.Or(f.Mode, "0644"), 8, 32)
	if err != nil || n&^0o666 != 0 || n&0o600 != 0o600 || n&0o002 != 0 {
		return fmt.Errorf("mode: %q is not a mode for files: write 0644, 0640 or 0600", f.Mode)
	}
	if f.Address != "" {
		if u, err := url.Parse(f.Address); err != nil || u.Host == "" {
			return fmt.Errorf("address: %q is not an https:// address", f.Address)
		}
	}
	return nil
}

func (b *Brake) check() error {
	if b.Lines < 0 || b.Share < 0 || b.Share > 100 || b.TimesUsual < 0 || b.RosterLoses < 0 || b.RosterLoses > 100 ||
		b.YardLoses < 0 || b.YardLoses > 100 {
		return errors.New("lines and times_usual must be more than 0, shares from 0 to 100")
	}
	return nil
}

// isThisMachine tells whether a host is this machine by its very name.
func isThisMachine(host string) bool {
	return host == "localhost" || host == "127.0.0.1" || host == "::1"
}

func (m *Mail) check() error {
	if *m == (Mail{}) {
		return nil
	}
	host, err := hostAndPort(m.Server, "mail.larkmoor.example:587")
	if err != nil {
		return err
	}
	if err := checkTLS(m.TLS, host, "starttls", "tls"); err != nil {
		return err
	}
	if _, err := mail.ParseAddress(m.From); err != nil {
		return fmt.Errorf("from: %q is not a mail address", m.From)
	}
	if m.AttachUpTo < 0 {
		return errors.New("attach_up_to must be 0 or more")
	}
	return oneSource(m.Name, m.PasswordFile, m.PasswordEnv, m.PasswordCommand)
}

// hostAndPort refuses what is not a host and a port, and returns the host.
func hostAndPort(server, such string) (host string, err error) {
	host, port, err := net.SplitHostPort(server)
	if n, bad := strconv.Atoi(port); err != nil || bad != nil || n < 1 || n > 65535 || host == "" {
		return "", fmt.Errorf("server: %q is not a host and a port, such as %s", server, such)
	}
	return host, nil
}

// checkTLS refuses a word for encryption that is none of two, and none at all for
// another machine.
func checkTLS(word, host, usual, other string) error {
	switch word {
	case "", usual, other:
		return nil
	case "none":
		if !isThisMachine(host) {
			return errors.New("tls: none is only for a server on this machine itself")
		}
		return nil
	}
	return fmt.Errorf("tls: %q is none of %s, %s and none", word, usual, other)
}

// oneSource refuses a name without a password, a password without a name, and
// several passwords.
func oneSource(name string, from ...string) error {
	sources := 0
	for _, given := range from {
		if given != "" {
			sources++
		}
	}
	switch {
	case sources > 1:
		return errors.New("give one of password_file, password_env and password_command")
	case name == "" && sources > 0:
		return errors.New("a password needs a name")
	case name != "" && sources == 0:
		return errors.New("a name needs one of password_file, password_env and password_command")
	}
	return nil
}

func (t *Thinning) check() error {
	if t.Days < 0 || t.Weeks < 0 || t.Months < 0 {
		return errors.New("days, weeks and months must be 0 or more")
	}
	return nil
}

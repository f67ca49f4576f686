package cli

import (
	"context"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"yardbroom/internal/audit"
	"yardbroom/internal/directory"
	"yardbroom/internal/reconcile"
	"yardbroom/internal/render"
	"yardbroom/internal/roster"
	"yardbroom/internal/sheet"
	"yardbroom/internal/source"
	"yardbroom/internal/store"
)

// link is a decision on an account and a person, as it is kept. The account is
// known by its identity; the names are for people to read.
type link struct {
	AccountID string    `json:"account_id"` // objectGUID, entryUUID or nsUniqueId, in its readable form
	Dialect   string    `json:"dialect"`
	Account   string    `json:"account"`
	Person    string    `json:"person"` // the person's key
	Name      string    `json:"name"`
	Verdict   string    `json:"verdict"` // confirmed or rejected
	Why       string    `json:"why,omitempty"`
	By        string    `json:"by"`
	At        time.Time `json:"at"`

	id int
}

// The verdicts.
const (
	confirmed = "confirmed"
	rejected  = "rejected"
)

// link is the decision as matching takes it.
func (l *link) link() reconcile.Link {
	raw := ""
	if d, err := directory.DialectNamed(l.Dialect); err == nil {
		raw, _ = source.ReadIdentity(d, l.AccountID) // one that is none stands for no account
	}
	return reconcile.Link{Account: raw, Person: l.Person, Rejected: l.Verdict == rejected}
}

func (a *app) linkCommand() *cli.Command {
	flags := func() []cli.Flag {
		return append(slices.Concat(fromFlags(), rosterFlags()), &cli.StringFlag{Name: "why", Usage: "a `TEXT` to keep with the decision"})
	}
	return &cli.Command{
		Name: "link", Usage: "confirmed and rejected pairs of account and person",
		Description: "What a person has decided outranks every key from then on. PERSON is a person id, a mail address, a logon name, \"row N\" of the roster,\nor a whole name that only one person has. Without --roster the last roster of the yard counts.",
		Commands: []*cli.Command{
			{Name: "confirm", Usage: "this account is this person's", ArgsUsage: "ACCOUNT PERSON", Flags: flags(),
				Action: func(ctx context.Context, cmd *cli.Command) error { return a.linkDecide(ctx, cmd, confirmed) }},
			{Name: "reject", Usage: "this account is not this person's", ArgsUsage: "ACCOUNT PERSON", Flags: flags(),
				Action: func(ctx context.Context, cmd *cli.Command) error { return a.linkDecide(ctx, cmd, rejected) }},
			{Name: "list", Usage: "all decisions in force", Action: a.linkList},
			{Name: "end", Usage: "take a decision back", ArgsUsage: "NUMBER", Action: a.linkEnd},
			{Name: "export", Usage: "write the decisions as CSV", Flags: []cli.Flag{&cli.StringFlag{Name: "output", Usage: "write to `FILE`, whole or not at all"}}, Action: a.linkExport},
			{Name: "import", Usage: "take over decisions that export wrote", ArgsUsage: "FILE", Action: a.linkImport},
		},
	}
}

func (a *app) linkDecide(ctx context.Context, cmd *cli.Command, verdict string) error {
	if cmd.Args().Len() != 2 {
		return usage("give an account and a person; \"%s --help\" shows how", cmd.FullName())
	}
	p, err := a.open(ctx, cmd)
	if err != nil {
		return err
	}
	defer p.Close()
	found, err := findAccounts(ctx, p, cmd.Args().First())
	if err != nil {
		return err
	}
	if len(found) > 1 {
		return ambiguous(cmd.Args().First(), found)
	}
	id, err := p.Identity(ctx)
	if err != nil {
		return err
	}
	d, err := directory.DialectNamed(id.Dialect)
	if err != nil {
		return err
	}
	acc := d.Account(&found[0])
	if acc.ID == "" {
		return fmt.Errorf("%s shows no %s, by which a link would know it again", acc.Name(), d.Identity)
	}
	list, err := a.roster(ctx, cmd, p)
	if err != nil {
		return err
	}
	if list == nil {
		return usage("the yard has no roster yet: give one with --roster")
	}
	who, err := findPerson(a.peopleOn(list, a.now(), p), cmd.Args().Get(1), list.about.Source)
	if err != nil {
		return err
	}
	l := link{AccountID: source.ShowIdentity(d, acc.ID), Dialect: d.Name, Account: acc.Name(), Person: reconcile.PersonKey(who), Name: audit.PersonName(who),
		Verdict: verdict, Why: cmd.String("why"), By: actor(), At: a.now().UTC()}
	n, err := a.decide(ctx, l)
	if err != nil {
		return err
	}
	is := "is"
	if verdict == rejected {
		is = "is not"
	}
	fmt.Fprintf(a.out, "link %d: %s %s %s\n", n, render.Visible(l.Account), is, render.Visible(l.Name))
	return nil
}

// decide keeps a decision, in place of any earlier one that it contradicts.
func (a *app) decide(ctx context.Context, l link) (int, error) {
	all, err := a.links(ctx)
	if err != nil {
		return 0, err
	}
	s, err := a.openStore(ctx)
	if err != nil {
		return 0, err
	}
	defer s.Close()
	for _, old := range all {
		if old.AccountID != l.AccountID || old.Dialect != l.Dialect {
			continue
		}
		samePerson := old.Person == l.Person
		if samePerson && old.Verdict == l.Verdict {
			return old.id, nil
		}
		if samePerson || old.Verdict == confirmed && l.Verdict == confirmed {
			if err := a.endLink(ctx, s, old.id); err != nil {
				return 0, err
			}
			a.note("link %d (%s %s %s) is ended by this", old.id, old.Account, old.Verdict, old.Name)
		}
	}
	body, err := json.Marshal(l)
	if err != nil {
		return 0, err
	}
	return s.Decide(ctx, store.Links, body, &store.Record{At: l.At, By: l.By, Event: store.EventLinked, Body: body})
}

// findPerson finds the one person whom people would call so.
func findPerson(all []roster.Person, name, where string) (*roster.Person, error) {
	row, byRow := 0, false
	if text, ok := strings.CutPrefix(name, "row "); ok {
		n, err := strconv.Atoi(text)
		if err != nil {
			return nil, usage("%q is not a row: write \"row 17\"", name)
		}
		row, byRow = n, true
	}
	folded := directory.FoldText(name)
	matches := func(who *roster.Person, step int) bool {
		v := &who.Values
		switch step {
		case 0:
			return byRow && slices.Contains(who.Rows, row)
		case 1:
			return v[roster.PersonID] != "" && reconcile.KeyOfID(v[roster.PersonID]) == reconcile.KeyOfID(name)
		case 2:
			return strings.EqualFold(v[roster.Mail], name) || strings.EqualFold(v[roster.Logon], name)
		}
		return folded != "" && (directory.FoldText(reconcile.FullName(who)) == folded || directory.FoldText(v[roster.Given]+v[roster.Family]) == folded || directory.FoldText(v[roster.FullName]) == folded)
	}
	for step := range 4 {
		var found []*roster.Person
		for i := range all {
			if matches(&all[i], step) {
				found = append(found, &all[i])
			}
		}
		switch {
		case len(found) == 1:
			return found[0], nil
		case len(found) > 1:
			var b strings.Builder
			fmt.Fprintf(&b, "%q may be any of %d people; say which by person id or row:", name, len(found))
			for _, who := range found[:min(len(found), 10)] {
				fmt.Fprintf(&b, "\n  row %d: %s", who.Rows[0], audit.PersonName(who))
			}
			return nil, errors.New(b.String())
		}
	}
	return nil, fmt.Errorf("nobody on the roster %s is called %q", where, name)
}

// links are all decisions in force.
func (a *app) links(ctx context.Context) ([]link, error) {
	rows, err := a.decisions(ctx, store.Links)
	if err != nil {
		return nil, err
	}
	var all []link
	for _, r := range rows {
		l := link{id: r.ID}
		if err := json.Unmarshal(r.Body, &l); err != nil {
			return nil, fmt.Errorf("link %d cannot be read: %w", r.ID, err)
		}
		all = append(all, l)
	}
	return all, nil
}

func (a *app) linkList(ctx context.Context, cmd *cli.Command) error {
	if err := noArguments(cmd); err != nil {
		return err
	}
	all, err := a.links(ctx)
	if err != nil {
		return err
	}
	if len(all) == 0 {
		a.note("nothing is linked")
		return nil
	}
	var rows [][]string
	for _, l := range all {
		rows = append(rows, []string{strconv.Itoa(l.id), render.Visible(l.Account), l.Verdict, render.Visible(l.Name), render.Visible(l.By), l.At.Format(time.DateOnly), render.Visible(l.Why)})
	}
	render.Table(a.out, a.style(nil), []string{"Number", "Account", "Verdict", "Person", "By", "On", "Why"}, rows, 1, 3, 4, 6)
	return nil
}

func (a *app) linkEnd(ctx context.Context, cmd *cli.Command) error {
	n, err := strconv.Atoi(cmd.Args().First())
	if err != nil || cmd.Args().Len() != 1 {
		return usage("give the number of one link; \"yardbroom link list\" shows them")
	}
	s, err := a.openStore(ctx)
	if err != nil {
		return err
	}
	defer s.Close()
	if err := a.endLink(ctx, s, n); err != nil {
		return err
	}
	fmt.Fprintf(a.out, "link %d is ended\n", n)
	return nil
}

func (a *app) endLink(ctx context.Context, s *store.Store, n int) error {
	return s.End(ctx, store.Links, n, func(body []byte) *store.Record {
		return &store.Record{At: a.now().UTC(), By: actor(), Event: store.EventLinkEnded, Body: body}
	})
}

// linkColumns are the columns of exported decisions.
var linkColumns = []sheet.Column{{Name: "account_id"}, {Name: "dialect"}, {Name: "account"}, {Name: "person"}, {Name: "name"}, {Name: "verdict"}, {Name: "why"}, {Name: "by"}, {Name: "at", Kind: sheet.Time}}

func (a *app) linkExport(ctx context.Context, cmd *cli.Command) error {
	if err := noArguments(cmd); err != nil {
		return err
	}
	all, err := a.links(ctx)
	if err != nil {
		return err
	}
	s := sheet.Sheet{Name: "links", Columns: linkColumns}
	for _, l := range all {
		s.Rows = append(s.Rows, []any{l.AccountID, l.Dialect, l.Account, l.Person, l.Name, l.Verdict, l.Why, l.By, l.At})
	}
	return a.result(cmd.String("output"), func(w io.Writer) error { return render.SheetCSV(w, &s) })
}

func (a *app) linkImport(ctx context.Context, cmd *cli.Command) error {
	if cmd.Args().Len() != 1 {
		return usage("give one file that \"yardbroom link export\" wrote")
	}
	path := cmd.Args().First()
	in, err := os.Open(path)
	if err != nil {
		return fmt.Errorf("%s: %w", path, errors.Unwrap(err))
	}
	defer in.Close()
	all, err := readLinks(in, path)
	if err != nil {
		return err
	}
	for i := range all {
		if _, err := a.decide(ctx, all[i]); err != nil {
			return err
		}
	}
	fmt.Fprintf(a.out, "%s taken over\n", render.Count(len(all), "link"))
	return nil
}

// readLinks reads exported decisions; none is taken over if one is wrong.
func readLinks(in io.Reader, path string) ([]link, error) {
	r := csv.NewReader(in)
	header, err := r.Read()
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	header[0] = strings.TrimPrefix(header[0], "\ufeff")
	if !slices.EqualFunc(header, linkColumns, func(h string, c sheet.Column) bool { return h == c.Name }) {
		return nil, fmt.Errorf("%s is no list of links: its columns have to be those that \"yardbroom link export\" writes", path)
	}
	var all []link
	for {
		cells, err := r.Read()
		if err == io.EOF {
			return all, nil
		}
		if err != nil {
			return nil, fmt.Errorf("%s: %w", path, err)
		}
		for i := range cells {
			cells[i] = render.UnsafeCell(cells[i])
		}
		line, _ := r.FieldPos(0)
		l := link{AccountID: cells[0], Dialect: cells[1], Account: cells[2], Person: cells[3], Name: cells[4], Verdict: cells[5], Why: cells[6], By: cells[7]}
		if l.At, err = time.Parse(time.RFC3339, cells[8]); err != nil {
			return nil, fmt.Errorf("%s: line %d: at: %w", path, line, err)
		}
		d, err := directory.DialectNamed(l.Dialect)
		if err == nil {
			_, err = source.ReadIdentity(d, l.AccountID)
		}
		if err != nil {
			return nil, fmt.Errorf("%s: line %d: %w", path, line, err)
		}
		if l.AccountID == "" || l.Person == "" || l.Verdict != confirmed && l.Verdict != rejected {
			return nil, fmt.Errorf("%s: line %d: an account_id, a person and a verdict (%s or %s) are needed", path, line, confirmed, rejected)
		}
		all = append(all, l)
	}
}

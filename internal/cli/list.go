package cli

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"yardbroom/internal/ldif"
	"yardbroom/internal/listing"
	"yardbroom/internal/render"
	"yardbroom/internal/sheet"
	"yardbroom/internal/wording"
	"yardbroom/internal/work"
)

// listFormats are the formats of a list.
var listFormats = append(slices.Clone(allFormats), formatLDIF)

func (a *app) listCommand() *cli.Command {
	return &cli.Command{
		Name: "list", Usage: "entries by plain conditions or an RFC 4515 filter, with chosen columns", ArgsUsage: "[" + strings.Join(listing.KindNames, "|") + "]",
		Description: listDescription(),
		Flags: slices.Concat(readFlags(), conditionFlags(), signInFlags(), []cli.Flag{asOfFlag(),
			&cli.StringFlag{
				Name:  "columns",
				Usage: "`NAMES` of columns or attributes, with commas between them; all shows everything that is set",
			},
			&cli.StringFlag{Name: "sort", Usage: "the `COLUMN` to sort by; with - before it from the largest down"},
			limitFlag("entries", 0), namesFlag(),
		}, outputFlags(listFormats)),
		Action:   a.list,
		Commands: a.kindCommands(),
	}
}

// kindUsage says what each kind of entries is.
var kindUsage = map[string]string{
	"users": "accounts that people and programs sign in with", "people": "users that belong to a person: not built in, and with a given name or an employee number",
	"services": "managed service accounts", "computers": "computer accounts", "groups": "groups", "contacts": "contacts of the address book",
	"units": "OUs (organizational units)", "accounts": "users, services, computers and resources",
}

// kindCommands are the kinds as commands of list. Their options are those of list.
func (a *app) kindCommands() (all []*cli.Command) {
	for _, kind := range listing.KindNames {
		all = append(all, &cli.Command{Name: kind, Usage: "list " + kindUsage[kind], Action: a.list})
	}
	return all
}

// listedKind is the kind that is listed, and what else stands behind the command.
func listedKind(cmd *cli.Command) (kind string, rest []string) {
	if cmd.Name != "list" {
		return cmd.Name, cmd.Args().Slice()
	}
	return cmd.Args().First(), cmd.Args().Tail()
}

// listDescription names the columns there are.
func listDescription() string {
	var b strings.Builder
	b.WriteString(help("list") + "\n")
	for _, c := range listing.Readable {
		fmt.Fprintf(&b, "\n  %-17s %s", c.Name, c.Doc)
	}
	return b.String()
}

func (a *app) list(ctx context.Context, cmd *cli.Command) error {
	if _, rest := listedKind(cmd); len(rest) > 0 {
		return usage("give one kind of entry, not %q too; \"%s --help\" shows how", rest[0], cmd.FullName())
	}
	targets, err := a.targets(cmd, listFormats)
	if err != nil {
		return err
	}
	q, err := a.listQuery(cmd)
	if err != nil {
		return err
	}
	p, err := a.work.Open(ctx, from(cmd))
	if err != nil {
		return err
	}
	defer p.Close()
	if len(targets) == 1 && targets[0].path == "" && targets[0].format == formatTable {
		if q.Limit, err = a.limitOf(cmd, a.style(nil), 0); err != nil {
			return err
		}
	}
	q.Whole = slices.ContainsFunc(targets, func(t target) bool { return t.format == formatLDIF })
	found, err := a.work.List(ctx, p, q, &work.Question{AsOf: cmd.String("as-of"), SignIns: cmd.String("activity"), Logs: work.LogsFrom{Paths: cmd.StringSlice("log"), None: cmd.Bool("no-logs")}})
	if err != nil {
		return err
	}
	if err := a.deliver(targets, a.listResult(found, q, a.style(p.Zone()))); err != nil {
		return err
	}
	if _, live := p.Server(); live || found.Survey.Entries > 0 { // a file is not read once more for it
		if err := a.work.NoteMissing(ctx, p, found.Survey); err != nil {
			return err
		}
	}
	for _, n := range found.Notes {
		a.note("note: %s", n)
	}
	a.tellUntold(found.Untold)
	for i, name := range found.Survey.Silent {
		a.note("note: %s did not tell its sign-ins, so later ones may be known there: %s", name,
			found.Survey.SilentWhy[i])
	}
	return (&outcome{}).verdict(p, nil)
}

// listQuery reads what is asked for from the command line.
func (a *app) listQuery(cmd *cli.Command) (*listing.Query, error) {
	asked, err := a.conditions(cmd)
	if err != nil {
		return nil, err
	}
	kind, _ := listedKind(cmd)
	q := &listing.Query{
		What:   cmp.Or(kind, asked.Kind),
		Filter: asked.Filter,
		Under:  asked.Under, NotUnder: asked.NotUnder,
		When:  asked.Where,
		Sort:  cmd.String("sort"),
		Limit: cmd.Int("limit"),
		Bare:  cmd.Bool("names"),
	}
	if q.What != "" && listing.Kinds[q.What] == nil {
		return nil, usage("%q cannot be listed%s%s: use %s", q.What, wording.DidYouMean(q.What, listing.KindNames), a.meantWith(cmd, q.What), strings.Join(listing.KindNames, ", "))
	}
	if q.Limit < 0 {
		return nil, usage("--limit: %d is less than none", q.Limit)
	}
	for name := range strings.SplitSeq(cmd.String("columns"), ",") {
		if name = strings.TrimSpace(name); name != "" {
			q.Columns = append(q.Columns, name)
		}
	}
	return q, nil
}

// listResult writes a list.
func (a *app) listResult(l *listing.List, q *listing.Query, st render.Style) *result {
	everything := slices.Equal(q.Columns, []string{listing.All})
	parts := func() []sheet.Sheet { return []sheet.Sheet{l.Sheet} }
	table := func(w io.Writer, st render.Style) {
		if everything {
			render.Records(w, &l.Sheet, st)
		} else if len(l.Sheet.Rows) > 0 {
			render.SheetTable(w, render.ByName(&l.Sheet), st)
		}
		end := render.ListEnd(l, st)
		if !st.Whole {
			end = render.Wrap(end, st.Width, "  ")
		}
		fmt.Fprintln(w, end)
	}
	return &result{style: st, table: table, parts: parts, names: func() []string { return render.EntryNames(l.Entries) }, rows: func() *sheet.Sheet { return &l.Sheet }, write: map[string]func(io.Writer) error{
		formatJSON:  func(w io.Writer) error { return render.ListJSON(w, l) },
		formatJSONL: func(w io.Writer) error { return render.SheetJSONL(w, &l.Sheet) },
		formatXLSX:  func(w io.Writer) error { return render.XLSX(w, parts(), st) },
		formatHTML:  func(w io.Writer) error { return a.writePage(w, render.ListPage(l, st.Zone, a.now())) },
		formatLDIF: func(w io.Writer) error {
			out := ldif.NewWriter(w)
			for i := range l.Entries {
				if err := out.Write(&l.Entries[i]); err != nil {
					return err
				}
			}
			return out.Flush()
		},
	}}
}

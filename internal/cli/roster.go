package cli

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"yardbroom/internal/render"
	"yardbroom/internal/roster"
	"yardbroom/internal/wording"
	"yardbroom/internal/work"
)

func (a *app) rosterCommand() *cli.Command {
	return &cli.Command{
		Name: "roster", Usage: "the rosters of a yard that are kept: list, and go back to an earlier one",
		Commands: []*cli.Command{
			{Name: "list", Usage: "the last ten rosters that were taken over", Flags: fromFlags(), Action: a.rosterList},
			{
				Name: "use", Usage: "go back to a roster, by its number in the list", ArgsUsage: "NUMBER",
				Flags: fromFlags(), Action: a.rosterUse,
			},
		},
	}
}

// rostersOf opens a yard and reads which rosters of it are kept.
func (a *app) rostersOf(ctx context.Context, cmd *cli.Command) (*work.Place, []work.KeptRoster, error) {
	p, err := a.work.Open(ctx, from(cmd))
	if err != nil {
		return nil, nil, err
	}
	all, err := a.work.Rosters(ctx, p)
	if err != nil {
		p.Close()
		return nil, nil, err
	}
	return p, all, nil
}

func (a *app) rosterList(ctx context.Context, cmd *cli.Command) error {
	if err := a.noArguments(cmd); err != nil {
		return err
	}
	p, all, err := a.rostersOf(ctx, cmd)
	if err != nil {
		return err
	}
	defer p.Close()
	if len(all) == 0 {
		a.note("no roster of this yard is kept: \"yardbroom reconcile --roster FILE\" gives it one")
		return nil
	}
	var rows [][]string
	for i, r := range all {
		used := ""
		if r.InUse {
			used = "yes"
		}
		rows = append(rows, []string{strconv.Itoa(i + 1), used, wording.Moment(r.TakenOver, p.Zone()), render.Visible(r.Source), strconv.Itoa(r.Rows), r.Form})
	}
	render.Table(a.out, a.style(p.Zone()), []string{"#", "In use", "Taken over", "From", "Entries", "Form"}, rows, 5, 3)
	return nil
}

func (a *app) rosterUse(ctx context.Context, cmd *cli.Command) error {
	n, err := strconv.Atoi(cmd.Args().First())
	if err != nil || cmd.Args().Len() != 1 {
		return usage("give the number of a roster; \"yardbroom roster list\" shows them")
	}
	p, all, err := a.rostersOf(ctx, cmd)
	if err != nil {
		return err
	}
	defer p.Close()
	if n < 1 || n > len(all) {
		return usage("there is no roster %d: %s kept", n, wording.Are(len(all), "roster"))
	}
	one := &all[n-1]
	if err := a.work.UseRoster(ctx, p, one); err != nil {
		return err
	}
	fmt.Fprintf(a.out, "The last roster of this yard is now %s, %s, taken over first on %s. Who has which account is told anew by: yardbroom reconcile\n",
		render.Visible(one.Source), wording.Count(one.Rows, "row"), wording.Moment(one.TakenOver, p.Zone()))
	return nil
}

// rosterFlags say which list of people to compare with, and how to read it.
func rosterFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{
			Name:  "roster",
			Usage: "HR's list of people: a `FILE` (CSV, TSV, XLSX, JSON or SCIM; - for standard input), or the https:// address of a SCIM service (default: the last one of the yard)",
		},
		&cli.StringFlag{
			Name:  "roster-token-file",
			Usage: "`FILE` whose first line is the bearer token for the service",
		},
		&cli.StringSliceFlag{
			Name:  "map",
			Usage: "`FIELD=COLUMN`: which column is what, by header or number; the fields are " + roster.FieldNames,
		},
		&cli.StringFlag{Name: "sheet", Usage: "the `NAME` of the sheet, in a workbook (default: the first)"},
		&cli.StringFlag{
			Name:  "encoding",
			Usage: "the `ENCODING` of a text file, such as windows-1251 (default: found out)",
		},
		&cli.StringFlag{
			Name:  "dates",
			Usage: "how dates are written where they leave it open: `ORDER` day-first, month-first or year-first",
		},
	}
}

// noRosterFlag keeps the last roster of the yard out.
func noRosterFlag() cli.Flag {
	return &cli.BoolFlag{Name: "no-roster", Usage: "do not compare with the last roster of the yard"}
}

// rosterFrom is the list of people that the flags mean.
func rosterFrom(cmd *cli.Command) (work.RosterFrom, error) {
	list := work.RosterFrom{
		Where:     cmd.String("roster"),
		None:      cmd.Bool("no-roster"),
		TokenFile: cmd.String("roster-token-file"),
		Sheet:     cmd.String("sheet"),
		Encoding:  cmd.String("encoding"),
		Dates:     cmd.String("dates"),
		Map:       map[roster.Field]string{},
	}
	if list.Where == "-" && cmd.String("from") == "-" {
		return list, usage("standard input can be the directory or the roster, not both")
	}
	for _, text := range cmd.StringSlice("map") {
		name, column, ok := strings.Cut(text, "=")
		if !ok || column == "" {
			return list, usage("--map: %q is not FIELD=COLUMN, such as person-id=\"Badge no\"", text)
		}
		f, err := roster.ParseField(name)
		if err != nil {
			return list, usage("--map: %w", err)
		}
		if list.Map[f] != "" {
			return list, usage("--map: %s is given twice", name)
		}
		list.Map[f] = column
	}
	return list, nil
}

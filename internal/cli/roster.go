package cli

import (
	"strings"

	"github.com/urfave/cli/v3"

	"yardbroom/internal/roster"
	"yardbroom/internal/work"
)

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

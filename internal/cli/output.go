package cli

import (
	"bufio"
	"cmp"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"yardbroom/internal/render"
	"yardbroom/internal/sheet"
	"yardbroom/internal/whole"
	"yardbroom/internal/wording"
)

// formats of the results that people and programs take.
const (
	formatTable = "table"
	formatCSV   = "csv"
	formatTSV   = "tsv"
	formatJSON  = "json"
	formatJSONL = "jsonl"
	formatXLSX  = "xlsx"
	formatHTML  = "html"
	formatLDIF  = "ldif"
	formatNames = "names" // one account a line
)

// allFormats are those that every result can be written in.
var allFormats = []string{formatTable, formatCSV, formatTSV, formatJSON, formatJSONL, formatXLSX, formatHTML}

// byEnding tells the format that a file's name asks for.
var byEnding = map[string]string{
	".csv":    formatCSV,
	".tsv":    formatTSV,
	".tab":    formatTSV,
	".json":   formatJSON,
	".jsonl":  formatJSONL,
	".ndjson": formatJSONL,
	".xlsx":   formatXLSX,
	".html":   formatHTML,
	".htm":    formatHTML,
	".ldif":   formatLDIF,
	".ldf":    formatLDIF,
	".txt":    formatTable,
}

// outputFlags say where a result goes, and how it is written.
func outputFlags(formats []string) []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{
			Name: "format",
			Usage: "write as `FORMAT`: " + strings.Join(formats,
				", ") + " (default: table, or what the ending of --output says)",
		},
		&cli.StringSliceFlag{
			Name:  "output",
			Usage: "write to `FILE`, whole or not at all; its ending tells the format; a folder (its name ends in /) gets a file for each part; may be given several times",
		},
		&cli.StringFlag{Name: "title", Usage: "the `TITLE` of a page (html)"},
	}
}

// limitFlag bounds the rows of what is shown on a terminal.
func limitFlag(of string, usual int) cli.Flag {
	text := "two screens of a terminal"
	if usual > 0 {
		text = strconv.Itoa(usual) + " on a terminal"
	}
	return &cli.IntFlag{Name: "limit", Usage: "no more than `N` " + of + ", 0 for all (default: " + text + ", all elsewhere)"}
}

// limitOf is how many rows are shown: as many as the command line says, else on a
// terminal the usual number (0: two screens), and all elsewhere.
func (a *app) limitOf(cmd *cli.Command, st render.Style, usual int) (int, error) {
	n := cmd.Int("limit")
	switch {
	case n < 0:
		return 0, usage("--limit: %d is less than none", n)
	case cmd.IsSet("limit") || st.Screen == 0:
		return n, nil
	case usual > 0:
		return usual, nil
	}
	return max(2*st.Screen-6, 20), nil
}

// namesFlag writes the names of accounts only.
func namesFlag() cli.Flag {
	return &cli.BoolFlag{Name: "names", Usage: "write the accounts only, one a line, as other commands take them with --file -"}
}

// target is one place that a result goes to.
type target struct {
	path   string // "" means standard output
	format string
	folder bool
}

// targets reads --format and --output, and refuses what cannot be done before
// anything is read.
func (a *app) targets(cmd *cli.Command, formats []string) ([]target, error) {
	a.title = cmd.String("title")
	format := cmd.String("format")
	if cmd.Bool("names") {
		if format != "" {
			return nil, usage("give --format or --names, not both")
		}
		format = formatNames
	} else if format != "" && !slices.Contains(formats, format) {
		return nil, usage("--format: %q is none of %s%s", format, strings.Join(formats, ", "), wording.DidYouMean(format, formats))
	}
	paths := cmd.StringSlice("output")
	if len(paths) == 0 {
		paths = []string{"-"}
	}
	var all []target
	seen := map[string]bool{}
	for _, path := range paths {
		t := target{path: path, format: cmp.Or(format, formatTable)}
		info, err := os.Stat(path)
		t.folder = path != "-" &&
			(strings.HasSuffix(path, "/") || strings.HasSuffix(path, string(filepath.Separator)) || err == nil && info.IsDir())
		ending := byEnding[strings.ToLower(filepath.Ext(path))]
		switch {
		case path == "":
			return nil, usage("--output: give the name of a file, a folder, or - for standard output")
		case path == "-":
			t.path = ""
		case format == formatNames && !t.folder:
		case t.folder:
			if t.format = cmp.Or(format, formatCSV); t.format != formatCSV && t.format != formatTSV &&
				t.format != formatJSONL {
				return nil, usage("--output %s: a folder gets a file for each part as csv, tsv or jsonl, not %s", path,
					t.format)
			}
		case ending != "" && !slices.Contains(formats, ending):
			return nil, usage("--output %s: this result cannot be written as %s: use %s", path, ending,
				strings.Join(formats, ", "))
		case ending != "" && format != "" && ending != format:
			return nil, usage("--output %s: the ending says %s, --format says %s; leave one out", path, ending, format)
		case ending != "":
			t.format = ending
		case format == "":
			return nil, usage("--output %s: the ending tells no format that can be written (%s): add --format", path,
				strings.Join(formats, ", "))
		}
		if err := placeable(&t); err != nil {
			return nil, err
		}
		if t.path == "" && t.format == formatXLSX && a.outIsTerminal() {
			return nil, usage("a workbook is not for the terminal: give --output FILE.xlsx")
		}
		key := filepath.Clean(path)
		if seen[key] {
			return nil, usage("--output %s is given twice", path)
		}
		seen[key] = true
		all = append(all, t)
	}
	return all, nil
}

// placeable refuses a target that no file or folder can be made for.
func placeable(t *target) error {
	if t.path == "" {
		return nil
	}
	place := filepath.Dir(t.path)
	if t.folder {
		place = filepath.Clean(t.path)
	}
	info, err := os.Stat(place)
	switch missing := errors.Is(err, fs.ErrNotExist); {
	case missing && t.folder: // it is made
		return nil
	case missing:
		return usage("--output %s: there is no folder %s", t.path, place)
	case err != nil:
		return usage("--output %s: %w", t.path, err)
	case !info.IsDir():
		return usage("--output %s: %s is a file, not a folder", t.path, place)
	}
	return nil
}

func (a *app) outIsTerminal() bool {
	f, ok := a.out.(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}

// result is what a command has to hand over: a writer for each format, and
// the sheets that make up its parts.
type result struct {
	write map[string]func(io.Writer) error
	rows  func() *sheet.Sheet // all of it in one sheet, for csv and tsv
	parts func() []sheet.Sheet
	// table writes it for people, in the style of the terminal or, in a file, with nothing
	// cut and no colours.
	table func(io.Writer, render.Style)
	style render.Style
	names func() []string // of the accounts in it, as commands take them
}

// writer is what writes a result to a target. CSV has the line ends of RFC 4180 in
// files, and those of other programs on standard output.
func (r *result) writer(t target) func(io.Writer) error {
	switch {
	case t.format == formatTable:
		st := r.style
		if t.path != "" {
			st = render.Style{Width: usualWidth, Whole: true, Zone: st.Zone, Limit: st.Limit}
		}
		return func(w io.Writer) error { r.table(w, st); return nil }
	case t.format == formatNames:
		return func(w io.Writer) error { return writeNames(w, r.names()) }
	case t.format == formatTSV, t.format == formatCSV && t.path != "":
		return func(w io.Writer) error { return writeSheet(w, t.format, r.rows()) }
	case t.format == formatCSV:
		return func(w io.Writer) error { return render.SheetCSVLines(w, r.rows()) }
	}
	return r.write[t.format]
}

// writeNames writes names one a line, each once.
func writeNames(w io.Writer, names []string) error {
	out, written := bufio.NewWriter(w), map[string]bool{}
	for _, name := range names {
		if name != "" && !written[name] {
			written[name] = true
			fmt.Fprintln(out, strings.NewReplacer("\n", " ", "\r", " ").Replace(name))
		}
	}
	return out.Flush()
}

// writePage writes a page, with what was asked for in its heading, and under another
// title where one is given.
func (a *app) writePage(w io.Writer, p *render.Page) error {
	p.Asked = a.asked
	if a.title != "" {
		p.Title = a.title
	}
	return p.Write(w)
}

// deliver writes a result to all its targets.
func (a *app) deliver(targets []target, r *result) error {
	for _, t := range targets {
		if t.folder {
			if err := a.deliverParts(t, r.parts()); err != nil {
				return err
			}
			continue
		}
		if err := a.result(t.path, a.shown(t, r.writer(t))); err != nil {
			return err
		}
		if t.path != "" {
			a.note("written: %s", t.path)
		}
	}
	return nil
}

// shown is a writer that shows a terminal what it would act on. A table does so
// by itself, and has colours.
func (a *app) shown(t target, write func(io.Writer) error) func(io.Writer) error {
	if t.path != "" || t.format == formatTable || !a.outIsTerminal() {
		return write
	}
	return func(w io.Writer) error {
		out := render.Shown(w)
		return errors.Join(write(out), out.Close())
	}
}

// deliverParts writes each part into a file of its own.
func (a *app) deliverParts(t target, parts []sheet.Sheet) error {
	if err := os.MkdirAll(t.path, 0o755); err != nil {
		return fmt.Errorf("writing %s: %w", t.path, err)
	}
	for i := range parts {
		path := filepath.Join(t.path, parts[i].Name+"."+t.format)
		if err := whole.Share(path, func(w io.Writer) error { return writeSheet(w, t.format, &parts[i]) }); err != nil {
			return fmt.Errorf("writing %s: %w", path, err)
		}
	}
	a.note("written: %s in %s", wording.Count(len(parts), "file"), t.path)
	return nil
}

func writeSheet(w io.Writer, format string, s *sheet.Sheet) error {
	switch format {
	case formatTSV:
		return render.SheetTSV(w, s)
	case formatJSONL:
		return render.SheetJSONL(w, s)
	}
	return render.SheetCSV(w, s)
}

package rounds

import (
	"bytes"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"yardbroom/internal/audit"
	"yardbroom/internal/directory"
	"yardbroom/internal/render"
	"yardbroom/internal/settings"
	"yardbroom/internal/sheet"
)

// file is a report as it is written.
type file struct {
	name string
	data []byte
}

func (f *file) write(w io.Writer) error {
	_, err := w.Write(f.data)
	return err
}

// name is what the files of a report are called, without their ending.
func (r *report) name(among []*report) string {
	name := r.yard + "-" + r.step
	if r.step == "list" {
		name += "-" + slug(r.title)
	}
	same := 0
	for _, other := range among {
		if other == r {
			break
		}
		if other.yard == r.yard && other.step == r.step && other.title == r.title {
			same++
		}
	}
	if same > 0 {
		name += fmt.Sprintf("-%d", same+1)
	}
	return name
}

// slug is a text as part of the name of a file.
func slug(text string) string {
	words := strings.FieldsFunc(strings.ToLower(text), func(c rune) bool { return (c < 'a' || c > 'z') && (c < '0' || c > '9') })
	return strings.Join(words[:min(len(words), 6)], "-")
}

// only is the report with the findings that are chosen; nil where it has none of
// them and is no list.
func (r *report) only(chosen func(r *report, f *audit.Finding) bool) *report {
	if r.list != nil {
		return r
	}
	pick := func(all *audit.Report) *audit.Report {
		return all.Only(func(i int) bool { return chosen(r, &all.Findings[i]) })
	}
	out := *r
	out.whole, out.shown, out.fresh = pick(r.whole), pick(r.shown), pick(r.fresh)
	if r.reconciled != nil {
		part := *r.reconciled
		part.Report = out.shown
		out.reconciled = &part
	}
	return &out
}

// reportFormats are the formats of reports.
var reportFormats = []string{"html", "csv", "xlsx", "json"}

// write writes a report in a format.
func (r *report) write(w io.Writer, format string, made time.Time) error {
	st := render.Style{Zone: r.zone}
	switch {
	case r.list != nil:
		switch format {
		case "html":
			return render.ListPage(r.list, r.zone, made).Write(w)
		case "csv":
			return render.SheetCSV(w, &r.list.Sheet)
		case "json":
			return render.ListJSON(w, r.list)
		}
		return render.XLSX(w, []sheet.Sheet{r.list.Sheet}, st)
	case r.reconciled != nil:
		part := *r.reconciled
		part.Report = r.shown
		people := &render.Reconciliation{Reconciliation: &part, Confirm: func(account, person string) string {
			return fmt.Sprintf("yardbroom link confirm %q %q", account, person)
		}}
		switch format {
		case "html":
			return written(w)(render.ReconciliationPage(people, r.zone, made))
		case "json":
			return render.ReconciliationJSON(w, people)
		case "xlsx":
			return render.XLSX(w, render.ReconciliationSheets(people), st)
		}
	}
	switch format {
	case "html":
		return written(w)(render.ReportPage(r.shown, r.trend, r.zone, made))
	case "json":
		return render.ReportJSON(w, r.shown)
	case "xlsx":
		return render.XLSX(w, render.ReportSheets(r.shown), st)
	}
	return render.SheetCSV(w, render.FindingsSheet(r.shown.Findings))
}

func written(w io.Writer) func(*render.Page, error) error {
	return func(page *render.Page, err error) error {
		if err != nil {
			return err
		}
		return page.Write(w)
	}
}

// files writes reports in some formats.
func files(reports []*report, formats []string, made time.Time) (all []file, err error) {
	for _, r := range reports {
		for _, format := range formats {
			var b bytes.Buffer
			if err := r.write(&b, format, made); err != nil {
				return nil, fmt.Errorf("%s: %w", r.title, err)
			}
			all = append(all, file{r.name(reports) + "." + format, b.Bytes()})
		}
	}
	return all, nil
}

// matches tells whether a finding is for whom a Tell names.
func matches(t *settings.Tell, f *audit.Finding) bool {
	if t.Severity != "" {
		if least, err := audit.ParseSeverity(t.Severity); err != nil || f.Severity < least {
			return false
		}
	}
	if len(t.Checks) > 0 && !slices.Contains(t.Checks, f.Check) {
		return false
	}
	return len(t.Under) == 0 || slices.ContainsFunc(t.Under, func(dn string) bool {
		return directory.Under(directory.FoldDN(f.DN), directory.FoldDN(dn))
	})
}

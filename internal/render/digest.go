package render

import (
	"bytes"
	"cmp"
	"fmt"
	"html/template"
	"io"
	"slices"
	"strings"
	"sync"

	_ "embed"

	"yardbroom/internal/audit"
	"yardbroom/internal/wording"
)

// Digest is what a mail says of a run, on a screen: first what went wrong, then
// what is new, then what waits for somebody.
type Digest struct {
	Title    string
	Subtitle string
	// Alarms are what went wrong, or was stopped, each with what to do.
	Alarms []string
	// New are the new findings, the most severe checks first; NewCount and Known
	// count all of them, and those that were told before.
	New      []DigestCheck
	Others   []DigestCheck // those that there is no room for
	NewCount int
	Known    int
	First    bool     // nothing was ever told before
	Waiting  []string // what waits for somebody
	Lists    []string // what lists hold, in words
	Hidden   []string // what could not be looked at
	Done     []string // what was done
	Reports  []Link
	Footer   string
}

// Link is something that lies elsewhere.
type Link struct{ Text, Address string }

// IsAddress tells whether a browser can go there.
func (l Link) IsAddress() bool {
	return strings.HasPrefix(l.Address, "https://") || strings.HasPrefix(l.Address, "http://")
}

// DigestCheck is the new findings of one check.
type DigestCheck struct {
	Check    string
	Severity audit.Severity
	Reports  string // what the check reports, in a line
	Count    int
	Rows     []string // some of them, in words
}

// More is how many findings are not named.
func (c DigestCheck) More() int { return c.Count - len(c.Rows) }

// digestChecks and digestRows are how many checks a digest tells of, with how many of
// their findings, so that it stays on a screen.
const (
	digestChecks = 10
	digestRows   = 22
)

// Add takes in the new findings of a report.
func (d *Digest) Add(r *audit.Report) {
	found := byCheck(r.Findings)
	d.NewCount += len(r.Findings)
	for _, sum := range r.Summary {
		c, err := r.Catalog.Named(sum.Check)
		if len(found[sum.Check]) == 0 || err != nil {
			continue
		}
		one := DigestCheck{Check: sum.Check, Severity: sum.Severity, Reports: c.Short, Count: len(found[sum.Check])}
		for i := range found[sum.Check][:min(one.Count, digestRows)] {
			one.Rows = append(one.Rows, findingLine(&found[sum.Check][i]))
		}
		d.New = append(d.New, one)
	}
}

// Fit orders the checks, the most severe first, and leaves out what there is no room
// for.
func (d *Digest) Fit() {
	slices.SortStableFunc(d.New, func(a, b DigestCheck) int { return cmp.Compare(b.Severity, a.Severity) })
	if len(d.New) > digestChecks {
		d.New, d.Others = d.New[:digestChecks], d.New[digestChecks:]
	}
	room := digestRows
	for i := range d.New {
		share := max(room/(len(d.New)-i), 1)
		rows := &d.New[i].Rows
		*rows = (*rows)[:min(len(*rows), share)]
		room -= len(*rows)
	}
}

// OthersInWords counts the findings that are not told of.
func (d *Digest) OthersInWords() string {
	n := 0
	var parts []string
	for _, c := range d.Others {
		n += c.Count
		parts = append(parts, fmt.Sprintf("%s %d", c.Check, c.Count))
	}
	return fmt.Sprintf("And %d more of other checks: %s", n, strings.Join(parts, ", "))
}

// findingLine writes a finding in a line.
func findingLine(f *audit.Finding) string {
	out := f.Account
	if place := placeOf(f); place != "" {
		out += " (" + place + ")"
	}
	if !f.Since.IsZero() && f.Days > 0 {
		out += ", " + wording.Count(f.Days, "day")
	}
	for _, e := range f.Evidence {
		if !e.Obvious() {
			out += ", " + e.Attr + " " + e.Value
			break
		}
	}
	if f.Confidence == audit.Likely {
		out += ", likely"
	}
	return Clip(Visible(out), 110)
}

// Text writes the digest for mail readers that show text.
func (d *Digest) Text(w io.Writer) error {
	const width = 76
	var b bytes.Buffer
	line := func(indent, text string) {
		fmt.Fprintln(&b, indent+Wrap(Visible(text), width-len(indent), indent+"  "))
	}
	section := func(title string, lines []string) {
		if len(lines) == 0 {
			return
		}
		fmt.Fprintf(&b, "\n%s\n", title)
		for _, text := range lines {
			line("  ", text)
		}
	}
	line("", d.Title)
	line("", d.Subtitle)
	section("Went wrong", d.Alarms)
	if len(d.New) > 0 || len(d.Alarms) == 0 {
		fmt.Fprintf(&b, "\n%s\n", d.NewTitle())
	}
	for _, c := range d.New {
		line("  ", fmt.Sprintf("%s (%s, %d): %s", c.Check, c.Severity, c.Count, c.Reports))
		for _, row := range c.Rows {
			line("      ", row)
		}
		if c.More() > 0 {
			line("      ", fmt.Sprintf("and %d more", c.More()))
		}
	}
	if len(d.Others) > 0 {
		line("  ", d.OthersInWords())
	}
	section("Waiting for somebody", d.Waiting)
	section("Lists", d.Lists)
	section("Not looked at", d.Hidden)
	section("Done", d.Done)
	var reports []string
	for _, l := range d.Reports {
		reports = append(reports, l.Text+": "+l.Address)
	}
	section("Reports", reports)
	fmt.Fprintf(&b, "\n-- \n%s\n", Visible(d.Footer))
	_, err := w.Write(b.Bytes())
	return err
}

// NewTitle is what the digest says of how much is new.
func (d *Digest) NewTitle() string {
	known := ""
	if d.First && d.NewCount > 0 {
		known = "; this is the first run, so all of it is new"
	}
	if d.Known > 0 {
		known = fmt.Sprintf("; %d known before are still there", d.Known)
	}
	if d.NewCount == 0 {
		return "Nothing new" + known
	}
	return wording.Count(d.NewCount, "new finding") + known
}

//go:embed digest.html
var digestPage string

var digestTemplate = sync.OnceValue(func() *template.Template {
	return template.Must(template.New("digest").Funcs(template.FuncMap{
		"visible": Visible,
		"colour": func(s audit.Severity) string {
			return map[audit.Severity]string{audit.High: "#b3423a", audit.Medium: "#a36a14", audit.Low: "#66743c"}[s]
		},
	}).Parse(digestPage))
})

// HTML writes the digest for mail readers that show pages. It asks for nothing
// from elsewhere.
func (d *Digest) HTML(w io.Writer) error { return digestTemplate().Execute(w, d) }

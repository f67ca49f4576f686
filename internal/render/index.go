package render

import (
	_ "embed"
	"html/template"
	"io"
	"slices"
	"sync"
	"time"

	"yardbroom/internal/wording"
)

// Index is the first page of a folder for a web server: what the latest run says, how
// the yard does over time, and the runs that are kept, newest first.
type Index struct {
	Title   string
	Latest  string // the latest run in one line
	Outcome string
	Alarm   bool
	Alarms  []string
	Waiting []string
	Days    []IndexDay
	Charts  []Chart
	Zone    *time.Location
	Made    time.Time
}

// IndexReport is one report in several formats, whose addresses are beside the page.
type IndexReport struct {
	Title string
	Files []Link
}

// IndexDay is one kept run. Findings count by severity, the most severe first. Looked is
// false where nothing could be looked at; First tells that all of it was new.
type IndexDay struct {
	Looked, First bool
	At            time.Time
	Outcome       string
	Alarm         bool
	Text          string
	Findings      [4]int
	New           int
	Reports       []IndexReport
}

// InPart tells that not all was looked at that the others have.
func (d *IndexDay) InPart() bool { return d.Alarm && d.Looked }

// Draw draws the charts, where there are days enough to show something.
func (p *Index) Draw() error {
	var lines []Line
	for i, severity := range []string{"high", "medium", "low"} {
		line := Line{Name: severity, Tone: []Tone{ToneHigh, ToneMedium, ToneLow}[i]}
		for _, d := range slices.Backward(p.Days) {
			if d.Looked && !d.Alarm { // a run that failed may not have seen all
				line.Points = append(line.Points, Point{d.At, d.Findings[i]})
			}
		}
		lines = append(lines, line)
	}
	fresh := Line{Name: "new", Tone: Plain}
	for _, d := range slices.Backward(p.Days) {
		if d.Looked && !d.First {
			fresh.Points = append(fresh.Points, Point{d.At, d.New})
		}
	}
	for _, one := range []struct {
		title string
		lines []Line
	}{{"Findings by severity", lines}, {"New findings of each run", []Line{fresh}}} {
		if len(one.lines[0].Points) < 2 {
			continue
		}
		svg, err := LineChart(one.title, one.lines, p.Zone)
		if err != nil {
			return err
		}
		p.Charts = append(p.Charts, Chart{one.title, svg})
	}
	return nil
}

//go:embed index.html
var indexPage string

var indexTemplate = sync.OnceValue(func() *template.Template {
	return template.Must(template.New("index").Funcs(template.FuncMap{
		"visible": Visible,
		"style":   func() template.CSS { return template.CSS(pageStyle) },
		"drawing": func(svg string) template.HTML { return template.HTML(svg) },
		"moment":  func(t time.Time, zone *time.Location) string { return t.In(zone).Format("2006-01-02 15:04") },
		"made":    wording.Moment,
		"zone":    zoneName,
	}).Parse(indexPage))
})

// Write writes the page. It has no script, and asks for nothing from elsewhere.
func (p *Index) Write(w io.Writer) error { return indexTemplate().Execute(w, p) }

package render

import (
	"bufio"
	"cmp"
	"crypto/sha256"
	_ "embed"
	"encoding/base64"
	"fmt"
	"html"
	"io"
	"strings"
	"time"
	"unicode/utf8"

	"yardbroom/internal/sheet"
	"yardbroom/internal/wording"
)

//go:embed page.css
var pageStyle string

//go:embed page.js
var pageScript string

// Page is a report as one HTML file that needs nothing else: no request
// leaves it, it is readable and printable without its script, and a policy in
// its head keeps anything but that script from running.
type Page struct {
	Title    string
	Subtitle string
	Asked    string // what was asked for, in words; "" for everything
	Facts    []Fact
	Charts   []Chart
	Notes    []string
	Sections []Section
	Zone     *time.Location
	Made     time.Time // when the page was written
}

// Fact is a number that stands out, with what it counts.
type Fact struct {
	Value, Label string
	Tone         Tone
}

// Chart is a drawing with its title.
type Chart struct{ Title, SVG string }

// Section is one table of the page.
type Section struct {
	ID     string
	Badge  string // a word beside the title, such as a severity
	Tone   Tone
	Lead   string // what the section is about, in a sentence
	Pairs  []Fact // facts in a list, where there is no table
	Sheet  sheet.Sheet
	Totals bool // an overview, whose first column links to sections of that name
	Open   bool
	Count  int // what the title counts, where it is not the rows
}

// chunk is how many rows stand together, so that a browser need not lay out
// those that nobody looks at.
const chunk = 200

func escape(s string) string { return html.EscapeString(Visible(s)) }

// Write writes the page.
func (p *Page) Write(w io.Writer) error {
	b := bufio.NewWriterSize(w, 1<<16)
	script := sha256.Sum256([]byte(pageScript))
	fmt.Fprintf(b, `<!doctype html>
<html lang="en"><head><meta charset="utf-8">
<meta http-equiv="Content-Security-Policy" content="default-src 'none'; style-src 'unsafe-inline'; script-src 'sha256-%s'; base-uri 'none'; form-action 'none'">
<meta name="viewport" content="width=device-width, initial-scale=1">
<meta name="referrer" content="no-referrer"><meta name="robots" content="noindex">
<title>%s</title>
<style>%s</style></head><body>
<header><h1>%s</h1><p>%s</p></header>
<main>
`, base64.StdEncoding.EncodeToString(script[:]), escape(p.Title), pageStyle, escape(p.Title), escape(p.heading()))
	if len(p.Facts) > 0 {
		b.WriteString(`<ul class="facts">`)
		for _, f := range p.Facts {
			fmt.Fprintf(b, `<li class="%s"><b>%s</b> %s`, f.Tone.class(), escape(f.Value), escape(f.Label))
		}
		b.WriteString("</ul>\n")
	}
	if len(p.Charts) > 0 {
		b.WriteString(`<div class="charts">`)
		for _, c := range p.Charts {
			fmt.Fprintf(b, "<figure><figcaption>%s</figcaption>%s</figure>\n", escape(c.Title), c.SVG)
		}
		b.WriteString("</div>\n")
	}
	for i := range p.Sections {
		p.section(b, &p.Sections[i])
	}
	if len(p.Notes) > 0 {
		b.WriteString(`<section class="notes"><h2>Notes</h2><ul>`)
		for _, n := range p.Notes {
			fmt.Fprintf(b, "<li>%s", escape(n))
		}
		b.WriteString("</ul></section>\n")
	}
	fmt.Fprintf(b,
		"</main>\n<footer>Made by Yard Broom, %s. Times are in %s.</footer>\n<script>%s</script></body></html>\n",
		escape(wording.Moment(p.Made, p.Zone)), escape(zoneName(p.Zone, p.Made)), pageScript)
	return b.Flush()
}

func zoneName(loc *time.Location, at time.Time) string { return at.In(loc).Format("MST (-07:00)") }

func (t Tone) class() string { return [...]string{"plain", "low", "medium", "high"}[t] }

func (p *Page) section(b *bufio.Writer, s *Section) {
	open := ""
	if s.Open {
		open = " open"
	}
	fmt.Fprintf(b, `<details class="section" id="%s"%s><summary><h2>%s</h2>`, escape(s.ID), open, escape(s.Sheet.Title))
	if s.Badge != "" {
		fmt.Fprintf(b, ` <span class="badge %s">%s</span>`, s.Tone.class(), escape(s.Badge))
	}
	if !s.Totals && len(s.Pairs) == 0 {
		fmt.Fprintf(b, ` <span class="count">%d</span>`, cmp.Or(s.Count, len(s.Sheet.Rows)))
	}
	b.WriteString("</summary>\n")
	if s.Lead != "" {
		fmt.Fprintf(b, "<p>%s</p>\n", escape(s.Lead))
	}
	if len(s.Pairs) > 0 {
		b.WriteString("<dl>")
		for _, f := range s.Pairs {
			fmt.Fprintf(b, `<dt>%s<dd class="%s">%s`, escape(f.Label), f.Tone.class(), escape(f.Value))
		}
		b.WriteString("</dl>\n")
	}
	if len(s.Sheet.Columns) > 0 && len(s.Sheet.Rows) > 0 {
		p.table(b, s)
	}
	b.WriteString("</details>\n")
}

// table writes the rows in chunks: tables of their own with the same widths.
func (p *Page) table(b *bufio.Writer, s *Section) {
	class := "rows"
	if s.Totals {
		class = "rows totals"
	}
	fmt.Fprintf(b, `<div class="%s" role="table" aria-label="%s"><div class="scroll">`, class, escape(s.Sheet.Title))
	cols, least := columnShares(&s.Sheet)
	fmt.Fprintf(b, `<table class="head" style="min-width:%dpx">%s<thead><tr>`, least, cols)
	for i := range s.Sheet.Columns {
		fmt.Fprintf(b, `<th scope="col" class="%s">%s`, s.Sheet.Columns[i].Kind, escape(s.Sheet.Columns[i].Heading()))
	}
	b.WriteString("</thead></table>\n")
	for at := 0; at < len(s.Sheet.Rows); at += chunk {
		rows := s.Sheet.Rows[at:min(at+chunk, len(s.Sheet.Rows))]
		fmt.Fprintf(b, `<div class="chunk" style="contain-intrinsic-size:auto %dpx"><table style="min-width:%dpx">%s<tbody>`, 30*len(rows), least, cols)
		for _, row := range rows {
			b.WriteString("\n<tr>")
			for i, cell := range row {
				p.cell(b, s, i, cell)
			}
		}
		b.WriteString("</tbody></table></div>\n")
	}
	b.WriteString("</div></div>\n")
}

// cell writes a cell; times carry the value that they sort by.
func (p *Page) cell(b *bufio.Writer, s *Section, at int, cell any) {
	column := &s.Sheet.Columns[at]
	switch v := cell.(type) {
	case time.Time:
		fmt.Fprintf(b, `<td data-v="%s">%s`, v.UTC().Format(time.RFC3339), v.In(p.Zone).Format("2006-01-02 15:04"))
	case int:
		fmt.Fprintf(b, `<td class="number">%d`, v)
	case nil:
		b.WriteString("<td>")
	default:
		text := escape(sheet.TextOf(cell))
		if truth, ok := cell.(bool); ok {
			text = map[bool]string{true: "yes", false: "no"}[truth]
		}
		text = breakable(text)
		if s.Totals && at == 0 {
			text = `<a href="#` + text + `">` + text + "</a>"
		}
		if column.Name == "severity" {
			text = `<span class="` + text + `">` + text + "</span>"
		}
		if column.Key {
			text = "<b>" + text + "</b>"
		}
		b.WriteString("<td>" + text)
	}
}

// breakable lets a value break where people would break it: names between their parts,
// addresses behind the @, places behind the /.
func breakable(text string) string {
	if strings.Contains(text, "=") {
		text = strings.ReplaceAll(text, ",", ",<wbr>")
	}
	return strings.NewReplacer("@", "@<wbr>", "/", "/<wbr>").Replace(text)
}

// longestPart is how many characters the longest part of a text has that does not break.
func longestPart(text string) (most int) {
	for part := range strings.FieldsFuncSeq(text, func(r rune) bool { return strings.ContainsRune(" ,@/-", r) }) {
		most = max(most, utf8.RuneCountInString(part)+1)
	}
	return most
}

// The width of a character in pixels, and what stands around the text of a cell.
const (
	charWidth  = 8
	cellMargin = 30
)

// columnShares gives each column a share of the width by what its first rows
// hold, and says how wide all of them have to be at least, in pixels, so that no word
// breaks.
func columnShares(s *sheet.Sheet) (cols string, least int) {
	widths, words := make([]int, len(s.Columns)), make([]int, len(s.Columns))
	total := 0
	for i := range s.Columns {
		widths[i] = int(columnWidth(&s.Columns[i], s.Rows, i))
		if s.Columns[i].Kind == sheet.Time {
			widths[i] = min(widths[i], 19)
		}
		widths[i] = max(min(widths[i], 44), 6) + 3      // for what stands around the text
		word := longestPart(s.Columns[i].Heading()) + 2 // with the mark that sorts
		for _, row := range s.Rows[:min(chunk, len(s.Rows))] {
			if _, is := row[i].(time.Time); !is {
				word = max(word, min(longestPart(sheet.TextOf(row[i])), 60))
			}
		}
		widths[i] = max(widths[i], word+3)
		if s.Columns[i].Key {
			widths[i] += widths[i] / 3 // it is bold
		}
		total += widths[i]
		words[i] = word
	}
	for i, n := range widths {
		least = max(least, (words[i]*charWidth+cellMargin)*total/n) // of the whole, for this column's share to do
	}
	var b strings.Builder
	b.WriteString("<colgroup>")
	for _, n := range widths {
		fmt.Fprintf(&b, `<col style="width:%.1f%%">`, float64(n)*100/float64(total))
	}
	return b.String() + "</colgroup>", least
}

// heading is what stands below the title: what was asked for, and of what.
func (p *Page) heading() string {
	if p.Asked == "" {
		return p.Subtitle
	}
	return "Asked for: " + p.Asked + ". " + p.Subtitle
}

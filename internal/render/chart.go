package render

import (
	"bytes"
	"cmp"
	"fmt"
	"html"
	"image/color"
	"slices"
	"strconv"
	"strings"
	"time"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/text"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
	"gonum.org/v1/plot/vg/vgsvg"

	"yardbroom/internal/pattern"
)

// Bar is one bar of a chart.
type Bar struct {
	Label string
	Value int
	Tone  Tone
}

// Tone tells what a bar's colour means.
type Tone int

// The tones.
const (
	Plain Tone = iota
	ToneLow
	ToneMedium
	ToneHigh
)

// The colours that stand in a drawing for those that the page's style gives,
// since a page has a light and a dark side.
var tones = map[Tone]color.RGBA{
	Plain:      {1, 2, 1, 255},
	ToneLow:    {1, 2, 2, 255},
	ToneMedium: {1, 2, 3, 255},
	ToneHigh:   {1, 2, 4, 255},
}

var (
	ink   = color.RGBA{1, 2, 8, 255}
	faint = color.RGBA{1, 2, 9, 255}
)

var styled = strings.NewReplacer("#010201", "var(--bar)", "#010202", "var(--low)", "#010203", "var(--medium)",
	"#010204", "var(--high)", "#010208", "var(--ink)", "#010209", "var(--faint)")

// BarChart draws bars as SVG to stand in a page, whose style gives the
// colours: lying under each other from the top down, or standing side by
// side. label says what the chart shows, for those who do not see it.
func BarChart(label string, bars []Bar, lying bool) (string, error) {
	p := plot.New()
	p.BackgroundColor = color.Transparent
	values := make(plotter.Values, 0, len(bars))
	names := make([]string, 0, len(bars))
	if lying {
		bars = slices.Clone(bars)
		slices.Reverse(bars) // a chart counts from the bottom up
	}
	most := 1
	for _, b := range bars {
		values = append(values, float64(b.Value))
		names = append(names, Clip(Visible(b.Label), 34))
		most = max(most, b.Value)
	}
	const width, thick = 460, 14
	height := vg.Length(300)
	if lying {
		height = vg.Length(24*len(bars) + 28)
	}
	for i, b := range bars {
		// One bar a chart object, each with its tone; the others stay empty.
		one := make(plotter.Values, len(bars))
		one[i] = values[i]
		chart, err := plotter.NewBarChart(one, vg.Points(thick*barScale(lying)))
		if err != nil {
			return "", err
		}
		chart.Horizontal, chart.Color, chart.LineStyle.Width = lying, tones[b.Tone], 0
		p.Add(chart)
	}
	if err := addValues(p, bars, values, lying, most); err != nil {
		return "", err
	}
	style(p, names, lying, most)
	c := vgsvg.NewWith(vgsvg.UseWH(width, height), vgsvg.EmbedFonts(false))
	p.Draw(draw.New(c))
	var b bytes.Buffer
	if _, err := c.WriteTo(&b); err != nil {
		return "", err
	}
	return inline(b.String(), label), nil
}

func barScale(lying bool) float64 {
	if lying {
		return 1
	}
	return 2.4
}

// addValues writes the number beside each bar.
func addValues(p *plot.Plot, bars []Bar, values plotter.Values, lying bool, most int) error {
	at := plotter.XYLabels{}
	for i := range bars {
		xy := plotter.XY{X: float64(i), Y: values[i] + float64(most)*0.015}
		if lying {
			xy.X, xy.Y = xy.Y, xy.X
		}
		at.XYs = append(at.XYs, xy)
		at.Labels = append(at.Labels, fmt.Sprint(bars[i].Value))
	}
	labels, err := plotter.NewLabels(at)
	if err != nil {
		return err
	}
	for i := range labels.TextStyle {
		s := &labels.TextStyle[i]
		s.Color, s.Font.Variant, s.Font.Size = ink, "Sans", vg.Points(11)
		if s.YAlign = text.YCenter; !lying {
			s.XAlign, s.YAlign = text.XCenter, text.YBottom
		}
	}
	p.Add(labels)
	return nil
}

func style(p *plot.Plot, names []string, lying bool, most int) {
	count, name := &p.Y, &p.X
	if lying {
		count, name = &p.X, &p.Y
		p.NominalY(names...)
	} else {
		p.NominalX(names...)
	}
	count.Min, count.Max = 0, float64(most)*1.12
	count.Tick.Marker = plot.ConstantTicks(nil)
	count.LineStyle.Width = 0
	name.Padding = 2
	name.LineStyle.Color, name.Tick.LineStyle.Width, name.Tick.Length = faint, 0, 0
	name.LineStyle.Width = vg.Points(1)
	for _, axis := range []*plot.Axis{count, name} {
		axis.Tick.Label.Color, axis.Tick.Label.Font.Variant, axis.Tick.Label.Font.Size = ink, "Sans", vg.Points(11)
	}
}

var (
	prolog = pattern.Lazy(`(?s)^.*?<svg `)
	size   = pattern.Lazy(`width="[^"]*" height="[^"]*"`)
	fonts  = pattern.Lazy(`font-family:[^;"]*;?`)
	words  = pattern.Lazy(`(?s)<text ([^>]*font-size:([0-9.]+)px[^>]*)>([^<]*)</text>`)
)

// inline makes a drawing part of a page: no prolog, a size that gives way,
// the page's font and colours.
func inline(svg, label string) string {
	svg = prolog().ReplaceAllString(svg, "<svg ")
	head, rest, _ := strings.Cut(svg, ">")
	head = size().ReplaceAllString(head, "")
	head = strings.ReplaceAll(head, "\n", " ")
	svg = head + ` role="img" aria-label="` + escape(label) + `">` + rest
	// Each text gets the width that it was given room for, whatever font the
	// reader's machine has.
	svg = words().ReplaceAllStringFunc(svg, func(element string) string {
		m := words().FindStringSubmatch(element)
		points, err := strconv.ParseFloat(m[2], 64)
		if err != nil {
			return element
		}
		face := font.DefaultCache.Lookup(font.Font{Typeface: plot.DefaultFont.Typeface, Variant: "Sans"},
			vg.Points(points))
		width := face.Width(html.UnescapeString(m[3]))
		return fmt.Sprintf(`<text %s textLength="%.1f" lengthAdjust="spacingAndGlyphs">%s</text>`, m[1], width.Points(),
			m[3])
	})
	return styled.Replace(fonts().ReplaceAllString(svg, ""))
}

// Point is a number at a time.
type Point struct {
	At    time.Time
	Value int
}

// Line is a line of a chart over time, oldest point first.
type Line struct {
	Name   string
	Tone   Tone
	Points []Point
}

// LineChart draws lines over time as SVG to stand in a page, as BarChart does. The last
// number of each line stands at its end.
func LineChart(title string, lines []Line, zone *time.Location) (string, error) {
	p := plot.New()
	p.BackgroundColor = color.Transparent
	most := 1
	said := make([]string, 0, len(lines))
	var first, last time.Time
	for _, line := range lines {
		points := make(plotter.XYs, 0, len(line.Points))
		for _, at := range line.Points {
			points = append(points, plotter.XY{X: float64(at.At.Unix()), Y: float64(at.Value)})
			most = max(most, at.Value)
			if first.IsZero() || at.At.Before(first) {
				first = at.At
			}
			if at.At.After(last) {
				last = at.At
			}
		}
		drawn, err := plotter.NewLine(points)
		if err != nil {
			return "", err
		}
		drawn.Color, drawn.Width = tones[line.Tone], vg.Points(2)
		p.Add(drawn)
		n := line.Points[len(line.Points)-1].Value
		said = append(said, fmt.Sprintf("%s %d", line.Name, n))
	}
	if err := addEnds(p, lines, most); err != nil {
		return "", err
	}
	overTime(p, first, last, most, zone)
	const width, height = 460, 240
	c := vgsvg.NewWith(vgsvg.UseWH(width, height), vgsvg.EmbedFonts(false))
	p.Draw(draw.New(c))
	var b bytes.Buffer
	if _, err := c.WriteTo(&b); err != nil {
		return "", err
	}
	label := fmt.Sprintf("%s from %s to %s, at last: %s", title, first.In(zone).Format(time.DateOnly), last.In(zone).Format(time.DateOnly),
		strings.Join(said, ", "))
	return inline(b.String(), label), nil
}

// addEnds writes each line's name and last number at its end, apart from each other.
func addEnds(p *plot.Plot, lines []Line, most int) error {
	ends := make([]plotter.XY, len(lines))
	order := make([]int, len(lines))
	for i, line := range lines {
		end := line.Points[len(line.Points)-1]
		ends[i], order[i] = plotter.XY{X: float64(end.At.Unix()), Y: float64(end.Value)}, i
	}
	slices.SortStableFunc(order, func(a, b int) int { return cmp.Compare(ends[a].Y, ends[b].Y) })
	below := -float64(most)
	at := plotter.XYLabels{}
	for _, i := range order {
		y := max(ends[i].Y, below+float64(most)*0.09)
		below = y
		at.XYs = append(at.XYs, plotter.XY{X: ends[i].X, Y: y})
		at.Labels = append(at.Labels, fmt.Sprintf(" %s %.0f", lines[i].Name, ends[i].Y))
	}
	labels, err := plotter.NewLabels(at)
	if err != nil {
		return err
	}
	for i := range labels.TextStyle {
		s := &labels.TextStyle[i]
		s.Color, s.Font.Variant, s.Font.Size, s.YAlign = ink, "Sans", vg.Points(11), text.YCenter
	}
	p.Add(labels)
	return nil
}

// overTime makes the axes: days below, numbers at the left, and room for what stands
// at the ends of the lines.
func overTime(p *plot.Plot, first, last time.Time, most int, zone *time.Location) {
	length := max(last.Sub(first), time.Hour)
	p.X.Min, p.X.Max = float64(first.Unix()), float64(first.Unix())+length.Seconds()*1.24
	days := []plot.Tick{}
	step := length / 3
	if day := 24 * time.Hour; length >= 3*day {
		step = (step + day - 1).Truncate(day) // whole days
	}
	for at := first; !at.After(first.Add(length)); at = at.Add(step) {
		layout := "2 Jan"
		if length < 48*time.Hour {
			layout = "2 Jan 15:04"
		} else if length > 300*24*time.Hour {
			layout = "Jan 2006"
		}
		days = append(days, plot.Tick{Value: float64(at.Unix()), Label: at.In(zone).Format(layout)})
	}
	p.X.Tick.Marker = plot.ConstantTicks(days)
	p.Y.Min, p.Y.Max = 0, float64(most)*1.08
	p.Y.Tick.Marker = plot.ConstantTicks([]plot.Tick{{Value: 0, Label: "0"}, {Value: float64(most), Label: fmt.Sprint(most)}})
	for _, axis := range []*plot.Axis{&p.X, &p.Y} {
		axis.LineStyle.Color, axis.LineStyle.Width, axis.Tick.LineStyle.Color = faint, vg.Points(1), faint
		axis.Tick.Label.Color, axis.Tick.Label.Font.Variant, axis.Tick.Label.Font.Size = ink, "Sans", vg.Points(11)
	}
	p.X.Padding = 2
}

// Mark is something that happened at a time.
type Mark struct {
	At   time.Time
	Tone Tone
}

// Lane is a line of a time line, with what happened on it in the order of time.
type Lane struct {
	Name  string
	Marks []Mark
}

// mostMarks of a lane are drawn: more would lie upon each other.
const mostMarks = 400

// LaneChart draws what happened when, a lane under the other, as SVG to stand in a page.
// label says what it shows, for those who do not see it.
func LaneChart(label string, lanes []Lane, zone *time.Location) (string, error) {
	p := plot.New()
	p.BackgroundColor = color.Transparent
	names := make([]string, len(lanes))
	var first, last time.Time
	for i, lane := range lanes {
		row := len(lanes) - 1 - i // a chart counts from the bottom up
		names[row] = Clip(Visible(lane.Name), 24)
		step := max(1, len(lane.Marks)/mostMarks)
		for tone := range tones {
			var at plotter.XYs
			for k := 0; k < len(lane.Marks); k += step {
				m := lane.Marks[k]
				if first.IsZero() || m.At.Before(first) {
					first = m.At
				}
				if m.At.After(last) {
					last = m.At
				}
				if m.Tone == tone {
					at = append(at, plotter.XY{X: float64(m.At.Unix()), Y: float64(row)})
				}
			}
			if len(at) == 0 {
				continue
			}
			marks, err := plotter.NewScatter(at)
			if err != nil {
				return "", err
			}
			marks.Color, marks.Radius, marks.Shape = tones[tone], vg.Points(3.2), draw.CircleGlyph{}
			p.Add(marks)
		}
	}
	overTime(p, first, last, 1, zone)
	p.X.Max = float64(first.Unix()) + max(last.Sub(first), time.Hour).Seconds()*1.02
	p.X.Min -= max(last.Sub(first), time.Hour).Seconds() * 0.02
	p.NominalY(names...)
	p.Y.Min, p.Y.Max = -0.6, float64(len(lanes))-0.4
	p.Y.Tick.LineStyle.Width, p.Y.Tick.Length, p.Y.LineStyle.Width = 0, 0, 0
	p.Y.Tick.Label.Color, p.Y.Tick.Label.Font.Variant, p.Y.Tick.Label.Font.Size = ink, "Sans", vg.Points(11)
	c := vgsvg.NewWith(vgsvg.UseWH(720, vg.Length(34*len(lanes)+44)), vgsvg.EmbedFonts(false))
	p.Draw(draw.New(c))
	var b bytes.Buffer
	if _, err := c.WriteTo(&b); err != nil {
		return "", err
	}
	return inline(b.String(), label), nil
}

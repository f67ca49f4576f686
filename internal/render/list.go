package render

import (
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"yardbroom/internal/directory"
	"yardbroom/internal/listing"
	"yardbroom/internal/sheet"
	"yardbroom/internal/wording"
)

// ListEnd says what was listed, below a table.
func ListEnd(l *listing.List, st Style) string {
	var text string
	switch name := l.Sheet.Name; name {
	case "entries":
		text = wording.Count(l.Found, "entry")
	case "people":
		text = fmt.Sprintf("%d people", l.Found)
	default:
		text = wording.Count(l.Found, name[:len(name)-1])
	}
	shown := ""
	if n := len(l.Sheet.Rows); n < l.Found {
		shown = fmt.Sprintf("; %d of them shown, --limit 0 shows all", n)
	}
	return fmt.Sprintf("%s in %s, as of %s%s", Heading(text, st), Visible(l.Survey.Source),
		wording.Moment(l.AsOf, st.Zone), shown)
}

// ListSchema is the version of the JSON shape of a list.
const ListSchema = "yardbroom/list/1"

// ColumnShape is a column of a list.
type ColumnShape struct {
	Name string     `json:"name"`
	Kind sheet.Kind `json:"kind"`
}

// ListShape is a list in JSON. Times are in UTC.
type ListShape struct {
	Schema  string        `json:"schema"`
	AsOf    time.Time     `json:"as_of"`
	Source  string        `json:"source"`
	Found   int           `json:"found"`
	Columns []ColumnShape `json:"columns"`
	Notes   []string      `json:"notes"`
	Entries []RowShape    `json:"entries"`
}

// ListJSON writes a list as one object.
func ListJSON(w io.Writer, l *listing.List) error {
	out := ListShape{
		Schema:  ListSchema,
		AsOf:    l.AsOf.UTC(),
		Source:  l.Survey.Source,
		Found:   l.Found,
		Columns: []ColumnShape{},
		Notes:   append([]string{}, l.Notes...),
		Entries: objects(&l.Sheet),
	}
	for _, c := range l.Sheet.Columns {
		out.Columns = append(out.Columns, ColumnShape{c.Name, c.Kind})
	}
	return JSON(w, out)
}

// ListPage is a list as a page.
func ListPage(l *listing.List, zone *time.Location, made time.Time) *Page {
	return &Page{Title: l.Sheet.Title, Subtitle: ListEnd(l, Style{Zone: zone}), Zone: zone, Made: made, Notes: l.Notes,
		Sections: []Section{{ID: l.Sheet.Name, Sheet: *ByName(&l.Sheet), Open: true}}}
}

// leafOf is what an entry is called, by its DN; what is no DN stays.
func leafOf(dn string) string {
	if !directory.IsDN(dn) {
		return dn
	}
	return directory.LeafValue(dn)
}

// ByName is a list with people and groups by their names, where columns hold their DNs.
func ByName(s *sheet.Sheet) *sheet.Sheet {
	out := *s
	out.Rows = slices.Clone(s.Rows)
	for i := range s.Columns {
		if !slices.Contains([]string{"manager", "secretary", "managedby", "owner", "member", "memberof"}, strings.ToLower(s.Columns[i].Name)) {
			continue
		}
		for r := range out.Rows {
			row := slices.Clone(out.Rows[r])
			switch v := row[i].(type) {
			case string:
				row[i] = leafOf(v)
			case []string:
				names := make([]string, len(v))
				for n := range v {
					names[n] = leafOf(v[n])
				}
				row[i] = names
			}
			out.Rows[r] = row
		}
	}
	return &out
}

package work

import (
	"context"
	"slices"
	"strings"

	"yardbroom/internal/directory"
	"yardbroom/internal/filter"
	"yardbroom/internal/listing"
	"yardbroom/internal/sheet"
	"yardbroom/internal/wording"
)

// refuseUnknown refuses attributes that no entry of a place has and no schema knows:
// nothing can be told from them, and they are misspelt most of the time. Option is what
// named them.
func refuseUnknown(ctx context.Context, p *Place, d *directory.Dialect, option string, names []string) error {
	for _, name := range names {
		if d.Schema().Type(name) != nil || directory.LookupAttr(name) != directory.AttrUnknown {
			continue
		}
		if server, live := p.Server(); live {
			if defined, err := server.Defined(ctx, name); err != nil || defined != nil {
				if err != nil {
					return err
				}
				continue
			}
		}
		found, err := p.Select(ctx, "("+name+"=*)", []string{"1.1"})
		if err != nil {
			return err
		}
		if len(found) == 0 {
			return Wrong("%s: no entry of %s has the attribute %s, and its schema does not know it%s", option, p.Where(), name,
				wording.DidYouMean(name, attributesLike(d)))
		}
	}
	return nil
}

// attributesLike are the names among which somebody may have meant another one: columns,
// and attributes of the schema.
func attributesLike(d *directory.Dialect) (names []string) {
	for i := range listing.Readable {
		names = append(names, listing.Readable[i].Name)
	}
	return append(names, d.Schema().AttributeNames()...)
}

// filterAttributes are the attributes that a filter looks at, none where it cannot be
// read.
func filterAttributes(text string) []string {
	f, err := filter.Parse(text)
	if text == "" || err != nil {
		return nil
	}
	return f.Attributes()
}

// shownByNone are the attributes among some that no row of a list shows.
func shownByNone(l *listing.List, names []string) []string {
	return slices.DeleteFunc(slices.Clone(names), func(name string) bool {
		at := slices.IndexFunc(l.Sheet.Columns, func(c sheet.Column) bool { return strings.EqualFold(c.Name, name) })
		return at >= 0 && slices.ContainsFunc(l.Sheet.Rows, func(row []any) bool { return row[at] != nil })
	})
}

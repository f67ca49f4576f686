package work

import (
	"context"
	"fmt"
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
		known, err := attributeKnown(ctx, p, d, name)
		if err != nil {
			return err
		}
		if !known {
			return Wrong("%s: %s", option, unknownAttribute(p, d, name))
		}
	}
	return nil
}

// attributeKnown tells whether a schema knows an attribute, or an entry has it.
func attributeKnown(ctx context.Context, p *Place, d *directory.Dialect, name string) (bool, error) {
	if d.Schema().Type(name) != nil || directory.LookupAttr(name) != directory.AttrUnknown {
		return true, nil
	}
	if server, live := p.Server(); live {
		if defined, err := server.Defined(ctx, name); err != nil || defined != nil {
			return defined != nil, err
		}
	}
	found, err := p.Select(ctx, "("+name+"=*)", []string{"1.1"})
	return len(found) > 0, err
}

// unknownAttribute says that it is not.
func unknownAttribute(p *Place, d *directory.Dialect, name string) string {
	return fmt.Sprintf("no entry of %s has the attribute %s, and its schema does not know it%s", p.Where(), name,
		wording.DidYouMean(name, attributesLike(d)))
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

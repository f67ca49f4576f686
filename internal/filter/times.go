package filter

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"yardbroom/internal/calendar"
	"yardbroom/internal/directory"
)

// Resolve writes times that stand in braces, such as
// (lastLogonTimestamp<={90d ago}), as the attribute's syntax does, so that
// any server understands the filter. A date means its first moment after
// >= and its last after <=, in the zone of now. A number that stands for "no
// time" (0, and the largest file time) fulfils no such condition. Braces
// around anything else, and values of attributes that hold no times, stay as
// they are.
func (f Filter) Resolve(d *directory.Dialect, now time.Time) (Filter, error) {
	f = f.clone()
	var wrong error
	f.walk(func(n *Filter) {
		inner, ok := braces(n.value)
		if !ok || wrong != nil {
			return
		}
		kind := d.Schema().Type(n.attr)
		timed := kind != nil && (kind.Syntax == directory.SyntaxTime || kind.FileTime || kind.Days)
		bound := calendar.First
		if n.op == opLess {
			bound = calendar.Last
		}
		t, err := calendar.ParseRelative(inner, now, bound)
		switch {
		case !timed && err == nil:
			wrong = fmt.Errorf("%s: %s is not known to hold a time, so %s means nothing there", n, n.attr, n.value)
		case !timed:
		case err != nil:
			wrong = fmt.Errorf("%s: %w", n, err)
		case n.op != opGreater && n.op != opLess:
			wrong = fmt.Errorf("%s: a time in braces goes with >= or <=, since nothing happens at exactly that moment",
				n)
		default:
			n.value = written(kind, t)
			n.exceptNever(kind)
		}
	})
	return f, wrong
}

// exceptNever leaves out of a comparison the numbers that stand for no time.
func (n *Filter) exceptNever(kind *directory.AttributeType) {
	if kind.Syntax != directory.SyntaxNumber {
		return
	}
	timed := *n
	switch {
	case n.op == opLess:
		*n = both(Filter{op: opGreater, attr: n.attr, value: "1"}, timed)
	case kind.FileTime:
		never := Filter{op: opEqual, attr: n.attr, value: strconv.FormatInt(directory.NeverExpires, 10)}
		*n = both(timed, Filter{op: opNot, children: []Filter{never}})
	}
}

func braces(value string) (inner string, ok bool) {
	inner, open := strings.CutPrefix(value, "{")
	inner, closed := strings.CutSuffix(inner, "}")
	return inner, open && closed
}

// written writes a time in an attribute's syntax.
func written(kind *directory.AttributeType, t time.Time) string {
	switch {
	case kind.FileTime:
		return directory.FormatFileTime(t)
	case kind.Days:
		return strconv.FormatInt(t.Unix()/(24*60*60), 10)
	}
	return t.UTC().Format("20060102150405") + ".0Z"
}

func (f Filter) clone() Filter {
	children := make([]Filter, len(f.children))
	for i := range f.children {
		children[i] = f.children[i].clone()
	}
	f.children = children
	return f
}

// Package listing answers the everyday questions: which entries are there
// like this, and what of them. It chooses by a filter and by plain
// conditions, and turns entries into rows of readable values.
package listing

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/antzucaro/matchr"

	"yardbroom/internal/directory"
	"yardbroom/internal/filter"
	"yardbroom/internal/parallel"
	"yardbroom/internal/settings"
	"yardbroom/internal/sheet"
	"yardbroom/internal/source"
	"yardbroom/internal/wording"
)

// Query says what to list.
type Query struct {
	What   string // one of Kinds; "" means entries of any kind
	Filter string // RFC 4515, with times in braces; "" means every entry
	Under  string // only what stands at or below this name
	// NotUnder leaves out what stands at or below these names, folded.
	NotUnder []string
	Scope    []string
	LeftOut  []string
	When     settings.Conditions
	Columns  []string // names of columns, or of attributes; none means the usual ones
	Sort     string   // a column, with - before it from the largest down
	Limit    int      // 0 means all
	AsOf     time.Time
	Fixed    bool // AsOf was asked for; else the time the entries were read at counts, where it is known
	Zone     *time.Location
	SignIns  map[directory.Key]directory.SignIn // recorded elsewhere
	Ours     map[string]directory.OurSteps      // of our journal, by raw identity
	Ordinary bool                               // nothing that is built in
	Bare     bool                               // entries come too, with their DN and what they are called only
	Whole    bool                               // entries come with all that is stored of them
}

// List is what was found.
type List struct {
	Sheet   sheet.Sheet
	Entries []directory.Entry // whole, where All is set or an LDIF file is wanted
	Survey  *directory.Survey // what the entries were judged in
	AsOf    time.Time
	Found   int // how many there are, whatever the limit
	Untold  int // of how many more it cannot be told whether they are meant
	Notes   []string
}

// Kinds are what can be listed, and of which kinds they are.
var Kinds = map[string][]directory.Kind{
	"users":     {directory.KindUser, directory.KindResource},
	"people":    {directory.KindUser},
	"services":  {directory.KindService},
	"computers": {directory.KindComputer},
	"groups":    {directory.KindGroup},
	"contacts":  {directory.KindContact},
	"units":     {directory.KindOU},
	"accounts":  {directory.KindUser, directory.KindService, directory.KindComputer, directory.KindResource},
}

// KindNames are the names of Kinds in the order to show them.
var KindNames = []string{"users", "people", "services", "computers", "groups", "contacts", "units", "accounts"}

// selecting are filters that give at least the entries of a kind on a live
// server, so that not all have to be read.
var selecting = map[string]string{
	"users":     source.AccountFilter,
	"people":    source.AccountFilter,
	"accounts":  source.AccountFilter,
	"services":  "(|(objectClass=msDS-ManagedServiceAccount)(objectClass=msDS-GroupManagedServiceAccount))",
	"computers": "(objectClass=computer)",
	"groups":    source.GroupFilter,
	"contacts":  "(objectClass=contact)",
	"units":     "(objectClass=organizationalUnit)",
}

// Selecting is a filter that selects at least the entries of a kind, every entry for
// "".
func Selecting(kind string) string { return cmp.Or(selecting[kind], "(objectClass=*)") }

// UsageError is an error in the query itself.
type UsageError struct{ error }

func wrong(format string, args ...any) error { return UsageError{fmt.Errorf(format, args...)} }

// view is one entry as the columns see it.
type view struct {
	entry  *directory.Entry
	acc    *directory.Account
	survey *directory.Survey
	groups *memberships // where a column needs them
	asOf   time.Time
}

// Run lists what a query asks for. whole keeps the entries themselves too.
func Run(ctx context.Context, from source.Source, q Query) (*List, error) {
	if err := q.Check(); err != nil {
		return nil, err
	}
	frame, p, err := q.frame(ctx, from)
	if err != nil {
		return nil, err
	}
	out := &List{Survey: frame, AsOf: q.AsOf}
	text, err := q.text(frame.Dialect, out)
	if err != nil {
		return nil, err
	}
	rows := collector{query: &q, frame: frame, columns: p.all(), whole: q.Whole || p.everything}
	if rows.holds, err = q.conditions(ctx, from, frame); err != nil {
		return nil, err
	}
	sel := source.Selection{Filter: text, Under: q.Under, Rights: q.judged(p.all())}
	if !rows.whole {
		sel.Attributes = q.attributes(frame.Dialect, p.all())
	}
	if q.groups(p.all()) {
		rows.groups = membershipsOf(frame)
	}
	if q.byAccounts() {
		sel.Among = rows.among()
	}
	if err := from.Each(ctx, sel, rows.begin, rows.make, rows.keep); err != nil {
		return nil, err
	}
	if err := rows.seenEnough(); err != nil {
		return nil, err
	}
	if q.Under != "" && len(rows.rows) == 0 {
		if there, err := from.Get(ctx, []string{q.Under}); err != nil || len(there) == 0 {
			return nil, cmp.Or(err, fmt.Errorf("no entry %s in %s", q.Under, from.Where()))
		}
	}
	out.fill(&rows, p)
	return out, nil
}

// Check refuses a query that no directory can answer: of a kind, columns or a
// filter that there are not.
func (q *Query) Check() error {
	if q.What != "" && Kinds[q.What] == nil {
		return wrong("%q cannot be listed%s: use %s", q.What, wording.DidYouMean(q.What, KindNames), strings.Join(KindNames, ", "))
	}
	if q.Filter != "" {
		if _, err := filter.Parse(q.Filter); err != nil {
			return UsageError{err}
		}
	}
	_, err := q.plan(directory.AD) // columns are the same on every dialect
	return err
}

// Misspelt is the first column that no usual directory has as an attribute and that is
// nearly the name of a readable one, and that name; "" where there is none. Directories
// have attributes of their own, so other names may be right.
func (q *Query) Misspelt() (name, meant string) {
	for _, attr := range q.Attributes() {
		if slices.ContainsFunc(slices.Collect(maps.Values(directory.Dialects)), func(d *directory.Dialect) bool { return d.Schema().Type(attr) != nil }) {
			continue
		}
		for _, c := range Readable {
			if matchr.OSA(strings.ToLower(attr), strings.ToLower(c.Name)) <= 2 {
				return attr, c.Name
			}
		}
	}
	return "", ""
}

// AskDates tells whether the answer depends on since when something is so.
func (q *Query) AskDates() bool {
	p, err := q.plan(directory.AD)
	return err == nil && (q.When.AskDates() || slices.ContainsFunc(p.all(), func(c column) bool { return c.dated }))
}

// Attributes are those of the columns that are attributes of entries.
func (q *Query) Attributes() (names []string) {
	p, err := q.plan(directory.AD)
	if err != nil {
		return nil
	}
	for _, c := range p.columns {
		if c.raw != "" {
			names = append(names, c.raw)
		}
	}
	return names
}

// SortedBy is the attribute that is sorted by, "" where that is something else.
func (q *Query) SortedBy() string {
	p, err := q.plan(directory.AD)
	if err != nil {
		return ""
	}
	return p.by.raw
}

// frame reads what the answer depends on besides the entries, and plans the
// columns by the dialect that this tells.
func (q *Query) frame(ctx context.Context, from source.Source) (*directory.Survey, *plan, error) {
	p, err := q.plan(directory.AD) // what is needed is the same on every dialect
	if err != nil {
		return nil, nil, err
	}
	frame, err := from.Frame(
		ctx,
		source.Need{
			Policies: q.judged(p.all()),
			Groups:   q.groupsAsked() || q.groups(p.all()),
			SignIns:  q.signIns(p.all()),
			Accounts: q.byAccounts(),
		},
	)
	if err != nil {
		return nil, nil, err
	}
	frame.Elsewhere, frame.Ours = q.SignIns, q.Ours
	if !q.Fixed && !frame.Taken.IsZero() {
		q.AsOf = frame.Taken
	}
	p, err = q.plan(frame.Dialect)
	return frame, p, err
}

// fill sorts the rows, cuts them to the limit and makes a sheet of them.
func (l *List) fill(rows *collector, p *plan) {
	q := rows.query
	if p.everything {
		p.columns = allColumns(rows.rows, rows.frame.Dialect)
		rows.columns = p.all()
		rows.cells()
	}
	rows.sort(len(p.columns), p.descending)
	l.Found, l.Untold = len(rows.rows), rows.untold
	shown := rows.rows
	if q.Limit > 0 {
		shown = shown[:min(q.Limit, len(shown))]
	}
	name := cmp.Or(q.What, "entries")
	l.Sheet = sheet.Sheet{Name: name, Title: strings.ToUpper(name[:1]) + name[1:]}
	for _, c := range p.columns {
		l.Sheet.Columns = append(l.Sheet.Columns, c.Column)
	}
	for _, r := range shown {
		l.Sheet.Rows = append(l.Sheet.Rows, r.cells[:len(p.columns)])
		if rows.whole || q.Bare {
			l.Entries = append(l.Entries, r.entry)
		}
	}
}

// text is the filter to send: the asked one, with its times written out, and
// one for the kind.
func (q *Query) text(d *directory.Dialect, out *List) (string, error) {
	kind := Selecting(q.What)
	if q.Filter == "" {
		return kind, nil
	}
	asked, err := filter.Parse(q.Filter)
	if err == nil {
		asked, err = asked.Resolve(d, q.AsOf.In(q.Zone))
	}
	if err != nil {
		return "", wrong("--filter: %w", err)
	}
	if out.Notes, err = doubts(asked, d); err != nil {
		return "", wrong("--filter: %w", err)
	}
	if q.What == "" {
		return asked.String(), nil
	}
	return "(&" + kind + asked.String() + ")", nil
}

// doubts tells what somebody who asks a filter may want to know of it. One on
// secrets is refused: by asking often enough it would tell them.
func doubts(asked filter.Filter, d *directory.Dialect) (notes []string, err error) {
	for _, name := range asked.Attributes() {
		if directory.IsSecret(name) {
			return nil, directory.SecretError(name)
		}
	}
	m, err := asked.For(d, nil)
	if err != nil {
		return nil, err
	}
	for _, condition := range m.Odd() {
		notes = append(notes, "nothing can fulfil "+condition+": the attribute never has such a value")
	}
	for _, name := range m.Unknown() {
		notes = append(
			notes,
			fmt.Sprintf(
				"the filter names %s, which servers do not know unless their schema was extended: is it spelt right?",
				name),
		)
	}
	return notes, nil
}

// signIns tells whether the answer depends on sign-ins, which other servers
// may know more of.
func (q *Query) signIns(cols []column) bool {
	return q.When.AskSignIns() || slices.ContainsFunc(cols, func(c column) bool { return c.signIns })
}

// groups tells whether a column names groups.
func (q *Query) groups(cols []column) bool {
	return slices.ContainsFunc(cols, func(c column) bool { return c.groups })
}

// groupsAsked tells whether a condition is about groups.
func (q *Query) groupsAsked() bool { return q.When.Looked().MemberOf != "" }

// judged tells whether the answer depends on the policies of the directory.
func (q *Query) judged(cols []column) bool {
	return !q.When.Empty() || slices.ContainsFunc(cols, func(c column) bool { return c.judged })
}

// attributes are what has to be asked for.
func (q *Query) attributes(d *directory.Dialect, cols []column) []string {
	var names []string
	worked := q.What != "" || !q.When.Empty()
	for _, c := range cols {
		if c.raw != "" {
			names = append(names, c.raw)
		} else {
			worked = worked || !c.light
			names = append(names, c.also...)
		}
	}
	if q.What == "people" {
		names = append(names, "givenName", "employeeID", "employeeNumber")
	}
	if d == directory.AD && (q.When.AskDates() || slices.ContainsFunc(cols, func(c column) bool { return c.dated })) {
		names = append(names, directory.AttrReplPropertyMetaData.String())
	}
	if worked {
		names = append(names, d.Attributes(directory.AttrSet{})...)
	}
	return names
}

// row is one entry and its cells.
type row struct {
	entry directory.Entry // whole where it is kept
	cells []any
	dn    string
}

// collector makes rows of entries as they come.
type collector struct {
	query   *Query
	frame   *directory.Survey
	groups  *memberships
	columns []column
	holds   func(*view) filter.Truth
	whole   bool
	rows    []*row
	untold  int // entries of which it cannot be told whether they are meant
	seen    map[directory.Kind]directory.AttrSet
	kinds   map[directory.Kind]int
	passed  map[directory.Kind]int // accounts of the frame, where it chose which are read
}

// made is what one entry gives: what it shows, and a row if it is meant.
type made struct {
	row     *row
	untold  bool
	kind    directory.Kind
	present directory.AttrSet
}

func (c *collector) begin() {
	c.rows, c.untold, c.seen, c.kinds = nil, 0, map[directory.Kind]directory.AttrSet{}, map[directory.Kind]int{}
	maps.Copy(c.kinds, c.passed)
}

// byAccounts tells whether accounts are chosen by conditions only, so that a survey may
// choose them before their entries are read.
func (q *Query) byAccounts() bool {
	return slices.ContainsFunc(Kinds[q.What], directory.Kind.IsAccount) &&
		q.Filter == "" && !q.When.Empty()
}

// among chooses among the accounts of the frame those whose entries have to be looked at,
// and takes note that the others were seen. It returns nil where the frame holds none.
func (c *collector) among() map[directory.Key]bool {
	if c.frame.Accounts.Len() == 0 {
		return nil
	}
	parts := c.frame.Accounts.Parts()
	found := make([][]directory.Key, len(parts))
	parallel.Do(len(parts), func(_, i int) {
		for k := range parts[i] {
			a := &parts[i][k]
			if slices.Contains(Kinds[c.query.What], a.Kind) && c.holds(&view{acc: a}) != filter.False {
				found[i] = append(found[i], a.Key)
			}
		}
	})
	chosen := map[directory.Key]bool{}
	for _, keys := range found {
		for _, key := range keys {
			chosen[key] = true
		}
	}
	c.passed = map[directory.Kind]int{}
	for kind, n := range c.frame.Count {
		if selectedWith(c.query.What, directory.Kind(kind)) {
			c.passed[directory.Kind(kind)] = n
		}
	}
	c.frame.Accounts = directory.Accounts{}
	return chosen
}

// selectedWith tells whether Selecting lets accounts of a kind through, besides those that
// are listed: managed service accounts are computers by their classes.
func selectedWith(what string, kind directory.Kind) bool {
	return kind.IsAccount() && (slices.Contains(Kinds[what], kind) ||
		what != "services" && (what != "computers" || kind == directory.KindService))
}

func (c *collector) make(e *directory.Entry) any {
	acc := c.frame.Account(e)
	out := made{kind: acc.Kind, present: acc.Present}
	v := view{entry: e, acc: &acc, survey: c.frame, groups: c.groups, asOf: c.query.AsOf}
	if !c.query.means(&v) {
		return out
	}
	switch c.holds(&v) {
	case filter.False:
		return out
	case filter.Undefined:
		out.untold = true
		return out
	}
	out.row = &row{dn: strings.Clone(e.DN), cells: cellsOf(c.columns, &v)}
	if c.whole {
		out.row.entry = e.Clone()
	} else if c.query.Bare {
		out.row.entry = directory.Entry{DN: out.row.dn}
		for _, name := range []string{"sAMAccountName", "uid", "displayName"} {
			if v := e.First(name); v != "" {
				out.row.entry.Set(name, strings.Clone(v))
			}
		}
	}
	return out
}

func (c *collector) keep(one any) {
	m := one.(made)
	c.seen[m.kind] = c.seen[m.kind].Union(m.present)
	c.kinds[m.kind]++
	if m.untold {
		c.untold++
	}
	if m.row != nil {
		c.rows = append(c.rows, m.row)
	}
}

// The strings of the cells are copies, since those of an entry are there only while it is
// looked at.
func cellsOf(columns []column, v *view) []any {
	cells := make([]any, len(columns))
	for i := range columns {
		switch value := columns[i].value(v).(type) {
		case string:
			cells[i] = strings.Clone(value)
		case []string:
			own := slices.Clone(value)
			for k := range own {
				own[k] = strings.Clone(own[k])
			}
			cells[i] = own
		default:
			cells[i] = value
		}
	}
	return cells
}

// cells makes the rows' cells anew, from the whole entries.
func (c *collector) cells() {
	for i := range c.rows {
		e := &c.rows[i].entry
		acc := c.frame.Account(e)
		c.rows[i].cells = cellsOf(c.columns, &view{entry: e, acc: &acc, survey: c.frame, asOf: c.query.AsOf})
	}
}

// means tells whether an entry is of the kind that is listed, and in scope.
func (q *Query) means(v *view) bool {
	if len(q.Scope)+len(q.LeftOut) > 0 && !directory.InScope(v.entry.DN, q.Scope, q.LeftOut) {
		return false
	}
	if len(q.NotUnder) > 0 && !directory.InScope(v.entry.DN, nil, q.NotUnder) {
		return false
	}
	if q.Ordinary && v.acc.BuiltIn {
		return false
	}
	if q.What == "" {
		return true
	}
	if !slices.Contains(Kinds[q.What], v.acc.Kind) {
		return false
	}
	return q.What != "people" || isPerson(v)
}

// PersonFilter selects the users who are somebody, and more: see isPerson.
const PersonFilter = "(|(givenName=*)(employeeID=*)(employeeNumber=*))"

// isPerson tells whether a user is somebody: it has a given name or an
// employee's number, and is not built in.
func isPerson(v *view) bool {
	return !v.acc.BuiltIn && (v.entry.Has("givenName") || v.entry.Has("employeeID") || v.entry.Has("employeeNumber"))
}

// sort orders the rows by one of their cells, and rows with the same by name.
func (c *collector) sort(at int, descending bool) {
	type keyed struct {
		key any
		row *row
	}
	order := make([]keyed, len(c.rows))
	for i, r := range c.rows {
		order[i] = keyed{sheet.SortKey(r.cells[at]), r}
	}
	slices.SortFunc(order, func(a, b keyed) int {
		o := sheet.Compare(a.key, b.key)
		if descending && a.key != nil && b.key != nil {
			o = -o
		}
		return cmp.Or(o, strings.Compare(a.row.dn, b.row.dn))
	})
	for i := range order {
		c.rows[i] = order[i].row
	}
}

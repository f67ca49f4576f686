package listing

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"yardbroom/internal/directory"
	"yardbroom/internal/sheet"
)

// column is one column of a list: worked out from the account, or the values
// of an attribute.
type column struct {
	sheet.Column
	Doc     string
	raw     string   // the attribute
	also    []string // attributes that it needs besides those of every account
	light   bool     // needs no others than these
	signIns bool
	groups  bool
	judged  bool // needs the policies of the directory
	dated   bool // needs what dates the changes of an entry, as far as the server keeps that
	value   func(*view) any
}

// All is the name that stands for every attribute that is set.
const All = "all"

// Readable are the columns that are worked out.
var Readable = []column{
	{
		Column: sheet.Column{Name: "account", Title: "Account", Kind: sheet.Text, Key: true},
		Doc:    "logon name, or what else the entry is called",
		light:  true,
		also:   []string{"objectClass", "sAMAccountName", "uid"},
		value:  accountName,
	},
	{
		Column: sheet.Column{Name: "name", Title: "Name", Kind: sheet.Text, Wide: true},
		Doc:    "display name, else the common name",
		light:  true,
		also:   []string{"displayName", "cn"},
		value:  displayName,
	},
	{
		Column: sheet.Column{Name: "dn", Title: "DN", Kind: sheet.Text, Wide: true},
		Doc:    "distinguished name",
		light:  true,
		also:   []string{"objectClass"},
		value:  func(v *view) any { return v.entry.DN },
	},
	{
		Column: sheet.Column{Name: "ou", Title: "Where", Kind: sheet.Text, Wide: true},
		Doc:    "where it stands, from the top down",
		light:  true,
		also:   []string{"objectClass"},
		value:  func(v *view) any { return directory.Place(v.entry.DN) },
	},
	{
		Column: sheet.Column{Name: "kind", Title: "Kind", Kind: sheet.Text},
		Doc:    "user, service, computer, resource, group, contact, ou, …",
		value:  func(v *view) any { return v.acc.Kind.String() },
	},
	{
		Column: sheet.Column{Name: "state", Title: "State", Kind: sheet.Text},
		Doc:    "enabled, disabled, expired or locked out",
		judged: true,
		value:  ofAccount(func(v *view) any { return v.survey.State(v.acc, v.asOf) }),
	},
	{
		Column: sheet.Column{Name: "enabled", Title: "Enabled", Kind: sheet.Truth},
		Doc:    "neither disabled nor expired",
		judged: true,
		value:  ofAccount(func(v *view) any { return v.survey.Enabled(v.acc, v.asOf).Yes }),
	},
	{
		Column: sheet.Column{Name: "locked", Title: "Locked", Kind: sheet.Truth},
		Doc:    "locked by wrong passwords, now",
		judged: true,
		value:  ofAccount(func(v *view) any { return v.survey.LockedOut(v.acc, v.asOf).Yes }),
	},
	{
		Column: sheet.Column{Name: "locked-since", Title: "Locked since", Kind: sheet.Time},
		Doc:    "when the last lock began",
		value:  moment(func(v *view) directory.Moment { return v.acc.LockedAt }),
	},
	{
		Column: sheet.Column{Name: "disabled-since", Title: "Disabled since", Kind: sheet.Time},
		Doc:    "since when it is disabled, as far as the directory or our journal dates that",
		judged: true,
		dated:  true,
		value: moment(func(v *view) directory.Moment {
			if !v.survey.Disabled(v.acc, v.asOf).Yes {
				return 0
			}
			return v.survey.DisabledSince(v.acc, v.asOf)
		}),
	},
	{
		Column: sheet.Column{Name: "here-since", Title: "Here since", Kind: sheet.Time},
		Doc:    "since when it stands where it does, as far as the directory or our journal dates that",
		dated:  true,
		value:  moment(func(v *view) directory.Moment { return v.survey.HereSince(v.acc, v.asOf) }),
	},
	{
		Column:  sheet.Column{Name: "last-logon", Title: "Last logon", Kind: sheet.Time},
		Doc:     "the latest sign-in known of, on any server asked",
		signIns: true,
		judged:  true,
		value:   moment(func(v *view) directory.Moment { return v.survey.LastSignIn(v.acc, v.asOf).Moment }),
	},
	{
		Column:  sheet.Column{Name: "idle-days", Title: "Idle days", Kind: sheet.Number},
		Doc:     "whole days since the last logon, or since it was made if there was none",
		signIns: true,
		judged:  true,
		value:   ofAccount(idleDays),
	},
	{
		Column: sheet.Column{Name: "created", Title: "Created", Kind: sheet.Time},
		Doc:    "when the entry was made",
		value:  moment(func(v *view) directory.Moment { return v.acc.Created }),
	},
	{
		Column: sheet.Column{Name: "changed", Title: "Changed", Kind: sheet.Time},
		Doc:    "when it was last changed",
		value:  moment(func(v *view) directory.Moment { return v.acc.Changed }),
	},
	{
		Column: sheet.Column{Name: "password-set", Title: "Password set", Kind: sheet.Time},
		Doc:    "when the password was last set",
		judged: true,
		value:  moment(func(v *view) directory.Moment { return v.survey.PasswordSet(v.acc) }),
	},
	{
		Column: sheet.Column{Name: "password-age", Title: "Password days", Kind: sheet.Number},
		Doc:    "whole days since the password was set",
		judged: true,
		value:  ofAccount(func(v *view) any { return daysSince(v.survey.PasswordSet(v.acc), v.asOf) }),
	},
	{
		Column: sheet.Column{Name: "password-expires", Title: "Password expires", Kind: sheet.Time},
		Doc:    "when the password expires",
		judged: true,
		value:  moment(func(v *view) directory.Moment { return v.survey.PasswordExpires(v.acc) }),
	},
	{
		Column: sheet.Column{Name: "must-change", Title: "Must change", Kind: sheet.Truth},
		Doc:    "the password has to be changed at the next logon",
		value:  ofAccount(func(v *view) any { return v.acc.MustChange }),
	},
	{
		Column: sheet.Column{Name: "expires", Title: "Expires", Kind: sheet.Time},
		Doc:    "the account's expiry date",
		value:  moment(func(v *view) directory.Moment { return v.acc.Expires }),
	},
	{
		Column: sheet.Column{Name: "groups", Title: "Groups", Kind: sheet.Texts, Wide: true},
		Doc:    "the groups that list it, by name, its primary group among them",
		groups: true,
		value:  groupNames,
	},
	{
		Column: sheet.Column{Name: "members", Title: "Members", Kind: sheet.Number},
		Doc:    "how many a group lists",
		value:  memberCount,
	},
	{
		Column: sheet.Column{Name: "id", Title: "Identity", Kind: sheet.Text},
		Doc:    "what stays when it is renamed: objectGUID, entryUUID or nsUniqueId",
		value:  identity,
	},
}

// usual are the columns where none are named.
var usual = map[string][]string{
	"":          {"account", "name", "kind", "ou"},
	"computers": {"account", "state", "last-logon", "idle-days", "operatingSystem", "ou"},
	"groups":    {"account", "members", "description", "ou"},
	"contacts":  {"name", "mail", "ou"},
	"units":     {"name", "description", "ou"},
	"accounts":  {"account", "name", "kind", "state", "last-logon", "idle-days", "ou"},
}

var usualOfUsers = []string{"account", "name", "state", "last-logon", "idle-days", "ou"}

// plan is which columns a list has, and which one it is sorted by.
type plan struct {
	columns    []column
	by         column
	descending bool
	everything bool // the columns are whatever the entries carry
}

// all are the columns, and behind them the one that sorts.
func (p *plan) all() []column { return append(p.columns[:len(p.columns):len(p.columns)], p.by) }

func (q *Query) plan(d *directory.Dialect) (p *plan, err error) {
	p = &plan{}
	wanted := q.Columns
	if len(wanted) == 0 {
		if wanted = usual[q.What]; wanted == nil {
			wanted = usualOfUsers
		}
	}
	for _, name := range wanted {
		if name == All {
			if len(wanted) > 1 {
				return nil, wrong("--columns: %q stands alone", All)
			}
			p.everything = true
			continue
		}
		c, err := columnNamed(name, d)
		if err != nil {
			return nil, wrong("--columns: %w", err)
		}
		if slices.ContainsFunc(p.columns, func(o column) bool { return strings.EqualFold(o.Name, c.Name) }) {
			return nil, wrong("--columns: %s comes twice", name)
		}
		p.columns = append(p.columns, c)
	}
	return p, q.order(p, d)
}

// attributePrefix stands before the name of an attribute that is also the name
// of a readable column, such as attribute:ou.
const attributePrefix = "attribute:"

// columnNamed returns a column by name: a readable one, else an attribute.
func columnNamed(name string, d *directory.Dialect) (column, error) {
	name, meant := strings.CutPrefix(name, attributePrefix)
	for _, c := range Readable {
		if strings.EqualFold(c.Name, name) && !meant {
			return c, nil
		}
	}
	if !attributeName(name) {
		return column{}, fmt.Errorf("%q is neither a column nor the name of an attribute", name)
	}
	if directory.IsSecret(name) {
		return column{}, directory.SecretError(name)
	}
	name = directory.PlainName(name)
	c := attribute(name, d.Schema().Type(name))
	if meant {
		c.Name = attributePrefix + name
	}
	return c, nil
}

// attributeName tells whether a text can be an attribute description (RFC
// 4512, section 2.5).
func attributeName(s string) bool {
	for i := range len(s) {
		c := s[i] | 0x20
		if letter := 'a' <= c && c <= 'z'; !letter &&
			(i == 0 || s[i] != '-' && s[i] != ';' && s[i] != '.' && (s[i] < '0' || s[i] > '9')) {
			return false
		}
	}
	return s != ""
}

// attribute is the column of an attribute's values, in readable form. What
// it holds the schema tells; where that knows nothing, or the attribute may
// have several values, it holds texts.
func attribute(name string, kind *directory.AttributeType) column {
	c := column{Column: sheet.Column{Name: name, Kind: sheet.Texts, Wide: true}, raw: name}
	if kind == nil || !kind.Single {
		c.value = func(v *view) any { return texts(v, name) }
		return c
	}
	c.Kind = kindOfCell(kind)
	c.Wide = c.Kind == sheet.Text
	c.value = func(v *view) any {
		values := v.entry.Get(name)
		if len(values) == 0 {
			return nil
		}
		return cellOf(kind, values[0])
	}
	return c
}

func kindOfCell(t *directory.AttributeType) sheet.Kind {
	switch {
	case t.Syntax == directory.SyntaxTime || t.FileTime:
		return sheet.Time
	case t.Syntax == directory.SyntaxNumber && !t.Days:
		return sheet.Number
	case t.Syntax == directory.SyntaxBoolean:
		return sheet.Truth
	}
	return sheet.Text
}

// cellOf reads a value by its attribute's type. What cannot be read stays as
// it is written.
func cellOf(t *directory.AttributeType, value string) any {
	switch kindOfCell(t) {
	case sheet.Time:
		parse := directory.ParseGeneralizedTime
		if t.FileTime {
			parse = directory.ParseFileTime
		}
		at, err := parse(value)
		switch {
		case err != nil:
			return directory.Plain(t.Name, value)
		case at.IsZero():
			return nil
		}
		return at
	case sheet.Number:
		if n, err := strconv.Atoi(value); err == nil {
			return n
		}
	case sheet.Truth:
		switch strings.ToUpper(value) {
		case "TRUE":
			return true
		case "FALSE":
			return false
		}
	}
	return directory.Plain(t.Name, value)
}

func texts(v *view, name string) any {
	values := v.entry.Get(name)
	if len(values) == 0 {
		return nil
	}
	out := make([]string, len(values))
	for i, value := range values {
		out[i] = directory.Plain(name, value)
	}
	return out
}

// allColumns are the DN and all attributes that any of the rows' entries
// carries, in alphabetical order.
func allColumns(rows []*row, d *directory.Dialect) []column {
	names := map[string]string{}
	for i := range rows {
		for _, a := range rows[i].entry.Attrs {
			if !a.ID.OwnMark() && !directory.IsSecret(a.Name) {
				names[strings.ToLower(a.Name)] = a.Name
			}
		}
	}
	dn, _ := columnNamed("dn", d)
	cols := []column{dn}
	for _, key := range slices.Sorted(maps.Keys(names)) {
		cols = append(cols, attribute(names[key], d.Schema().Type(names[key])))
	}
	return cols
}

// order chooses the column to sort by, and whether from the largest down.
func (q *Query) order(p *plan, d *directory.Dialect) error {
	name, descending := strings.CutPrefix(q.Sort, "-")
	p.descending = descending
	if name == "" {
		name = "account"
		if p.everything {
			name = "dn"
		}
	}
	for _, c := range p.columns {
		if strings.EqualFold(c.Name, name) {
			p.by = c
			return nil
		}
	}
	var err error
	if p.by, err = columnNamed(name, d); err != nil {
		return wrong("--sort: %w", err)
	}
	return nil
}

func accountName(v *view) any {
	if v.acc.Logon != "" {
		return v.acc.Logon
	}
	return directory.LeafValue(v.entry.DN)
}

func displayName(v *view) any {
	return cmp.Or(v.entry.First("displayName"), v.entry.First("cn"), directory.LeafValue(v.entry.DN))
}

func ofAccount(value func(*view) any) func(*view) any {
	return func(v *view) any {
		if !v.acc.Kind.IsAccount() {
			return nil
		}
		return value(v)
	}
}

func moment(of func(*view) directory.Moment) func(*view) any {
	return func(v *view) any {
		switch m := of(v); {
		case m.Beyond():
			return "after " + m.Time().Format(time.DateOnly)
		case m.Known():
			return m.Time()
		}
		return nil
	}
}

func daysSince(m directory.Moment, asOf time.Time) any {
	if !m.Known() || m.Time().After(asOf) {
		return nil
	}
	return int(asOf.Sub(m.Time()) / (24 * time.Hour))
}

func idleDays(v *view) any {
	last := v.survey.LastSignIn(v.acc, v.asOf)
	switch {
	case last.Known():
		return daysSince(last.Moment, v.asOf)
	case last.Unreadable():
		return nil
	}
	return daysSince(v.acc.Created, v.asOf)
}

func groupNames(v *view) any {
	names := slices.Concat(v.groups.byKey[directory.KeyOf(v.entry.DN)], v.groups.byLogon[strings.ToLower(v.acc.Logon)])
	if primary := v.groups.byRID[v.acc.PrimaryGroup]; primary != "" && v.acc.PrimaryGroup != 0 {
		names = append(names, primary)
	}
	if len(names) == 0 {
		return nil
	}
	slices.Sort(names)
	return slices.Compact(names)
}

// memberships tell who is in which groups, by the groups' own lists.
type memberships struct {
	byKey   map[directory.Key][]string
	byLogon map[string][]string
	byRID   map[uint32]string
}

func membershipsOf(s *directory.Survey) *memberships {
	m := &memberships{map[directory.Key][]string{}, map[string][]string{}, map[uint32]string{}}
	for i := range s.Groups {
		g := &s.Groups[i]
		for _, k := range g.Members {
			m.byKey[k] = append(m.byKey[k], g.Name())
		}
		for _, logon := range g.Logons {
			m.byLogon[strings.ToLower(logon)] = append(m.byLogon[strings.ToLower(logon)], g.Name())
		}
		if g.RID != 0 && !g.BuiltIn {
			m.byRID[g.RID] = g.Name()
		}
	}
	return m
}

func memberCount(v *view) any {
	if v.acc.Kind != directory.KindGroup {
		return nil
	}
	return len(v.entry.Get("member")) + len(v.entry.Get("uniqueMember")) + len(v.entry.Get("memberUid"))
}

func identity(v *view) any {
	if v.acc.ID == "" {
		return nil
	}
	return directory.Plain(v.survey.Dialect.Identity.String(), v.acc.ID)
}

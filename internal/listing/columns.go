package listing

import (
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
	signIns bool
	judged  bool // needs the policies of the directory
	value   func(*view) any
}

// All is the name that stands for every attribute that is set.
const All = "all"

// Readable are the columns that are worked out.
var Readable = []column{
	{Column: sheet.Column{Name: "account", Title: "Account", Kind: sheet.Text, Key: true}, Doc: "logon name, or what else the entry is called", value: accountName},
	{Column: sheet.Column{Name: "name", Title: "Name", Kind: sheet.Text, Wide: true}, Doc: "display name, or the name in the DN", also: []string{"displayName"}, value: displayName},
	{Column: sheet.Column{Name: "dn", Title: "DN", Kind: sheet.Text, Wide: true}, Doc: "distinguished name", value: func(v *view) any { return strings.Clone(v.entry.DN) }},
	{Column: sheet.Column{Name: "ou", Title: "Where", Kind: sheet.Text, Wide: true}, Doc: "where it stands, from the top down", value: func(v *view) any { return directory.Place(v.entry.DN) }},
	{Column: sheet.Column{Name: "kind", Title: "Kind", Kind: sheet.Text}, Doc: "user, service, computer, resource, group, contact, ou, …", value: func(v *view) any { return v.acc.Kind.String() }},
	{Column: sheet.Column{Name: "state", Title: "State", Kind: sheet.Text}, Doc: "enabled, disabled, expired or locked out", judged: true, value: ofAccount(func(v *view) any { return v.survey.State(v.acc, v.asOf) })},
	{Column: sheet.Column{Name: "enabled", Title: "Enabled", Kind: sheet.Truth}, Doc: "neither disabled nor expired", judged: true, value: ofAccount(func(v *view) any { return v.survey.Enabled(v.acc, v.asOf).Yes })},
	{Column: sheet.Column{Name: "locked", Title: "Locked", Kind: sheet.Truth}, Doc: "locked by wrong passwords, now", judged: true, value: ofAccount(func(v *view) any { return v.survey.LockedOut(v.acc, v.asOf).Yes })},
	{Column: sheet.Column{Name: "locked-since", Title: "Locked since", Kind: sheet.Time}, Doc: "when the last lock began", value: moment(func(v *view) directory.Moment { return v.acc.LockedAt })},
	{Column: sheet.Column{Name: "last-logon", Title: "Last logon", Kind: sheet.Time}, Doc: "the latest sign-in known of, on any server asked", signIns: true, judged: true, value: moment(func(v *view) directory.Moment { return v.survey.LastSignIn(v.acc, v.asOf).Moment })},
	{Column: sheet.Column{Name: "idle-days", Title: "Idle days", Kind: sheet.Number}, Doc: "whole days since the last logon, or since it was made if there was none", signIns: true, judged: true, value: ofAccount(idleDays)},
	{Column: sheet.Column{Name: "created", Title: "Created", Kind: sheet.Time}, Doc: "when the entry was made", value: moment(func(v *view) directory.Moment { return v.acc.Created })},
	{Column: sheet.Column{Name: "changed", Title: "Changed", Kind: sheet.Time}, Doc: "when it was last changed", value: moment(func(v *view) directory.Moment { return v.acc.Changed })},
	{Column: sheet.Column{Name: "password-set", Title: "Password set", Kind: sheet.Time}, Doc: "when the password was last set", judged: true, value: moment(func(v *view) directory.Moment { return v.survey.PasswordSet(v.acc) })},
	{Column: sheet.Column{Name: "password-age", Title: "Password days", Kind: sheet.Number}, Doc: "whole days since the password was set", judged: true, value: ofAccount(func(v *view) any { return daysSince(v.survey.PasswordSet(v.acc), v.asOf) })},
	{Column: sheet.Column{Name: "password-expires", Title: "Password expires", Kind: sheet.Time}, Doc: "when the password expires", judged: true, value: moment(func(v *view) directory.Moment { return v.survey.PasswordExpires(v.acc) })},
	{Column: sheet.Column{Name: "must-change", Title: "Must change", Kind: sheet.Truth}, Doc: "the password has to be changed at the next logon", value: ofAccount(func(v *view) any { return v.acc.MustChange })},
	{Column: sheet.Column{Name: "expires", Title: "Expires", Kind: sheet.Time}, Doc: "the account's expiry date", value: moment(func(v *view) directory.Moment { return v.acc.Expires })},
	{Column: sheet.Column{Name: "members", Title: "Members", Kind: sheet.Number}, Doc: "how many a group lists", value: memberCount},
	{Column: sheet.Column{Name: "id", Title: "Identity", Kind: sheet.Text}, Doc: "what stays when it is renamed: objectGUID, entryUUID or nsUniqueId", value: identity},
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

func (q *Query) columns() (cols []column, everything bool, err error) {
	wanted := q.Columns
	if len(wanted) == 0 {
		if wanted = usual[q.What]; wanted == nil {
			wanted = usualOfUsers
		}
	}
	for _, name := range wanted {
		if name == All {
			if len(wanted) > 1 {
				return nil, false, wrong("--columns: %q stands alone", All)
			}
			everything = true
			cols = nil
			continue
		}
		c, err := columnNamed(name)
		if err != nil {
			return nil, false, err
		}
		if slices.ContainsFunc(cols, func(o column) bool { return strings.EqualFold(o.Name, c.Name) }) {
			return nil, false, wrong("--columns: %s comes twice", name)
		}
		cols = append(cols, c)
	}
	return cols, everything, nil
}

// columnNamed returns a column by name: a readable one, else an attribute.
func columnNamed(name string) (column, error) {
	for _, c := range Readable {
		if strings.EqualFold(c.Name, name) {
			return c, nil
		}
	}
	if !attributeName(name) {
		return column{}, wrong("--columns: %q is neither a column nor the name of an attribute", name)
	}
	if directory.IsSecret(name) {
		return column{}, wrong("--columns: %s holds secrets, which are never asked for", name)
	}
	return attribute(name), nil
}

// attributeName tells whether a text can be an attribute description (RFC
// 4512, section 2.5).
func attributeName(s string) bool {
	for i := range len(s) {
		c := s[i] | 0x20
		if letter := 'a' <= c && c <= 'z'; !letter && (i == 0 || s[i] != '-' && s[i] != ';' && s[i] != '.' && (s[i] < '0' || s[i] > '9')) {
			return false
		}
	}
	return s != ""
}

// attribute is the column of an attribute's values, in readable form. What
// kind of value it holds the schemas tell; where they differ, or know nothing,
// it holds texts.
func attribute(name string) column {
	c := column{Column: sheet.Column{Name: name, Kind: sheet.Texts, Wide: true}, raw: name}
	ad, standard := directory.AD.Schema().Type(name), directory.OpenLDAP.Schema().Type(name)
	kind := ad
	if kind == nil {
		kind = standard
	}
	if kind == nil || !kind.Single || ad != nil && standard != nil && (!standard.Single || ad.Syntax != standard.Syntax && kindOfCell(ad) != kindOfCell(standard)) {
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
func allColumns(rows []*row) []column {
	names := map[string]string{}
	for i := range rows {
		for _, a := range rows[i].entry.Attrs {
			if a.ID != directory.AttrLatestLogon && !directory.IsSecret(a.Name) {
				names[strings.ToLower(a.Name)] = a.Name
			}
		}
	}
	dn, _ := columnNamed("dn")
	cols := []column{dn}
	for _, key := range slices.Sorted(maps.Keys(names)) {
		cols = append(cols, attribute(names[key]))
	}
	return cols
}

// order returns the column to sort by, and whether from the largest down.
func (q *Query) order(cols []column, everything bool) (by []column, descending bool, err error) {
	name, descending := strings.CutPrefix(q.Sort, "-")
	if name == "" {
		name = "account"
		if everything {
			name = "dn"
		}
	}
	for _, c := range cols {
		if strings.EqualFold(c.Name, name) {
			return []column{c}, descending, nil
		}
	}
	c, err := columnNamed(name)
	if err != nil {
		return nil, false, wrong("--sort: %q is neither a column nor the name of an attribute", name)
	}
	return []column{c}, descending, nil
}

func accountName(v *view) any {
	if v.acc.Logon != "" {
		return strings.Clone(v.acc.Logon)
	}
	return directory.LeafValue(v.entry.DN)
}

func displayName(v *view) any {
	if name := v.entry.First("displayName"); name != "" {
		return strings.Clone(name)
	}
	return directory.LeafValue(v.entry.DN)
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
		if m := of(v); m.Known() {
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

package practice

import (
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"

	"yardbroom/internal/directory"
	"yardbroom/internal/filter"
)

// Behind is a directory too large to be copied whole. A Directory that stands in front of
// it takes an entry over as soon as somebody may want to know of it: before it answers a
// question it asks for all that the answer could hang on. So what it has not taken over is
// as it was behind, and names only what is called as it was. What comes may be more than
// was asked for.
type Behind interface {
	// Named returns the entries of a folded name.
	Named(name string) ([]directory.Entry, error)
	// Below returns the entries right below a folded name.
	Below(name string) ([]directory.Entry, error)
	// Fulfilling returns the entries that fulfil a filter.
	Fulfilling(cond filter.Filter) ([]directory.Entry, error)
}

// taken is an entry that was taken over.
type taken struct {
	was directory.Entry
	id  string // its identity, by which it is found whatever it is called now
}

// CopyOf returns a directory like Copy that holds some entries, and takes over others from
// behind once they matter. All that names others as its members has to be among the
// entries. New accounts get numbers from nextRID on.
func CopyOf(id Identity, entries []directory.Entry, behind Behind, nextRID uint32, now func() time.Time) (*Directory, error) {
	d := empty(id.Dialect, id.Base, now)
	d.sid, d.nextRID = id.SID, max(d.nextRID, nextRID)
	d.behind, d.taken, d.asked = behind, map[string]taken{}, map[string]bool{}
	d.take(entries, nil)
	if d.dialect == directory.AD {
		d.wantNamed(directory.FoldDN(d.deletedObjects()))
		if d.entries[directory.FoldDN(d.deletedObjects())] == nil {
			d.putDeletedObjects()
		}
	}
	return d, d.broken
}

// Broken is the error that has come from behind, after which no answer can be relied on.
func (d *Directory) Broken() error {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.broken
}

// take takes entries over from behind, but those that were taken before.
func (d *Directory) take(entries []directory.Entry, err error) {
	if err != nil && d.broken == nil {
		d.broken = err
	}
	for i := range entries {
		key := directory.FoldDN(entries[i].DN)
		if _, before := d.taken[key]; before || d.entries[key] != nil {
			continue
		}
		e := entries[i].Clone()
		if d.dialect == directory.AD {
			e.Set("memberOf")
		}
		d.put(&e)
		d.taken[key] = taken{entries[i], e.First(d.dialect.Identity.String())}
	}
}

// once tells whether a question is new, and somebody is there to be asked.
func (d *Directory) once(question string) bool {
	if d.behind == nil || d.asked[question] {
		return false
	}
	d.asked[question] = true
	return true
}

// wantNamed takes over what is called by some folded names.
func (d *Directory) wantNamed(names ...string) {
	for _, name := range names {
		if d.entries[name] == nil && d.once("named "+name) {
			d.take(d.behind.Named(name))
		}
	}
}

// wantBelow takes over what stands right below a folded name.
func (d *Directory) wantBelow(name string) {
	if d.once("below " + name) {
		d.take(d.behind.Below(name))
	}
}

// wantTree takes over all that stands below a folded name, and whatever names any of it:
// it is about to be called otherwise.
func (d *Directory) wantTree(name string) {
	if d.behind == nil {
		return
	}
	d.wantNaming(name)
	d.wantBelow(name)
	for _, kid := range sortedKeys(d.kids[name]) {
		d.wantTree(kid)
	}
}

// wantNaming takes over what names an entry.
func (d *Directory) wantNaming(name string) {
	if d.dialect != directory.AD || !d.once("naming "+name) {
		return
	}
	dn := name
	if e := d.entries[name]; e != nil {
		dn = e.DN
	}
	var terms strings.Builder
	for _, attr := range sortedKeys(backlinks) {
		terms.WriteString("(" + attr + "=" + filter.Escape(dn) + ")")
	}
	d.wantFilter("(|" + terms.String() + ")")
}

// wantFilter takes over what fulfils a filter.
func (d *Directory) wantFilter(text string) {
	if !d.once("fulfilling " + text) {
		return
	}
	cond, err := filter.Parse(text)
	if err != nil {
		d.take(nil, err)
		return
	}
	d.take(d.behind.Fulfilling(cond))
}

// wantFor takes over all that a search could find besides its base.
func (d *Directory) wantFor(base string, scope int, cond filter.Filter, workedOut bool) {
	switch {
	case d.behind == nil, scope == ldap.ScopeBaseObject:
	case scope == ldap.ScopeSingleLevel:
		d.wantBelow(base)
	case len(d.kids[base]) == 0 && d.isLeaf(base):
	case workedOut: // which nothing behind can tell
		d.wantFilter("(objectClass=*)")
	default:
		d.wantFilter(cond.String())
	}
}

// isLeaf tells whether nothing stands below an entry.
func (d *Directory) isLeaf(name string) bool {
	d.wantBelow(name)
	return len(d.kids[name]) == 0
}

// Became hands over what was taken from behind and is not as it was there: what has become
// of it, by the name that it had there, nil for what is gone; and what has come besides. Of
// attributes that the server works out it has those that the entry had behind.
func (d *Directory) Became() (became map[string]*directory.Entry, came []directory.Entry) {
	d.mu.Lock()
	defer d.mu.Unlock()
	now, known := map[string]string{}, map[string]bool{}
	for key, e := range d.entries {
		if !e.Has("isDeleted") {
			now[e.First(d.dialect.Identity.String())] = key
		}
	}
	became = map[string]*directory.Entry{}
	for name, t := range d.taken {
		known[t.id] = true
		key, there := now[t.id]
		if e := d.entries[name]; e != nil && !e.Has("isDeleted") && e.First(d.dialect.Identity.String()) == t.id {
			key = name // whatever else claims to be the same
		}
		if !there {
			if !t.was.Has("isDeleted") {
				became[name] = nil
			}
			continue
		}
		if e := d.sinceBehind(&t.was, key); e != nil {
			became[name] = e
		}
	}
	for _, key := range byDepth(sortedKeys(d.entries)) {
		e := d.entries[key]
		if !e.Has("isDeleted") && !known[e.First(d.dialect.Identity.String())] {
			came = append(came, d.view(key).Clone())
		}
	}
	return became, came
}

func sortedKeys[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }

// given are the attributes that put gives every entry of the `ad` schema, but for when it
// was changed last, which an entry that was changed does have.
var given = []string{"objectGUID", "whenCreated", "uSNChanged", "distinguishedName", "name"}

// sinceBehind is an entry that was taken over as it is now, nil where nothing of it has
// changed.
func (d *Directory) sinceBehind(was *directory.Entry, key string) *directory.Entry {
	is := d.entries[key]
	e, changed := was.Clone(), was.DN != is.DN
	e.DN = is.DN
	for _, a := range is.Attrs {
		if !slices.Equal(was.Get(a.Name), a.Values) && !(slices.Contains(given, a.Name) && !was.Has(a.Name)) {
			e.Set(a.Name, a.Values...)
			changed = changed || a.Name != "uSNChanged" && a.Name != "whenChanged"
		}
	}
	view := d.view(key)
	for _, a := range was.Attrs {
		worked := strings.EqualFold(a.Name, "msDS-User-Account-Control-Computed") || strings.EqualFold(a.Name, "memberOf")
		switch {
		case worked && d.dialect == directory.AD:
			if before, after := slices.Sorted(slices.Values(a.Values)), slices.Sorted(slices.Values(view.Get(a.Name))); !slices.Equal(before, after) {
				e.Set(a.Name, after...)
				changed = true
			}
		case !is.Has(a.Name):
			e.Set(a.Name)
			changed = true
		}
	}
	if !changed {
		return nil
	}
	return &e
}

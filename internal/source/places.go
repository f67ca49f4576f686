package source

import (
	"context"
	"errors"
	"hash/maphash"
	"os"
	"slices"
	"strings"
	"sync"

	"yardbroom/internal/directory"
	"yardbroom/internal/filter"
	"yardbroom/internal/kept"
	"yardbroom/internal/ldif"
)

// finder finds entries of a file without reading all of it. The names are folded.
type finder interface {
	// Named returns the entries with some names.
	Named(ctx context.Context, names map[string]bool) ([]directory.Entry, error)
	// Below returns the entries that stand right below some names.
	Below(ctx context.Context, names map[string]bool) ([]directory.Entry, error)
	// Fulfilling returns at least the entries that fulfil a filter; ok is false where
	// it cannot tell.
	Fulfilling(ctx context.Context, cond *filter.Filter, d *directory.Dialect) (found []directory.Entry, ok bool, err error)
}

// places are where in a plain LDIF file its entries stand: by their names, by what they
// stand below, and by the values that they are looked up by and name each other by. They
// are learned on the way of a survey, so that whoever stages something reads the file
// once, and then what is meant. Values are known by hashes, so that a few entries too many
// may be read, which whoever asked sorts out.
type places struct {
	file    *os.File
	size    int64 // when reading began
	dialect *directory.Dialect
	values  bool // by values too, and by what they stand below
	parts   []place
	// equalities are how the values of attributes compare, by their names as they are
	// spelt; nil for one that is not looked up by.
	equalities sync.Map
	// classes are the lists of classes that entries have, each once.
	classes struct {
		sync.Mutex
		numbers map[string]uint16
		lists   [][]string
	}
}

// place is where the entries of one block stand, one behind the other.
type place struct {
	keys   []directory.Key
	below  []uint32 // of the keys of what they stand below
	at     []int64
	size   []int32
	values []valueOf
	// classes are numbers of lists of classes, and others the entries that are no accounts.
	classes []uint16
	others  []int
	known   map[string]uint16 // of the lists that the block has met
}

// valueOf is a value of an entry.
type valueOf struct {
	hash  uint32
	entry uint32 // which one of the block
}

// lookedUp are the attributes, in lower case, by which entries of any dialect are looked
// up or name each other.
var lookedUp = map[string]bool{
	"objectguid": true, "entryuuid": true, "nsuniqueid": true, "objectsid": true,
	"samaccountname": true, "uid": true, "userprincipalname": true, "mail": true, "proxyaddresses": true,
	"member": true, "uniquemember": true, "memberuid": true, "manager": true, "secretary": true, "managedby": true,
	"primarygroupid": true, "gidnumber": true,
	"owner": true, "roleoccupant": true, "seealso": true, "msds-psoappliesto": true, "msds-hostserviceaccount": true,
}

// newPlaces makes room for what a survey finds. It returns nil for a file in which
// nothing can be found again by its place, such as a compressed one.
func newPlaces(path string, d *directory.Dialect, values bool) *places {
	file, err := os.Open(path)
	if err != nil {
		return nil
	}
	info, err := file.Stat()
	start := make([]byte, 4)
	if _, readErr := file.ReadAt(start, 0); err != nil || readErr != nil || wrapped(start) {
		file.Close()
		return nil
	}
	p := &places{file: file, size: info.Size(), dialect: d, values: values}
	p.classes.numbers = map[string]uint16{}
	return p
}

var valueSeed = maphash.MakeSeed()

// valued is a value of an attribute, in the form in which it compares.
func valued(attr, form string) string { return attr + "\x00" + form }

func hashOf(value string) uint32 { return uint32(maphash.String(valueSeed, value)) }

// note takes an entry of a block, which is an account or not.
func (p *places) note(in *place, r *ldif.Record, key, parent directory.Key, account bool) {
	n := uint32(len(in.keys))
	in.keys, in.at, in.size = append(in.keys, key), append(in.at, r.At), append(in.size, int32(r.Size))
	if !p.values {
		return
	}
	in.below = append(in.below, uint32(parent[0]))
	in.classes = append(in.classes, p.classesOf(in, r.Get("objectClass")))
	if !account {
		in.others = append(in.others, int(n))
	}
	for i := range r.Attrs {
		eq := p.equality(r.Attrs[i].Name)
		if eq == nil {
			continue
		}
		for _, v := range r.Attrs[i].Values {
			if form, ok := eq.Form(v); ok {
				in.values = append(in.values, valueOf{hashOf(valued(eq.Name, form)), n})
			}
		}
	}
}

// anyClasses stands for lists of classes that are too many to be told apart.
const anyClasses = 1<<16 - 1

// classesOf is the number of a list of classes.
func (p *places) classesOf(in *place, classes []string) uint16 {
	var buf [256]byte
	text := buf[:0]
	for _, c := range classes {
		text = append(append(text, c...), 0)
	}
	if n, ok := in.known[string(text)]; ok {
		return n
	}
	p.classes.Lock()
	defer p.classes.Unlock()
	n, ok := p.classes.numbers[string(text)]
	if !ok {
		if n = uint16(min(len(p.classes.lists), anyClasses)); n < anyClasses {
			list := make([]string, len(classes))
			for i := range classes {
				list[i] = strings.Clone(classes[i])
			}
			p.classes.lists = append(p.classes.lists, list)
			p.classes.numbers[string(text)] = n
		}
	}
	if in.known == nil {
		in.known = map[string]uint16{}
	}
	in.known[string(text)] = n
	return n
}

// equality is how an attribute compares, nil for one that is not looked up by.
func (p *places) equality(name string) *filter.Equality {
	if known, ok := p.equalities.Load(name); ok {
		return known.(*filter.Equality)
	}
	var eq *filter.Equality
	if found, ok := filter.EqualityOf(p.dialect, name); ok && lookedUp[found.Name] {
		eq = &found
	}
	p.equalities.Store(strings.Clone(name), eq)
	return eq
}

func (p *places) Close() error { return p.file.Close() }

// Len is how many entries there are.
func (p *places) Len() (n int) {
	for i := range p.parts {
		n += len(p.parts[i].keys)
	}
	return n
}

func (p *places) Named(ctx context.Context, names map[string]bool) ([]directory.Entry, error) {
	keys := make(map[directory.Key]bool, len(names))
	for name := range names {
		keys[directory.KeyOf(name)] = true
	}
	return p.keyed(ctx, keys)
}

// keyed returns the entries whose names have some keys.
func (p *places) keyed(ctx context.Context, keys map[directory.Key]bool) ([]directory.Entry, error) {
	return p.pick(ctx, func(in *place, take func(int)) {
		for i, key := range in.keys {
			if keys[key] {
				take(i)
			}
		}
	})
}

func (p *places) Below(ctx context.Context, names map[string]bool) ([]directory.Entry, error) {
	parents := make(map[uint32]bool, len(names))
	for name := range names {
		parents[uint32(directory.KeyOf(name)[0])] = true
	}
	found, err := p.pick(ctx, func(in *place, take func(int)) {
		for i, parent := range in.below {
			if parents[parent] {
				take(i)
			}
		}
	})
	return rightBelow(found, names), err
}

// rightBelow leaves of some entries those that stand right below some folded names.
func rightBelow(entries []directory.Entry, names map[string]bool) []directory.Entry {
	return slices.DeleteFunc(entries, func(e directory.Entry) bool { return !standsBelow(&e, names) })
}

func standsBelow(e *directory.Entry, names map[string]bool) bool {
	_, parent := directory.SplitDN(directory.FoldDN(e.DN))
	return names[parent]
}

func (p *places) Fulfilling(
	ctx context.Context, cond *filter.Filter, d *directory.Dialect,
) (found []directory.Entry, ok bool, err error) {
	if d != p.dialect || !p.values {
		return nil, false, nil
	}
	values, ok := narrowed(cond, d)
	if !ok {
		return nil, false, nil
	}
	hashes := make(map[uint32]bool, len(values))
	for _, v := range values {
		hashes[hashOf(v)] = true
	}
	found, err = p.pick(ctx, func(in *place, take func(int)) {
		for _, v := range in.values {
			if hashes[v.hash] {
				take(int(v.entry))
			}
		}
	})
	return found, true, err
}

// narrowed are values of which whatever fulfils a filter has one; ok is false where there
// are no such values that are known.
func narrowed(cond *filter.Filter, d *directory.Dialect) (values []string, ok bool) {
	return cond.Narrow(d, func(attr, form string) ([]string, bool) {
		return []string{valued(attr, form)}, lookedUp[attr]
	})
}

// pick reads the entries of each block that choose takes, by their numbers, in any order.
func (p *places) pick(ctx context.Context, choose func(in *place, take func(int))) (found []directory.Entry, err error) {
	for i := range p.parts {
		in := &p.parts[i]
		var wanted []bool
		choose(in, func(n int) {
			if wanted == nil {
				wanted = make([]bool, len(in.keys))
			}
			wanted[n] = true
		})
		if wanted == nil {
			continue
		}
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		some, err := p.read(in, wanted)
		if err != nil {
			return nil, err
		}
		found = append(found, some...)
	}
	return found, nil
}

var errChanged = errors.New("it was written to while it was read: export it anew, or copy it first")

// read reads some entries of a block.
func (p *places) read(in *place, wanted []bool) (found []directory.Entry, err error) {
	if info, err := p.file.Stat(); err != nil || info.Size() != p.size {
		return nil, errors.Join(err, errChanged)
	}
	var text []byte
	var keys []directory.Key
	for i, yes := range wanted {
		if !yes {
			continue
		}
		one := make([]byte, in.size[i], in.size[i]+2)
		if _, err := p.file.ReadAt(one, in.at[i]); err != nil {
			return nil, err
		}
		text = append(append(text, one...), "\n\n"...)
		keys = append(keys, in.keys[i])
	}
	entries, err := ldif.Parse(text)
	if err != nil || len(entries) != len(keys) {
		return nil, errChanged
	}
	for i := range entries {
		if directory.KeyOf(entries[i].DN) != keys[i] {
			return nil, errChanged
		}
		found = append(found, entries[i])
	}
	return found, nil
}

// indexed finds entries by the index of a kept survey.
type indexed struct{ *kept.File }

func (x indexed) Below(ctx context.Context, names map[string]bool) ([]directory.Entry, error) {
	found, err := x.Mentioning(ctx, names)
	return rightBelow(found, names), err
}

// Fulfilling tells of filters on attributes whose values are names of entries. Of these
// the index has all but those of who wrote to an entry.
func (x indexed) Fulfilling(
	ctx context.Context, cond *filter.Filter, d *directory.Dialect,
) (found []directory.Entry, ok bool, err error) {
	values, ok := cond.Narrow(d, func(attr, form string) ([]string, bool) {
		able := form != "" && attr != "creatorsname" && attr != "modifiersname" && d.Schema().Type(attr).Syntax == directory.SyntaxDN
		return []string{form}, able
	})
	if !ok {
		return nil, false, nil
	}
	names := make(map[string]bool, len(values))
	for _, v := range values {
		names[v] = true
	}
	found, err = x.Mentioning(ctx, names)
	return found, true, err
}

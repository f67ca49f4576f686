package source

import (
	"context"
	"errors"
	"fmt"
	"hash/maphash"
	"os"
	"slices"
	"strings"
	"sync"

	"yardbroom/internal/directory"
	"yardbroom/internal/filter"
	"yardbroom/internal/kept"
	"yardbroom/internal/ldif"
	"yardbroom/internal/parallel"
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
	name    string // of the file, for people
	file    *os.File
	size    int64 // when reading began
	dialect *directory.Dialect
	values  bool // by values too, and by what they stand below
	// keepsParts says that each block has its part of the survey.
	keepsParts bool
	parts      []place
	order      func() *ordered // once all of the file was read
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
	seen    *seenInBlock
	part    *directory.Part // what the survey has of them, where these are kept
}

// seenInBlock is what was found out about a block's lists of classes and names of
// attributes, as they stand there.
type seenInBlock struct {
	classes    map[string]uint16
	equalities map[string]*filter.Equality
	known      [1 << 8]*filter.Equality // of attributes that have numbers, by these
	looked     directory.AttrSet        // of which of these that is known
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
func newPlaces(f *File, d *directory.Dialect, values bool) *places {
	file, err := os.Open(f.path)
	if err != nil {
		return nil
	}
	info, err := file.Stat()
	start := make([]byte, 4)
	if _, readErr := file.ReadAt(start, 0); err != nil || readErr != nil || wrappingOf(start) != plainText {
		file.Close()
		return nil
	}
	p := &places{name: f.name, file: file, size: info.Size(), dialect: d, values: values}
	p.classes.numbers = map[string]uint16{}
	p.order = sync.OnceValue(p.inOrder)
	return p
}

var valueSeed = maphash.MakeSeed()

// hashOfKey is what a name is known by, from its key.
func hashOfKey(k directory.Key) uint32 { return uint32(k[0]) }

// appendAttr begins what a value of an attribute is known by; the form in which it compares
// comes behind.
func appendAttr(buf []byte, attr string) []byte { return append(append(buf, attr...), 0) }

func hashOf(valued []byte) uint32 { return uint32(maphash.Bytes(valueSeed, valued)) }

// note takes an entry of a block, which is an account or not.
func (p *places) note(in *place, r *ldif.Record, key, parent directory.Key, account bool) {
	n := uint32(len(in.keys))
	in.keys, in.at, in.size = append(in.keys, key), append(in.at, r.At), append(in.size, int32(len(r.Text)))
	if !p.values {
		return
	}
	if in.seen == nil {
		in.seen = &seenInBlock{classes: map[string]uint16{}, equalities: map[string]*filter.Equality{}}
	}
	in.below = append(in.below, hashOfKey(parent))
	in.classes = append(in.classes, p.classesOf(in, r.Get("objectClass")))
	if !account {
		in.others = append(in.others, int(n))
	}
	var buf [256]byte
	for i := range r.Attrs {
		eq := p.equalityOf(in.seen, &r.Attrs[i])
		if eq == nil {
			continue
		}
		for _, v := range r.Attrs[i].Values {
			if valued, ok := eq.AppendForm(appendAttr(buf[:0], eq.Name), v); ok {
				in.values = append(in.values, valueOf{hashOf(valued), n})
			}
		}
	}
}

// equalityOf is how the values of an attribute of a block compare, nil for one that is not
// looked up by.
func (p *places) equalityOf(seen *seenInBlock, a *directory.Attribute) *filter.Equality {
	if len(a.Name) == len(a.ID.String()) { // it has a number, and no options
		if !seen.looked.Has(a.ID) {
			seen.looked.Add(a.ID)
			seen.known[a.ID] = p.equality(a.Name)
		}
		return seen.known[a.ID]
	}
	eq, known := seen.equalities[a.Name]
	if !known {
		eq = p.equality(a.Name)
		seen.equalities[a.Name] = eq
	}
	return eq
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
	if n, ok := in.seen.classes[string(text)]; ok {
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
	in.seen.classes[string(text)] = n
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

// ordered is what is known of the entries, sorted by hashes, so that each of very many
// questions costs little. The numbers of entries go through all blocks.
type ordered struct {
	first  []int  // the number of the first entry of each block
	names  hashes // of the entries' names
	below  hashes // of what they stand below
	values hashes // of their values
}

func (p *places) inOrder() *ordered {
	var o ordered
	n := 0
	for i := range p.parts {
		o.first = append(o.first, n)
		n += len(p.parts[i].keys)
	}
	o.names = sorted(p.parts, o.first, func(in *place, yield func(uint32, int)) {
		for k := range in.keys {
			yield(hashOfKey(in.keys[k]), k)
		}
	})
	o.below = sorted(p.parts, o.first, func(in *place, yield func(uint32, int)) {
		for k, parent := range in.below {
			yield(parent, k)
		}
	})
	o.values = sorted(p.parts, o.first, func(in *place, yield func(uint32, int)) {
		for _, v := range in.values {
			yield(v.hash, int(v.entry))
		}
	})
	for i := range p.parts {
		p.parts[i].below, p.parts[i].values = nil, nil // they are here now
	}
	return &o
}

// hashes are sorted, and have the number of an entry behind each.
type hashes []uint64

// heaps is how many heaps hashes are put on, by how they begin, before each is sorted.
const heaps = 1 << 10

// sorted are all hashes that blocks have, with the numbers of their entries in the block.
func sorted(blocks []place, first []int, each func(in *place, yield func(hash uint32, number int))) hashes {
	heap := func(hash uint32) int { return int(hash / (1 << 32 / heaps)) }
	var ends [heaps + 1]int
	for i := range blocks {
		each(&blocks[i], func(hash uint32, _ int) { ends[heap(hash)+1]++ })
	}
	for i := range heaps {
		ends[i+1] += ends[i]
	}
	begins, all := ends, make(hashes, ends[heaps])
	for i := range blocks {
		each(&blocks[i], func(hash uint32, number int) {
			at := &begins[heap(hash)]
			all[*at] = numbered(hash, first[i]+number)
			*at++
		})
	}
	parallel.Do(heaps, func(_, i int) { slices.Sort(all[ends[i]:ends[i+1]]) })
	return all
}

func numbered(hash uint32, n int) uint64 { return uint64(hash)<<32 | uint64(n) }

// of are the numbers of the entries that some hashes stand for.
func (all hashes) of(some []uint32) (numbers []int) {
	for _, hash := range some {
		at, _ := slices.BinarySearch(all, numbered(hash, 0))
		for ; at < len(all) && uint32(all[at]>>32) == hash; at++ {
			numbers = append(numbers, int(uint32(all[at])))
		}
	}
	slices.Sort(numbers)
	return slices.Compact(numbers)
}

// Len is how many entries there are.
func (p *places) Len() int { return len(p.order().names) }

func (p *places) Named(ctx context.Context, names map[string]bool) ([]directory.Entry, error) {
	keys := make(map[directory.Key]bool, len(names))
	for name := range names {
		keys[directory.KeyOf(name)] = true
	}
	return p.keyed(ctx, keys)
}

// keyed returns the entries whose names have some keys.
func (p *places) keyed(ctx context.Context, keys map[directory.Key]bool) ([]directory.Entry, error) {
	var hashes []uint32
	for key := range keys {
		hashes = append(hashes, hashOfKey(key))
	}
	found, err := p.read(ctx, p.order().names.of(hashes))
	return slices.DeleteFunc(found, func(e directory.Entry) bool { return !keys[directory.KeyOf(e.DN)] }), err
}

// blocksOf are the blocks in which the entries of some names may stand, by the keys of these.
func (p *places) blocksOf(names []directory.Key) (blocks []int) {
	hashes := make([]uint32, len(names))
	for i, key := range names {
		hashes[i] = hashOfKey(key)
	}
	for _, n := range p.order().names.of(hashes) {
		blocks = append(blocks, p.blockOf(n))
	}
	return slices.Compact(blocks)
}

// blockOf is the block in which the entry of a number stands.
func (p *places) blockOf(number int) int {
	after, _ := slices.BinarySearch(p.order().first, number+1)
	return after - 1
}

// all returns all entries of a block.
func (p *places) all(ctx context.Context, block int) ([]directory.Entry, error) {
	numbers := make([]int, len(p.parts[block].keys))
	for i := range numbers {
		numbers[i] = p.order().first[block] + i
	}
	return p.read(ctx, numbers)
}

func (p *places) Below(ctx context.Context, names map[string]bool) ([]directory.Entry, error) {
	var hashes []uint32
	for name := range names {
		hashes = append(hashes, hashOfKey(directory.KeyOf(name)))
	}
	found, err := p.read(ctx, p.order().below.of(hashes))
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
	values, ok := cond.Narrow(d, func(attr, form string) ([]string, bool) {
		return []string{string(append(appendAttr(nil, attr), form...))}, lookedUp[attr]
	})
	var numbers []int
	if ok {
		hashes := make([]uint32, len(values))
		for i, v := range values {
			hashes[i] = hashOf([]byte(v))
		}
		numbers = p.order().values.of(hashes)
	} else if numbers, ok, err = p.ofClasses(cond); !ok || err != nil {
		return nil, ok, err
	}
	if len(numbers) > p.Len()/few {
		return nil, false, nil
	}
	found, err = p.read(ctx, numbers)
	return found, true, err
}

// ofClasses are the numbers of the entries that fulfil a filter which asks for nothing but
// classes, and perhaps of more; ok is false for another filter.
func (p *places) ofClasses(cond *filter.Filter) (numbers []int, ok bool, err error) {
	for _, attr := range cond.Attributes() {
		if !strings.EqualFold(attr, "objectClass") {
			return nil, false, nil
		}
	}
	m, err := cond.For(p.dialect, nil)
	if err != nil {
		return nil, false, err
	}
	fit := make([]bool, anyClasses+1)
	fit[anyClasses] = true
	for n, list := range p.classes.lists {
		e := directory.Entry{}
		e.Set("objectClass", list...)
		fit[n] = m.Match(&e) == filter.True
	}
	for i := range p.parts {
		for k, n := range p.parts[i].classes {
			if fit[n] {
				numbers = append(numbers, p.order().first[i]+k)
			}
		}
	}
	return numbers, true, nil
}

// Others returns the entries that are no accounts.
func (p *places) Others(ctx context.Context) ([]directory.Entry, error) {
	var numbers []int
	for i := range p.parts {
		for _, n := range p.parts[i].others {
			numbers = append(numbers, p.order().first[i]+n)
		}
	}
	return p.read(ctx, numbers)
}

var errChanged = errors.New("was written to while it was read: export it again, or read a copy of it")

// read reads the entries of some numbers, which ascend.
func (p *places) read(ctx context.Context, numbers []int) (found []directory.Entry, err error) {
	if info, err := p.file.Stat(); err != nil || info.Size() != p.size {
		return nil, p.changed()
	}
	first := p.order().first
	for len(numbers) > 0 {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		block := p.blockOf(numbers[0])
		end, _ := slices.BinarySearch(numbers, first[block]+len(p.parts[block].keys))
		some, err := p.readFrom(&p.parts[block], first[block], numbers[:end])
		if err != nil {
			return nil, err
		}
		found, numbers = append(found, some...), numbers[end:]
	}
	return found, nil
}

// readFrom reads some entries of a block, of which first is the number of the first.
func (p *places) readFrom(in *place, first int, numbers []int) ([]directory.Entry, error) {
	var text []byte
	for _, n := range numbers {
		at, size := len(text), int(in.size[n-first])
		text = slices.Grow(text, size+2)[:at+size]
		if _, err := p.file.ReadAt(text[at:], in.at[n-first]); err != nil {
			return nil, p.changed()
		}
		text = append(text, "\n\n"...)
	}
	entries, err := ldif.Parse(text)
	if err != nil || len(entries) != len(numbers) {
		return nil, p.changed()
	}
	for i := range entries {
		if directory.KeyOf(entries[i].DN) != in.keys[numbers[i]-first] {
			return nil, p.changed()
		}
	}
	return entries, nil
}

func (p *places) changed() error { return fmt.Errorf("%s %w", p.name, errChanged) }

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

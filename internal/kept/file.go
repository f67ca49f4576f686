package kept

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"maps"
	"os"
	"slices"
	"sync"

	"github.com/klauspost/compress/zstd"

	"yardbroom/internal/directory"
	"yardbroom/internal/ldif"
	"yardbroom/internal/parallel"
)

// The index stands in a skippable frame: magic, length, index, and a tail by which
// it is found from the end of the file.
const (
	skippable = 0x184D2A5B
	tailSize  = 16
)

var tailMagic = [8]byte{'y', 'b', 'i', 'n', 'd', 'e', 'x', '1'}

var crcTable = crc32.MakeTable(crc32.Castagnoli)

// Writer writes a file.
type Writer struct {
	w      *bufio.Writer
	head   int // how many octets the first frame takes, which holds no entries
	frames []Frame
	linked map[string]bool // names in back links
	n      int
	err    error
}

// NewWriter returns a Writer on w.
func NewWriter(w io.Writer) *Writer {
	head := packer().EncodeAll([]byte(ldif.Version), nil)
	f := &Writer{w: bufio.NewWriterSize(w, atOnce), head: len(head), linked: map[string]bool{}}
	f.write(head)
	return f
}

func (w *Writer) write(b []byte) {
	_, err := w.w.Write(b)
	w.failed(err)
}

// failed takes note of the first error.
func (w *Writer) failed(err error) {
	if w.err == nil && err != nil {
		w.err = fmt.Errorf("the survey cannot be kept: %w", err)
	}
}

// Add writes frames that were packed.
func (w *Writer) Add(frames ...Frame) error {
	for _, f := range frames {
		w.write(f.packed)
		for _, name := range f.linked {
			w.linked[name] = true
		}
		f.packed, f.linked = nil, nil
		w.n += f.Len()
		w.frames = append(w.frames, f)
	}
	return w.err
}

// Entries is how many entries were written.
func (w *Writer) Entries() int { return w.n }

// Unseen are the folded names that stand in back links of the entries that were packed, or
// are among some others, and that no entry of the file has.
func (w *Writer) Unseen(others ...string) []string {
	missing := make(map[uint64]string, len(w.linked)+len(others))
	for name := range w.linked {
		missing[Hash(name)] = name
	}
	for _, name := range others {
		missing[Hash(name)] = name
	}
	if len(missing) > 0 {
		for i := range w.frames {
			for _, h := range w.frames[i].entries {
				delete(missing, h.name)
			}
		}
	}
	return slices.Sorted(maps.Values(missing))
}

// Close writes the index, and returns its checksum. The underlying writer stays open.
func (w *Writer) Close() (sum uint32, err error) {
	size := 2 * binary.MaxVarintLen64
	for i := range w.frames {
		size += w.frames[i].indexSize()
	}
	index := binary.AppendUvarint(make([]byte, 0, size), uint64(w.head))
	index = binary.AppendUvarint(index, uint64(len(w.frames)))
	for i := range w.frames {
		index = w.frames[i].appendIndex(index)
	}
	begin, end := aroundIndex(index)
	w.write(begin)
	w.write(index)
	w.write(end)
	w.failed(w.w.Flush())
	return crc32.Checksum(index, crcTable), w.err
}

// aroundIndex is what stands before an index in its frame, and behind it.
func aroundIndex(index []byte) (begin, end []byte) {
	begin = binary.LittleEndian.AppendUint32(nil, skippable)
	begin = binary.LittleEndian.AppendUint32(begin, uint32(len(index)+tailSize))
	end = binary.LittleEndian.AppendUint32(nil, uint32(len(index)))
	end = binary.LittleEndian.AppendUint32(end, crc32.Checksum(index, crcTable))
	return begin, append(end, tailMagic[:]...)
}

// File is the file of a kept survey, open for reading.
type File struct {
	Sum uint32 // the checksum of its index

	file   *os.File
	frames []Frame
}

// ErrNoIndex is the error for a file that has no index, or a damaged one.
var ErrNoIndex = errors.New("it has no index")

// Open opens a file by its index. ErrNoIndex is in the error where there is none.
func Open(path string) (*File, error) {
	file, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	f := &File{file: file}
	if err := f.readIndex(); err != nil {
		file.Close()
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return f, nil
}

// Close closes the file.
func (f *File) Close() error { return f.file.Close() }

func (f *File) readIndex() error {
	info, err := f.file.Stat()
	if err != nil {
		return err
	}
	tail := make([]byte, tailSize)
	end := info.Size() - tailSize
	if end < 8 {
		return ErrNoIndex
	}
	if _, err := f.file.ReadAt(tail, end); err != nil {
		return err
	}
	length, sum := int64(binary.LittleEndian.Uint32(tail)), binary.LittleEndian.Uint32(tail[4:])
	if !bytes.Equal(tail[8:], tailMagic[:]) || length > end-8 {
		return ErrNoIndex
	}
	b := make([]byte, length)
	if _, err := f.file.ReadAt(b, end-length); err != nil {
		return err
	}
	if crc32.Checksum(b, crcTable) != sum {
		return fmt.Errorf("%w: it is damaged", ErrNoIndex)
	}
	r := indexReader{b: b}
	at := int64(r.number())
	for range r.number() {
		if r.bad {
			break
		}
		one := r.frame(at)
		if one.size <= 0 || int64(one.size) > end {
			r.bad = true
		}
		at += int64(one.size)
		f.frames = append(f.frames, one)
	}
	if r.bad || at != end-length-8 {
		return fmt.Errorf("%w: it does not fit the file", ErrNoIndex)
	}
	f.Sum = sum
	return nil
}

// Entries is how many entries it holds.
func (f *File) Entries() (n int) {
	for i := range f.frames {
		n += f.frames[i].Len()
	}
	return n
}

// Identities hands over the hashes of all identities, each with that of the name that it
// stands under.
func (f *File) Identities(take func(identity, name uint64)) {
	for i := range f.frames {
		for _, h := range f.frames[i].entries {
			take(h.identity, h.name)
		}
	}
}

// Restless are the identities of entries whose values may change unsaid.
func (f *File) Restless() (ids []string) {
	for i := range f.frames {
		ids = append(ids, f.frames[i].restless...)
	}
	return ids
}

// Identified returns the entries whose identities have some hashes, and for which want
// says yes: it is asked of others too, and of several at once.
func (f *File) Identified(ctx context.Context, ids map[uint64]bool, want func(*directory.Entry) bool) ([]directory.Entry, error) {
	return f.known(ctx, ids, func(h *hashes) uint64 { return h.identity }, want)
}

// Named returns the entries with some names, which are folded.
func (f *File) Named(ctx context.Context, names map[string]bool) ([]directory.Entry, error) {
	wanted := make(map[uint64]bool, len(names))
	for name := range names {
		wanted[Hash(name)] = true
	}
	return f.known(ctx, wanted, func(h *hashes) uint64 { return h.name },
		func(e *directory.Entry) bool { return names[directory.FoldDN(e.DN)] })
}

// known returns the entries with some hashes, and for which want says yes. Only these are
// read of their frames, on all processors.
func (f *File) known(
	ctx context.Context, wanted map[uint64]bool, of func(*hashes) uint64, want func(*directory.Entry) bool,
) ([]directory.Entry, error) {
	if len(wanted) == 0 {
		return nil, nil
	}
	frames := f.holding(wanted, of)
	rooms := make([]room, parallel.Workers(len(frames)))
	found := make([][]directory.Entry, len(frames))
	errs := make([]error, len(frames))
	parallel.Do(len(frames), func(worker, k int) {
		if errs[k] = ctx.Err(); errs[k] != nil {
			return
		}
		entries := f.frames[frames[k]].entries
		errs[k] = f.records(frames[k], &rooms[worker], func(n int, record []byte) error {
			if !wanted[of(&entries[n])] {
				return nil
			}
			one, err := f.parse(record)
			for j := range one {
				if want(&one[j]) {
					found[k] = append(found[k], one[j].Clone())
				}
			}
			return err
		})
	})
	return slices.Concat(found...), cmp.Or(errs...)
}

// holding are the numbers of the frames that hold entries with some hashes.
func (f *File) holding(wanted map[uint64]bool, of func(*hashes) uint64) (frames []int) {
	some := sought(wanted)
	for i := range f.frames {
		if some.hasAny(f.frames[i].entries, of) {
			frames = append(frames, i)
		}
	}
	return frames
}

// hashSet finds out quickly of most hashes that they are not among some.
type hashSet struct {
	maybe [1 << 10]uint64 // a bit for some of its octets
	all   map[uint64]bool
}

func sought(all map[uint64]bool) *hashSet {
	s := &hashSet{all: all}
	for h := range all {
		s.maybe[h>>6&(1<<10-1)] |= 1 << (h & 63)
	}
	return s
}

// hasAny tells whether any of the hashes that some entries have is in the set.
func (s *hashSet) hasAny(entries []hashes, of func(*hashes) uint64) bool {
	for i := range entries {
		if h := of(&entries[i]); s.maybe[h>>6&(1<<10-1)]>>(h&63)&1 == 1 && s.all[h] {
			return true
		}
	}
	return false
}

// room is what frames are read into and made in, one after the other.
type room struct{ packed, text, made []byte }

// records hands over the text of each entry of a frame, as Pack wrote it: a blank line
// and its own. It stands there until the next frame is read.
func (f *File) records(i int, into *room, take func(n int, record []byte) error) error {
	text, err := f.text(i, into)
	if err != nil {
		return err
	}
	for n := range f.frames[i].entries {
		size := len(text)
		if end := bytes.Index(text, []byte("\n\n")); end >= 0 {
			size = end + 1
		}
		if size == 0 {
			return f.damaged(errNotCounted)
		}
		if err := take(n, text[:size]); err != nil {
			return err
		}
		text = text[size:]
	}
	if len(text) > 0 {
		return f.damaged(errNotCounted)
	}
	return nil
}

var errNotCounted = errors.New("a part holds other entries than its index says")

// Mentioning returns the entries that stand right below one of some names, or
// mention it; the names are folded.
func (f *File) Mentioning(ctx context.Context, names map[string]bool) ([]directory.Entry, error) {
	wanted := make(map[uint32]bool, len(names))
	for name := range names {
		wanted[mention(Hash(name))] = true
	}
	var frames []int
	for i := range f.frames {
		if len(wanted) > 0 && slices.ContainsFunc(f.frames[i].mentioned, func(m uint32) bool { return wanted[m] }) {
			frames = append(frames, i)
		}
	}
	return f.pick(ctx, frames, func(e *directory.Entry) bool { return mentions(e, names) })
}

// mentions tells whether an entry stands right below one of some names, or mentions
// it; the names are folded.
func mentions(e *directory.Entry, names map[string]bool) bool {
	if _, parent := directory.SplitDN(directory.FoldDN(e.DN)); names[parent] {
		return true
	}
	for _, dn := range MentionedBy(e) {
		if names[dn] {
			return true
		}
	}
	return false
}

// Dangling returns the entries that stand below a name at or below base, or mention one,
// that no entry has; base is folded.
func (f *File) Dangling(ctx context.Context, base string) (found []directory.Entry, err error) {
	there := map[uint32]bool{mention(Hash(base)): true}
	for i := range f.frames {
		for _, h := range f.frames[i].entries {
			there[mention(h.name)] = true
		}
	}
	// Names outside the base, such as those of the schema, are mentioned everywhere: each is
	// looked up once.
	dangles := func(name string) bool {
		if there[mention(Hash(name))] {
			return false
		}
		if !directory.Under(name, base) {
			there[mention(Hash(name))] = true
			return false
		}
		return true
	}
	for i := range f.frames {
		if !slices.ContainsFunc(f.frames[i].mentioned, func(m uint32) bool { return !there[m] }) {
			continue
		}
		some, err := f.pick(ctx, []int{i}, func(e *directory.Entry) bool {
			_, parent := directory.SplitDN(directory.FoldDN(e.DN))
			any := dangles(parent)
			for _, name := range MentionedBy(e) {
				any = dangles(name) || any
			}
			return any
		})
		if err != nil {
			return nil, err
		}
		found = append(found, some...)
	}
	return found, nil
}

// pick returns the entries of some frames that are wanted.
func (f *File) pick(ctx context.Context, frames []int, want func(*directory.Entry) bool) (found []directory.Entry, err error) {
	var room room
	for _, i := range frames {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		text, err := f.text(i, &room)
		if err != nil {
			return nil, err
		}
		entries, err := f.parse(text)
		if err != nil {
			return nil, err
		}
		for j := range entries {
			if want(&entries[j]) {
				found = append(found, entries[j].Clone())
			}
		}
	}
	return found, nil
}

// Sample returns one entry of each kind of each place, of at most n of these, but none whose
// identity has one of the hashes in but. Which one of several it is changes with the turn.
func (f *File) Sample(ctx context.Context, n int, turn uint64, but map[uint64]bool) (some []directory.Entry, err error) {
	at, of := map[uint32]uint64{}, map[uint32]uint64{}
	for i := range f.frames {
		for _, h := range f.frames[i].entries {
			if but[h.identity] {
				continue
			}
			// The one whose hash is smallest when the turn is mixed in.
			if mixed := (h.identity ^ turn) * 0x9e3779b97f4a7c15; of[h.place] == 0 || mixed < of[h.place] {
				at[h.place], of[h.place] = h.name, max(mixed, 1)
			}
		}
	}
	places := slices.Sorted(maps.Keys(at))
	wanted := map[uint64]bool{}
	for k := range min(n, len(places)) {
		// Where there are more places than that, others come at each turn.
		wanted[at[places[(k+int(turn%uint64(len(places))))%len(places)]]] = true
	}
	return f.known(ctx, wanted, func(h *hashes) uint64 { return h.name }, func(*directory.Entry) bool { return true })
}

var decoder = sync.OnceValue(func() *zstd.Decoder {
	z, err := zstd.NewReader(nil)
	if err != nil {
		panic(err) // the options are ours
	}
	return z
})

// text returns the text of a frame.
func (f *File) text(i int, into *room) ([]byte, error) {
	err := f.packed(i, i+1, into, func(packed []byte) (err error) {
		if into.text, err = decoder().DecodeAll(packed, into.text[:0]); err != nil {
			return f.damaged(err)
		}
		return nil
	})
	return into.text, err
}

// parse returns the entries of a part of a frame's text. Their strings are that.
func (f *File) parse(text []byte) ([]directory.Entry, error) {
	entries, err := ldif.Parse(text)
	if err != nil {
		return nil, f.damaged(err)
	}
	return entries, nil
}

// packed hands over frames from one to before another as they stand in the file, one behind
// the other.
func (f *File) packed(from, to int, into *room, take func(packed []byte) error) error {
	size := 0
	for _, one := range f.frames[from:to] {
		size += one.size
	}
	rest := slices.Grow(into.packed[:0], size)[:size]
	into.packed = rest
	if _, err := f.file.ReadAt(rest, f.frames[from].at); err != nil {
		return f.damaged(err)
	}
	for _, one := range f.frames[from:to] {
		packed := rest[:one.size]
		if rest = rest[one.size:]; crc32.Checksum(packed, crcTable) != one.sum {
			return f.damaged(errors.New("a part is not as it was written"))
		}
		if err := take(packed); err != nil {
			return err
		}
	}
	return nil
}

// ErrDamaged is the error for a file of which something is not as it was written.
var ErrDamaged = errors.New("damaged")

func (f *File) damaged(err error) error {
	return fmt.Errorf("%s is %w: %w", f.file.Name(), ErrDamaged, err)
}

// Update writes the file anew, with entries of some identities put in the place of
// those that have them, or at the end; nil takes the entry away. What has not changed
// is copied as it is.
func (f *File) Update(ctx context.Context, w *Writer, shape *Shape, change map[string]*directory.Entry) error {
	r := newRenewal(shape, change)
	frames := f.holding(r.ids, func(h *hashes) uint64 { return h.identity })
	rooms := make([]room, parallel.Workers(madeAtOnce))
	copied := 0 // all before it are written
	for some := range slices.Chunk(frames, madeAtOnce) {
		made := make([][]Frame, len(some))
		errs := make([]error, len(some))
		parallel.Do(len(some), func(worker, k int) {
			made[k], errs[k] = f.changed(some[k], &rooms[worker], r)
		})
		if err := cmp.Or(errs...); err != nil {
			return err
		}
		for k, i := range some {
			if err := f.copyFrames(ctx, w, copied, i, &rooms[0]); err != nil {
				return err
			}
			copied = i + 1
			if err := w.Add(made[k]...); err != nil {
				return err
			}
		}
	}
	if err := f.copyFrames(ctx, w, copied, len(f.frames), &rooms[0]); err != nil {
		return err
	}
	var more []directory.Entry
	for _, id := range slices.Sorted(maps.Keys(r.left)) {
		if e := change[id]; e != nil {
			more = append(more, *e)
		}
	}
	return w.Add(Pack(more, shape)...)
}

// madeAtOnce is how many frames are made anew before they are written.
const madeAtOnce = 256

// renewal is what takes the place of entries, of which several frames are made anew at once.
type renewal struct {
	shape  *Shape
	change map[string]*directory.Entry
	ids    map[uint64]bool // the hashes of their identities

	mu   sync.Mutex
	left map[string]bool // those that were not met yet
}

func newRenewal(shape *Shape, change map[string]*directory.Entry) *renewal {
	r := &renewal{shape: shape, change: change, ids: make(map[uint64]bool, len(change)), left: make(map[string]bool, len(change))}
	for id := range change {
		r.ids[Hash(id)], r.left[id] = true, true
	}
	return r
}

// meet tells whether an entry is met for the first time.
func (r *renewal) meet(id string) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	first := r.left[id]
	delete(r.left, id)
	return first
}

// changed makes a frame anew.
func (f *File) changed(i int, into *room, r *renewal) ([]Frame, error) {
	was := &f.frames[i]
	restless := map[uint64]string{}
	for _, id := range was.restless {
		restless[Hash(id)] = id
	}
	// It may grow to twice the size of others before it is cut: else each that grows would
	// leave one of a few entries behind it.
	p := packing{shape: r.shape, most: 2 * frameSize, mentioned: was.mentioned, text: into.made[:0]}
	err := f.records(i, into, func(n int, record []byte) error {
		h := was.entries[n]
		if !r.ids[h.identity] {
			p.copy(record, h, restless[h.identity])
			return nil
		}
		entries, err := f.parse(record)
		for j := range entries {
			id := r.shape.Identity(&entries[j])
			e, changed := r.change[id]
			switch {
			case !changed:
				p.copy(record, h, restless[h.identity])
			case r.meet(id) && e != nil:
				p.add(e)
			}
		}
		return err
	})
	frames := p.end()
	into.made = p.text
	return frames, err
}

// atOnce is about how many octets of frames are read or written at once.
const atOnce = 256 << 10

// copyFrames writes frames from one to before another as they are.
func (f *File) copyFrames(ctx context.Context, w *Writer, from, to int, into *room) error {
	for from < to {
		if err := ctx.Err(); err != nil {
			return err
		}
		end, size := from+1, f.frames[from].size
		for ; end < to && size+f.frames[end].size <= atOnce; end++ {
			size += f.frames[end].size
		}
		err := f.packed(from, end, into, func(packed []byte) error {
			one := f.frames[from]
			one.packed = packed
			from++
			return w.Add(one)
		})
		if err != nil {
			return err
		}
	}
	return nil
}

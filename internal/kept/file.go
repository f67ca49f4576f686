package kept

import (
	"bytes"
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
	w      io.Writer
	head   int // how many octets the first frame takes, which holds no entries
	frames []Frame
	n      int
	err    error
}

// NewWriter returns a Writer on w.
func NewWriter(w io.Writer) *Writer {
	head := packer().EncodeAll([]byte(ldif.Version), nil)
	f := &Writer{w: w, head: len(head)}
	f.write(head)
	return f
}

func (w *Writer) write(b []byte) {
	if w.err != nil {
		return
	}
	if _, err := w.w.Write(b); err != nil {
		w.err = fmt.Errorf("the survey cannot be kept: %w", err)
	}
}

// Add writes frames that were packed.
func (w *Writer) Add(frames ...Frame) error {
	for _, f := range frames {
		w.write(f.packed)
		f.packed = nil
		w.n += f.Len()
		w.frames = append(w.frames, f)
	}
	return w.err
}

// Entries is how many entries were written.
func (w *Writer) Entries() int { return w.n }

// Close writes the index, and returns its checksum. The underlying writer stays open.
func (w *Writer) Close() (sum uint32, err error) {
	b := binary.AppendUvarint(nil, uint64(w.head))
	b = binary.AppendUvarint(b, uint64(len(w.frames)))
	for i := range w.frames {
		b = w.frames[i].appendIndex(b)
	}
	w.write(appendTail(nil, b))
	return crc32.Checksum(b, crcTable), w.err
}

// appendTail appends an index in its frame.
func appendTail(b, index []byte) []byte {
	b = binary.LittleEndian.AppendUint32(b, skippable)
	b = binary.LittleEndian.AppendUint32(b, uint32(len(index)+tailSize))
	b = append(b, index...)
	b = binary.LittleEndian.AppendUint32(b, uint32(len(index)))
	b = binary.LittleEndian.AppendUint32(b, crc32.Checksum(index, crcTable))
	return append(b, tailMagic[:]...)
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

// Identities hands over the hashes of all identities.
func (f *File) Identities(take func(hash uint64)) {
	for i := range f.frames {
		for _, h := range f.frames[i].entries {
			take(h.identity)
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
// says yes: it is asked of others too.
func (f *File) Identified(ctx context.Context, ids map[uint64]bool, want func(*directory.Entry) bool) ([]directory.Entry, error) {
	return f.known(ctx, ids, func(h hashes) uint64 { return h.identity }, want)
}

// Named returns the entries with some names, which are folded.
func (f *File) Named(ctx context.Context, names map[string]bool) ([]directory.Entry, error) {
	wanted := make(map[uint64]bool, len(names))
	for name := range names {
		wanted[Hash(name)] = true
	}
	return f.known(ctx, wanted, func(h hashes) uint64 { return h.name },
		func(e *directory.Entry) bool { return names[directory.FoldDN(e.DN)] })
}

// known returns the entries with some hashes, and for which want says yes. Only these are
// read of their frames.
func (f *File) known(
	ctx context.Context, wanted map[uint64]bool, of func(hashes) uint64, want func(*directory.Entry) bool,
) (found []directory.Entry, err error) {
	if len(wanted) == 0 {
		return nil, nil
	}
	for i := range f.frames {
		entries := f.frames[i].entries
		if !slices.ContainsFunc(entries, func(h hashes) bool { return wanted[of(h)] }) {
			continue
		}
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		err := f.records(i, func(n int, record []byte) error {
			if !wanted[of(entries[n])] {
				return nil
			}
			one, err := f.parse(record)
			for j := range one {
				if want(&one[j]) {
					found = append(found, one[j].Clone())
				}
			}
			return err
		})
		if err != nil {
			return nil, err
		}
	}
	return found, nil
}

// records hands over the text of each entry of a frame, as Pack wrote it: a blank line
// and its own. That is never written to again.
func (f *File) records(i int, take func(n int, record []byte) error) error {
	text, err := f.text(i)
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
	for _, i := range frames {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		text, err := f.text(i)
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

// Sample returns one entry of each kind of each place, of at most n of these, unless fits
// says no to it. Which one of several it is changes with the turn.
func (f *File) Sample(ctx context.Context, n int, turn uint64, fits func(*directory.Entry) bool) (some []directory.Entry, err error) {
	at, of := map[uint32]uint64{}, map[uint32]uint64{}
	for i := range f.frames {
		for _, h := range f.frames[i].entries {
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
	return f.known(ctx, wanted, func(h hashes) uint64 { return h.name }, fits)
}

var decoder = sync.OnceValue(func() *zstd.Decoder {
	z, err := zstd.NewReader(nil)
	if err != nil {
		panic(err) // the options are ours
	}
	return z
})

// text returns the text of a frame.
func (f *File) text(i int) ([]byte, error) {
	packed, err := f.packed(i)
	if err != nil {
		return nil, err
	}
	text, err := decoder().DecodeAll(packed, nil)
	if err != nil {
		return nil, f.damaged(err)
	}
	return text, nil
}

// parse returns the entries of a part of a frame's text.
func (f *File) parse(text []byte) ([]directory.Entry, error) {
	entries, err := ldif.Parse(text)
	if err != nil {
		return nil, f.damaged(err)
	}
	return entries, nil
}

// packed returns a frame as it stands in the file.
func (f *File) packed(i int) ([]byte, error) {
	packed := make([]byte, f.frames[i].size)
	if _, err := f.file.ReadAt(packed, f.frames[i].at); err != nil {
		return nil, f.damaged(err)
	}
	if crc32.Checksum(packed, crcTable) != f.frames[i].sum {
		return nil, f.damaged(errors.New("a part is not as it was written"))
	}
	return packed, nil
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
	ids := make(map[uint64]bool, len(change))
	for id := range change {
		ids[Hash(id)] = true
	}
	left := make(map[string]bool, len(change))
	for id := range change {
		left[id] = true
	}
	for i := range f.frames {
		if err := ctx.Err(); err != nil {
			return err
		}
		if !slices.ContainsFunc(f.frames[i].entries, func(h hashes) bool { return ids[h.identity] }) {
			if err := f.copyFrame(w, i); err != nil {
				return err
			}
			continue
		}
		frames, err := f.changed(i, shape, ids, change, left)
		if err != nil {
			return err
		}
		if err := w.Add(frames...); err != nil {
			return err
		}
	}
	var more []directory.Entry
	for _, id := range slices.Sorted(maps.Keys(left)) {
		if e := change[id]; e != nil {
			more = append(more, *e)
		}
	}
	return w.Add(Pack(more, shape)...)
}

// changed makes a frame anew, with entries of some identities put in the place of those
// that have them; ids are the hashes of these. What it has met is no longer left.
func (f *File) changed(
	i int, shape *Shape, ids map[uint64]bool, change map[string]*directory.Entry, left map[string]bool,
) ([]Frame, error) {
	was := &f.frames[i]
	restless := map[uint64]string{}
	for _, id := range was.restless {
		restless[Hash(id)] = id
	}
	// It may grow to twice the size of others before it is cut: else each that grows would
	// leave one of a few entries behind it.
	p := packing{shape: shape, most: 2 * frameSize, mentioned: was.mentioned}
	err := f.records(i, func(n int, record []byte) error {
		h := was.entries[n]
		if !ids[h.identity] {
			p.copy(record, h, restless[h.identity])
			return nil
		}
		entries, err := f.parse(record)
		for j := range entries {
			id := shape.Identity(&entries[j])
			e, changed := change[id]
			switch {
			case !changed:
				p.copy(record, h, restless[h.identity])
			case e != nil && left[id]:
				p.add(e)
			}
			delete(left, id)
		}
		return err
	})
	return p.end(), err
}

// copyFrame writes a frame as it is.
func (f *File) copyFrame(w *Writer, i int) (err error) {
	one := f.frames[i]
	if one.packed, err = f.packed(i); err != nil {
		return err
	}
	return w.Add(one)
}

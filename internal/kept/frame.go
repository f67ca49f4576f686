// Package kept is the file of a kept survey: LDIF (RFC 2849), compressed with
// zstd (RFC 8878). It consists of frames that can be read one by one, and of an
// index behind them, in a frame that decoders skip (RFC 8878, section 3.1.2): which
// entries stand in which frame, by hashes of their identities and names, and which
// names they mention. So a few entries of a million are found, and a survey in which
// little has changed is made from the one before by copying what has not.
package kept

import (
	"encoding/binary"
	"hash/crc32"
	"hash/fnv"
	"iter"
	"slices"
	"strings"
	"sync"

	"github.com/klauspost/compress/zstd"

	"yardbroom/internal/directory"
	"yardbroom/internal/ldif"
)

// Shape says what the index has to know of a directory's entries.
type Shape struct {
	// Identity is what stays as it is of an entry whatever else changes.
	Identity func(*directory.Entry) string
	// Kind tells entries of one place from others that may be treated in another way there.
	// Nil means that all are of one.
	Kind func(*directory.Entry) string
	// Restless tells of an entry that its values may change although the server
	// does not say that it has changed. Nil means that none are.
	Restless func(*directory.Entry) bool
	// BackLinks are attributes that a server fills in with what names the entry.
	BackLinks []string
}

// frameSize is about how many octets of text a frame holds: small enough that a few
// entries are read at little cost, large enough that it compresses well.
const frameSize = 32 << 10

// Frame is a run of entries as a file holds them.
type Frame struct {
	packed []byte // nil for one that stands in a file
	at     int64  // where it stands there
	size   int    // how many octets it takes
	sum    uint32 // the checksum of these
	// entries are the hashes of the identities and names, in the order of the text.
	entries []hashes
	// mentioned are hashes of the names that its entries stand below or mention, and of
	// some that they once did, sorted.
	mentioned []uint32
	// restless are the identities of entries that are.
	restless []string
	// linked are the folded names in its entries' back links; nil for a frame of a file.
	linked []string
	index  []byte // all that as it stands in the index of a file; nil for a frame that does not
}

type hashes struct {
	identity, name uint64
	place          uint32 // of its kind and the name of what it stands below
}

// Len is how many entries it holds.
func (f *Frame) Len() int { return len(f.entries) }

// packer is the encoder, made once it is needed: it takes memory for each processor.
var packer = sync.OnceValue(func() *zstd.Encoder {
	z, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest))
	if err != nil {
		panic(err) // the options are ours
	}
	return z
})

// Pack makes frames of entries. It may run on several goroutines at once.
func Pack(entries []directory.Entry, shape *Shape) []Frame {
	p := packing{shape: shape, most: frameSize}
	for i := range entries {
		p.add(&entries[i])
	}
	return p.end()
}

// packing makes frames.
type packing struct {
	shape *Shape
	most  int // how many octets of text end a frame
	// mentioned are taken for mentioned in each frame besides what its entries mention.
	mentioned []uint32

	frame  Frame
	text   []byte
	frames []Frame
}

// add takes an entry.
func (p *packing) add(e *directory.Entry) {
	p.text = ldif.AppendEntry(p.text, e)
	p.frame.note(e, p.shape)
	if len(p.text) >= p.most {
		p.pack()
	}
}

// copy takes an entry of a frame as that holds it, whose mentions have to be among those
// that are taken for mentioned; restless is its identity if it is that, else "".
func (p *packing) copy(record []byte, h hashes, restless string) {
	p.text = append(p.text, record...)
	p.frame.entries = append(p.frame.entries, h)
	if restless != "" {
		p.frame.restless = append(p.frame.restless, restless)
	}
	if len(p.text) >= p.most {
		p.pack()
	}
}

// pack ends a frame.
func (p *packing) pack() {
	f := &p.frame
	f.mentioned = append(f.mentioned, p.mentioned...)
	slices.Sort(f.mentioned)
	f.mentioned = slices.Clip(slices.Compact(f.mentioned))
	f.packed = packer().EncodeAll(p.text, nil)
	f.size, f.sum = len(f.packed), crc32.Checksum(f.packed, crcTable)
	p.frames = append(p.frames, *f)
	p.frame, p.text = Frame{}, p.text[:0]
}

// end returns the frames.
func (p *packing) end() []Frame {
	if len(p.text) > 0 {
		p.pack()
	}
	return p.frames
}

// note takes an entry into the index.
func (f *Frame) note(e *directory.Entry, shape *Shape) {
	identity, name := shape.Identity(e), directory.FoldDN(e.DN)
	_, parent := directory.SplitDN(name)
	f.mentioned = append(f.mentioned, mention(Hash(parent)))
	for attr, dn := range MentionedBy(e) {
		f.mentioned = append(f.mentioned, mention(Hash(dn)))
		back := slices.ContainsFunc(shape.BackLinks, func(name string) bool { return strings.EqualFold(name, attr) })
		if back && !slices.Contains(f.linked, dn) {
			f.linked = append(f.linked, strings.Clone(dn))
		}
	}
	kind := ""
	if shape.Kind != nil {
		kind = shape.Kind(e)
	}
	f.entries = append(f.entries, hashes{Hash(identity), Hash(name), mention(Hash(kind + " " + parent))})
	if shape.Restless != nil && shape.Restless(e) {
		f.restless = append(f.restless, strings.Clone(identity))
	}
}

// MentionedBy goes through the folded names of other entries that an entry mentions, each
// with the attribute that does. Who wrote to it is not among them: nobody keeps those
// names up to date.
func MentionedBy(e *directory.Entry) iter.Seq2[string, string] {
	return func(yield func(attr, name string) bool) {
		for i := range e.Attrs {
			a := &e.Attrs[i]
			if strings.EqualFold(a.Name, "creatorsName") || strings.EqualFold(a.Name, "modifiersName") {
				continue
			}
			for _, v := range a.Values {
				if name, ok := mentioned(v); ok && !yield(a.Name, name) {
					return
				}
			}
		}
	}
}

// mentioned returns the folded name of an entry that a value is, or that a value
// of a name with something before it (MS-ADTS 3.1.1.3.1.2: B:32:…:DN) ends in.
func mentioned(value string) (folded string, ok bool) {
	if !strings.Contains(value, "=") {
		return "", false
	}
	if (strings.HasPrefix(value, "B:") || strings.HasPrefix(value, "S:")) && strings.Count(value, ":") >= 3 {
		value = strings.SplitN(value, ":", 4)[3]
	}
	return directory.FoldValidDN(value)
}

// Hash is what the index knows an identity or a folded name by.
func Hash(text string) uint64 {
	h := fnv.New64a()
	_, _ = h.Write([]byte(text)) // it takes everything
	// FNV leaves the last octets in the low bits: mixed, each bit depends on all.
	x := h.Sum64()
	x ^= x >> 32
	x *= 0x9e3779b97f4a7c15
	return x ^ x>>29
}

// mention is what a name that is mentioned is known by, from its hash.
func mention(hash uint64) uint32 { return uint32(hash >> 32) }

// indexSize is at least how many octets appendIndex appends.
func (f *Frame) indexSize() int {
	if f.index != nil {
		return len(f.index)
	}
	size := 4 + 20*len(f.entries) + 4*len(f.mentioned) + 4*binary.MaxVarintLen64
	for _, id := range f.restless {
		size += len(id) + binary.MaxVarintLen64
	}
	return size
}

// appendIndex appends what the index says of a frame.
func (f *Frame) appendIndex(b []byte) []byte {
	if f.index != nil {
		return append(b, f.index...)
	}
	b = binary.AppendUvarint(b, uint64(f.size))
	b = binary.LittleEndian.AppendUint32(b, f.sum)
	b = binary.AppendUvarint(b, uint64(len(f.entries)))
	for _, h := range f.entries {
		b = binary.LittleEndian.AppendUint64(b, h.identity)
		b = binary.LittleEndian.AppendUint64(b, h.name)
		b = binary.LittleEndian.AppendUint32(b, h.place)
	}
	b = binary.AppendUvarint(b, uint64(len(f.mentioned)))
	for _, m := range f.mentioned {
		b = binary.LittleEndian.AppendUint32(b, m)
	}
	b = binary.AppendUvarint(b, uint64(len(f.restless)))
	for _, id := range f.restless {
		b = binary.AppendUvarint(b, uint64(len(id)))
		b = append(b, id...)
	}
	return b
}

// indexReader reads what appendIndex wrote; bad is set once something is wrong.
type indexReader struct {
	b   []byte
	bad bool
}

func (r *indexReader) number() uint64 {
	n, size := binary.Uvarint(r.b)
	if size <= 0 {
		r.bad = true
		return 0
	}
	r.b = r.b[size:]
	return n
}

// take cuts n parts of a size off.
func (r *indexReader) take(n uint64, size int) []byte {
	if n > uint64(len(r.b)/size) {
		r.bad, n = true, 0
	}
	out := r.b[:int(n)*size]
	r.b = r.b[len(out):]
	return out
}

func (r *indexReader) frame(at int64) Frame {
	begin := r.b
	f := Frame{at: at, size: int(r.number())}
	if raw := r.take(1, 4); !r.bad {
		f.sum = binary.LittleEndian.Uint32(raw)
	}
	raw := r.take(r.number(), 20)
	f.entries = make([]hashes, 0, len(raw)/20)
	for ; len(raw) > 0; raw = raw[20:] {
		f.entries = append(f.entries, hashes{binary.LittleEndian.Uint64(raw), binary.LittleEndian.Uint64(raw[8:]), binary.LittleEndian.Uint32(raw[16:])})
	}
	raw = r.take(r.number(), 4)
	f.mentioned = make([]uint32, 0, len(raw)/4)
	for ; len(raw) > 0; raw = raw[4:] {
		f.mentioned = append(f.mentioned, binary.LittleEndian.Uint32(raw))
	}
	for range r.number() {
		if r.bad {
			break
		}
		f.restless = append(f.restless, string(r.take(r.number(), 1)))
	}
	f.index = begin[:len(begin)-len(r.b)]
	return f
}

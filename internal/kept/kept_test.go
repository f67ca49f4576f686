package kept

import (
	"bytes"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/directory"
	"yardbroom/internal/ldif"
)

var shape = &Shape{
	Identity: func(e *directory.Entry) string { return e.First("entryUUID") },
	Restless: func(e *directory.Entry) bool { return e.Has("pwdFailureTime") },
}

func person(n int) directory.Entry {
	e := directory.Entry{DN: fmt.Sprintf("uid=p%d,ou=Staff,dc=larkmoor,dc=example", n)}
	e.Set("objectClass", "inetOrgPerson")
	e.Set("entryUUID", fmt.Sprintf("uuid-%d", n))
	e.Set("manager", fmt.Sprintf("UID=p%d, ou=staff,dc=larkmoor,dc=example", n/10))
	e.Set("description", fmt.Sprintf("Nr. %d, zu Füßen des Doms", n))
	if n%100 == 7 {
		e.Set("pwdFailureTime", "20261101000000Z")
	}
	return e
}

func people(n int) (all []directory.Entry) {
	for i := range n {
		all = append(all, person(i))
	}
	return all
}

// file keeps entries in a file and opens it.
func file(t *testing.T, entries []directory.Entry) *File {
	t.Helper()
	path := filepath.Join(t.TempDir(), "kept.ldif.zst")
	write(t, path, func(w *Writer) error {
		s := NewStream(w, shape)
		for i := range entries {
			if err := s.Add(&entries[i]); err != nil {
				return err
			}
		}
		return s.Flush()
	})
	return open(t, path)
}

func write(t *testing.T, path string, fill func(w *Writer) error) {
	t.Helper()
	out, err := os.Create(path)
	require.NoError(t, err)
	w := NewWriter(out)
	require.NoError(t, fill(w))
	_, err = w.Close()
	require.NoError(t, err)
	require.NoError(t, out.Close())
}

func open(t *testing.T, path string) *File {
	t.Helper()
	f, err := Open(path)
	require.NoError(t, err)
	t.Cleanup(func() { f.Close() })
	return f
}

func namesOf(entries []directory.Entry) (names []string) {
	for i := range entries {
		names = append(names, entries[i].DN)
	}
	slices.Sort(names)
	return names
}

// all returns the entries as whoever knows nothing of frames reads them.
func all(t *testing.T, f *File) map[string]directory.Entry {
	t.Helper()
	raw, err := os.ReadFile(f.file.Name())
	require.NoError(t, err)
	text, err := decoder().DecodeAll(raw, nil)
	require.NoError(t, err)
	assert.True(t, bytes.HasPrefix(text, []byte("version: 1\n")))
	r, found := ldif.NewReader(bytes.NewReader(text)), map[string]directory.Entry{}
	for {
		rec, err := r.Next()
		if err != nil {
			assert.Equal(t, f.Entries(), len(found))
			return found
		}
		found[rec.Entry.First("entryUUID")] = rec.Entry.Clone()
	}
}

func TestAFileIsPlainLDIFAndFoundInByNames(t *testing.T) {
	entries := people(5000)
	f := file(t, entries)
	assert.Greater(t, len(f.frames), 10)
	for id, e := range all(t, f) {
		var n int
		_, err := fmt.Sscanf(id, "uuid-%d", &n)
		require.NoError(t, err)
		assert.Equal(t, entries[n], e)
	}
	ctx := t.Context()
	found, err := f.Identified(ctx, map[uint64]bool{Hash("uuid-17"): true, Hash("uuid-4711"): true, Hash("nobody"): true},
		func(e *directory.Entry) bool {
			return e.First("entryUUID") == "uuid-17" || e.First("entryUUID") == "uuid-4711"
		})
	require.NoError(t, err)
	assert.Equal(t, namesOf([]directory.Entry{entries[17], entries[4711]}), namesOf(found))

	found, err = f.Named(ctx, map[string]bool{directory.FoldDN("UID=P33,ou=staff, dc=larkmoor,dc=example"): true, "dc=nowhere": true})
	require.NoError(t, err)
	assert.Equal(t, namesOf(entries[33:34]), namesOf(found))

	found, err = f.Mentioning(ctx, map[string]bool{directory.FoldDN(entries[12].DN): true})
	require.NoError(t, err)
	assert.Equal(t, namesOf(entries[120:130]), namesOf(found), "those who have him as their manager, however they write it")

	found, err = f.Mentioning(ctx, map[string]bool{"ou=staff,dc=larkmoor,dc=example": true})
	require.NoError(t, err)
	assert.Len(t, found, 5000, "those who stand right below it")

	restless := f.Restless()
	assert.Len(t, restless, 50)
	assert.Contains(t, restless, "uuid-107")
}

func TestValuesThatNameAnEntry(t *testing.T) {
	for value, want := range map[string]string{
		"CN=Ada,DC=Larkmoor":          "cn=ada,dc=larkmoor",
		"B:4:1234:CN=Ada,DC=Larkmoor": "cn=ada,dc=larkmoor",
		"S:3:a=b:CN=Ada,DC=Larkmoor":  "cn=ada,dc=larkmoor",
		"a text":                      "",
		"= no name":                   "",
	} {
		got, ok := mentioned(value)
		assert.Equal(t, want != "", ok, value)
		if ok {
			assert.Equal(t, want, got, value)
		}
	}
}

func TestAnUpdateChangesWhatHasChangedAndNothingElse(t *testing.T) {
	entries := people(3000)
	f := file(t, entries)
	moved := person(1500)
	moved.DN = "uid=p1500,ou=Parked,dc=larkmoor,dc=example"
	newcomer := person(9000)
	path := filepath.Join(t.TempDir(), "next.ldif.zst")
	write(t, path, func(w *Writer) error {
		return f.Update(t.Context(), w, shape, map[string]*directory.Entry{
			"uuid-1500": &moved, "uuid-3": nil, "uuid-9000": &newcomer, "nobody": nil,
		})
	})
	next := open(t, path)
	want := all(t, f)
	delete(want, "uuid-3")
	want["uuid-1500"], want["uuid-9000"] = moved, newcomer
	assert.Equal(t, want, all(t, next))
	found, err := next.Named(t.Context(), map[string]bool{directory.FoldDN(moved.DN): true, directory.FoldDN(entries[3].DN): true})
	require.NoError(t, err)
	assert.Equal(t, []string{moved.DN}, namesOf(found), "its index is new too")
}

// A survey that was made of another, which was made of another, holds what it should, and
// is found in as if it had been written at once.
func TestManyUpdatesAreAsOneFileOfEverything(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	now := map[string]directory.Entry{}
	for _, e := range people(1200) {
		now[e.First("entryUUID")] = e
	}
	f := file(t, people(1200))
	for turn := range 12 {
		change := map[string]*directory.Entry{}
		for range 60 {
			n := r.IntN(1500)
			e, id := person(n), fmt.Sprintf("uuid-%d", n)
			switch r.IntN(5) {
			case 0:
				change[id] = nil
				delete(now, id)
				continue
			case 1:
				e.DN = fmt.Sprintf("uid=p%d,ou=Parked,dc=larkmoor,dc=example", n)
			case 2:
				e.Set("manager", "uid=p3,ou=Staff,dc=larkmoor,dc=example")
			case 3:
				e.Set("pwdFailureTime", "20261102000000Z")
			default:
				e.Set("description", strings.Repeat("far more than before ", 500))
			}
			change[id], now[id] = &e, e
		}
		path := filepath.Join(t.TempDir(), "next.ldif.zst")
		write(t, path, func(w *Writer) error { return f.Update(t.Context(), w, shape, change) })
		next := open(t, path)
		require.Equal(t, now, all(t, next), "turn %d", turn)
		sameAnswers(t, file(t, slices.Collect(maps.Values(now))), next)
		for i := range next.frames {
			text, err := next.text(i, &room{})
			require.NoError(t, err)
			assert.Less(t, len(text), 3*frameSize)
		}
		f = next
	}
}

// sameAnswers asks two files that hold the same the same.
func sameAnswers(t *testing.T, want, got *File) {
	t.Helper()
	ctx := t.Context()
	identities := func(f *File) (all []uint64) {
		f.Identities(func(h, _ uint64) { all = append(all, h) })
		slices.Sort(all)
		return all
	}
	assert.Equal(t, identities(want), identities(got))
	assert.ElementsMatch(t, want.Restless(), got.Restless())
	for _, ask := range []func(f *File) ([]directory.Entry, error){
		func(f *File) ([]directory.Entry, error) {
			return f.Mentioning(ctx, map[string]bool{"uid=p3,ou=staff,dc=larkmoor,dc=example": true})
		},
		func(f *File) ([]directory.Entry, error) {
			return f.Mentioning(ctx, map[string]bool{"ou=parked,dc=larkmoor,dc=example": true})
		},
		func(f *File) ([]directory.Entry, error) {
			return f.Named(ctx, map[string]bool{"uid=p7,ou=parked,dc=larkmoor,dc=example": true, "uid=p8,ou=staff,dc=larkmoor,dc=example": true})
		},
		func(f *File) ([]directory.Entry, error) {
			return f.Identified(ctx, map[uint64]bool{Hash("uuid-12"): true, Hash("uuid-1300"): true}, func(*directory.Entry) bool { return true })
		},
		func(f *File) ([]directory.Entry, error) { return f.Dangling(ctx, "dc=larkmoor,dc=example") },
		func(f *File) ([]directory.Entry, error) {
			return f.Sample(ctx, 5, 7, nil)
		},
	} {
		a, err := ask(want)
		require.NoError(t, err)
		b, err := ask(got)
		require.NoError(t, err)
		assert.Equal(t, namesOf(a), namesOf(b))
	}
}

// A sample has somebody of each place as long as anybody is left there.
func TestASamplePassesOverNobodysPlace(t *testing.T) {
	f := file(t, people(3))
	but := map[uint64]bool{}
	var seen []string
	for range 3 {
		some, err := f.Sample(t.Context(), 5, 7, but)
		require.NoError(t, err)
		require.Len(t, some, 1)
		seen = append(seen, some[0].DN)
		but[Hash(some[0].First("entryUUID"))] = true
	}
	assert.ElementsMatch(t, namesOf(people(3)), seen)
	some, err := f.Sample(t.Context(), 5, 7, but)
	require.NoError(t, err)
	assert.Empty(t, some)
}

// A part of a file that holds more or fewer entries than its index says is damage too.
func TestAPartThatHoldsOtherEntriesThanItsIndexSays(t *testing.T) {
	f := file(t, people(100))
	any := func(*directory.Entry) bool { return true }
	last := len(f.frames[0].entries) - 1
	for name, entries := range map[string][]hashes{
		"fewer": f.frames[0].entries[:last],
		"more":  append(slices.Clone(f.frames[0].entries), hashes{}),
	} {
		f.frames[0].entries = entries
		_, err := f.Identified(t.Context(), map[uint64]bool{Hash("uuid-3"): true}, any)
		assert.ErrorIs(t, err, ErrDamaged, name)
		err = f.Update(t.Context(), NewWriter(&bytes.Buffer{}), shape, map[string]*directory.Entry{"uuid-3": nil})
		assert.ErrorIs(t, err, ErrDamaged, name)
	}
}

// What is damaged is told, and never copied on.
func TestDamageIsSeen(t *testing.T) {
	path := file(t, people(3000)).file.Name()
	whole, err := os.ReadFile(path)
	require.NoError(t, err)
	for at := 0; at < len(whole); at += 997 {
		broken := slices.Clone(whole)
		broken[at] ^= 0x41
		path := filepath.Join(t.TempDir(), "broken.ldif.zst")
		require.NoError(t, os.WriteFile(path, broken, 0o600))
		f, err := Open(path)
		if err != nil {
			assert.ErrorIs(t, err, ErrNoIndex)
			continue
		}
		err = f.Update(t.Context(), NewWriter(&bytes.Buffer{}), shape, nil)
		if at > 30 { // before that is the frame of the version, which is made anew
			assert.ErrorIs(t, err, ErrDamaged, "octet %d", at)
		}
		f.Close()
	}
	for _, cut := range []int{0, 5, len(whole) / 2, len(whole) - 1} {
		require.NoError(t, os.WriteFile(path, whole[:cut], 0o600))
		_, err := Open(path)
		assert.Error(t, err)
	}
}

// FuzzIndex reads any index whose checksum is right.
func FuzzIndex(f *testing.F) {
	frames := Pack(people(50), shape)
	index := []byte{20, byte(len(frames))}
	for i := range frames {
		index = frames[i].appendIndex(index)
	}
	f.Add(index)
	f.Fuzz(func(t *testing.T, index []byte) {
		path := filepath.Join(t.TempDir(), "any")
		begin, end := aroundIndex(index)
		require.NoError(t, os.WriteFile(path, slices.Concat(make([]byte, 1000), begin, index, end), 0o600))
		file, err := Open(path)
		if err != nil {
			return
		}
		defer file.Close()
		_, _ = file.Named(t.Context(), map[string]bool{"dc=larkmoor": true})
	})
}

package source

import (
	"bytes"
	"compress/gzip"
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
	"unicode/utf16"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/directory"
	"yardbroom/internal/settings"
)

const adText = `dn: DC=x
objectClass: domainDNS
objectSid:: AQQAAAAAAAUVAAAAAQAAAAIAAAADAAAA

dn: CN=Ada,OU=Staff,DC=x
objectClass: user
sAMAccountName: ada
userAccountControl: 512
userPassword: never to be seen
`

func write(t *testing.T, name string, data []byte) *File {
	t.Helper()
	path := filepath.Join(t.TempDir(), name)
	require.NoError(t, os.WriteFile(path, data, 0o600))
	f, err := OpenFile(path, nil)
	require.NoError(t, err)
	return f
}

func TestFilesAreReadWhateverTheyAreWrappedIn(t *testing.T) {
	var gz, zst, u16 bytes.Buffer
	g := gzip.NewWriter(&gz)
	_, err := g.Write([]byte(adText))
	require.NoError(t, err)
	require.NoError(t, g.Close())
	z, err := zstd.NewWriter(&zst)
	require.NoError(t, err)
	_, err = z.Write([]byte(adText))
	require.NoError(t, err)
	require.NoError(t, z.Close())
	u16.Write([]byte{0xff, 0xfe})
	for _, r := range utf16.Encode([]rune(adText)) {
		u16.Write([]byte{byte(r), byte(r >> 8)})
	}
	for name, data := range map[string][]byte{"plain": []byte(adText), "gzip": gz.Bytes(), "zstd": zst.Bytes(), "UTF-16": u16.Bytes(),
		"carriage returns": []byte(strings.ReplaceAll(adText, "\n", "\r\n"))} {
		t.Run(name, func(t *testing.T) {
			f := write(t, "export.txt", data) // the name tells nothing
			s, err := f.Survey(context.Background())
			require.NoError(t, err)
			assert.Equal(t, directory.AD, s.Dialect)
			assert.Equal(t, 2, s.Entries)
			assert.Equal(t, 1, s.Accounts.Len())
			found, err := f.Find(context.Background(), "(sAMAccountName=ADA)")
			require.NoError(t, err)
			require.Len(t, found, 1)
			assert.False(t, found[0].Has("userPassword"))
			id, err := f.Identity(context.Background())
			require.NoError(t, err)
			assert.Equal(t, Identity{Dialect: "ad", Base: "DC=x", ID: "S-1-5-21-1-2-3"}, id)
		})
	}
	for name, data := range map[string][]byte{"gzip": gz.Bytes(), "zstd": zst.Bytes()} {
		t.Run("truncated "+name, func(t *testing.T) {
			_, err := write(t, "short", data[:len(data)-9]).Survey(context.Background())
			assert.ErrorContains(t, err, "ends early")
		})
	}
	_, err = write(t, "book", []byte("PK\x03\x04rest")).Survey(context.Background())
	assert.ErrorContains(t, err, "a workbook")
}

func TestStandardInputCanBeReadTwice(t *testing.T) {
	f, err := OpenFile("-", strings.NewReader(adText))
	require.NoError(t, err)
	for range 2 {
		found, err := f.Find(context.Background(), "(objectClass=user)")
		require.NoError(t, err)
		assert.Len(t, found, 1)
	}
	require.NoError(t, f.Close())
	_, err = os.Stat(f.path)
	assert.ErrorIs(t, err, os.ErrNotExist)
}

func TestTheDialectIsToldByTheWholeFile(t *testing.T) {
	// The first megabyte could be of any server; the last entry decides.
	text := strings.Repeat("dn: cn=g,dc=x\nobjectClass: group\ncn: g\ndescription: "+strings.Repeat("x", 100)+"\n\n", 12000) + adText
	s, err := write(t, "late.ldif", []byte(text)).Survey(context.Background())
	require.NoError(t, err)
	assert.Equal(t, directory.AD, s.Dialect)
	assert.Equal(t, 12002, s.Entries)

	s, err = write(t, "other.ldif", []byte("dn: uid=a,dc=x\nobjectClass: inetOrgPerson\nnsUniqueId: 1\n")).Survey(context.Background())
	require.NoError(t, err)
	assert.Equal(t, directory.NS389, s.Dialect)
}

func TestChildrenOfManyInOnePass(t *testing.T) {
	f := write(t, "a.ldif", []byte(adText+"\ndn: cn=b,ou=staff,dc=X\ncn: b\n\ndn: cn=deep,cn=b,ou=Staff,dc=x\ncn: deep\n"))
	got, err := f.Children(context.Background(), []string{"OU=Staff,DC=x", "CN=Ada,OU=Staff,DC=x"})
	require.NoError(t, err)
	assert.Equal(t, map[string][]string{"OU=Staff,DC=x": {"CN=Ada,OU=Staff,DC=x", "cn=b,ou=staff,dc=X"}}, got)
}

func TestSurveysAreKeptWithoutSecretsAndUnderTheirNames(t *testing.T) {
	dir := t.TempDir()
	ctx := context.Background()
	f := write(t, "a.ldif", []byte(adText))
	m, err := Keep(ctx, f, Keeping{Dir: dir, Name: "monday", Now: time.Now})
	require.NoError(t, err)
	assert.Equal(t, 2, m.Entries)
	_, err = Keep(ctx, f, Keeping{Dir: dir, Name: "monday", Now: time.Now})
	assert.ErrorContains(t, err, "kept already")
	for _, bad := range []string{"", "../x", "a/b", ".hidden"} {
		_, err = Keep(ctx, f, Keeping{Dir: dir, Name: bad, Now: time.Now})
		assert.Error(t, err, bad)
		_, err = OpenKept(dir, bad)
		assert.ErrorIs(t, err, os.ErrNotExist, bad)
	}
	kept, err := OpenKept(dir, "monday")
	require.NoError(t, err)
	found, err := kept.Get(ctx, []string{"cn=ada,ou=staff,dc=x"})
	require.NoError(t, err)
	require.Len(t, found, 1)
	assert.False(t, found[0].Has("userPassword"))
	require.NoError(t, os.Remove(filepath.Join(dir, "monday.json")))
	_, err = OpenKept(dir, "monday")
	assert.ErrorIs(t, err, os.ErrNotExist, "without its manifest it is not whole")
}

func TestPasswordsStayOffTheWire(t *testing.T) {
	assert.True(t, isLoopback("127.0.0.1"))
	assert.True(t, isLoopback("::1"))
	assert.True(t, isLoopback("localhost"))
	assert.False(t, isLoopback("dc1.larkmoor.example"))
	assert.False(t, isLoopback("10.0.0.1"))
}

func TestServersToAvoidAreNotAsked(t *testing.T) {
	avoid := []string{"dc3.larkmoor.example", "ldaps://dc4.larkmoor.example:636"}
	assert.True(t, avoided(avoid, "ldaps://DC3.larkmoor.example"))
	assert.True(t, avoided(avoid, "ldaps://dc4.larkmoor.example:636"))
	assert.False(t, avoided(avoid, "ldaps://dc1.larkmoor.example"))
	_, err := Connect(context.Background(), Target{Yard: settings.Yard{Servers: []string{"ldaps://dc3.larkmoor.example"}, Avoid: avoid}})
	assert.ErrorContains(t, err, "one to avoid")
}

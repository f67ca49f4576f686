package homes_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/homes"
)

var at = time.Date(2026, 11, 23, 9, 30, 0, 0, time.UTC)

// files is a share of homes in a temporary folder.
func files(t *testing.T, paths ...string) homes.Share {
	t.Helper()
	root, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	s := homes.Share{Path: `\\files.larkmoor.example\homes`, Folder: filepath.Join(root, "homes"), Archive: filepath.Join(root, "archive")}
	require.NoError(t, os.Mkdir(s.Archive, 0o700))
	require.NoError(t, os.Mkdir(s.Folder, 0o755))
	for _, p := range paths {
		put(t, s, p, "content of "+p)
	}
	return s
}

func put(t *testing.T, s homes.Share, path, content string) {
	t.Helper()
	full := filepath.Join(s.Folder, path)
	require.NoError(t, os.MkdirAll(filepath.Dir(full), 0o755))
	require.NoError(t, os.WriteFile(full, []byte(content), 0o640))
}

// find looks a home up and returns why it must not be touched.
func find(s homes.Share, value string) (homes.Place, error) {
	h, err := homes.Locate([]homes.Share{s}, value)
	if err != nil {
		return homes.Place{}, err
	}
	return homes.Find(h, at)
}

func TestAPathThatMayMeanAnotherFolderIsRefused(t *testing.T) {
	shares := []homes.Share{{Path: `\\files.larkmoor.example\homes`, Folder: "/srv/homes"}, {Path: "/home", Folder: "/srv/unix"}}
	for value, want := range map[string]string{
		"":                                               "it is empty",
		`\\files.larkmoor.example\homes`:                 "is the folder of all homes itself",
		`\\FILES.larkmoor.example\Homes\`:                "is the folder of all homes itself",
		`\\files.larkmoor.example`:                       "no path in the settings' homes is above it",
		`\\files.larkmoor.example\homes2\a`:              "no path in the settings' homes is above it",
		`\\files.larkmoor.example\homes\..\secret`:       `has the part ".."`,
		`\\files.larkmoor.example\homes\.`:               `has the part "."`,
		`\\files.larkmoor.example\homes\\anna`:           "has an empty part",
		`\\files.larkmoor.example\homes\%username%`:      "may mean another folder",
		`\\files.larkmoor.example\homes\anna.`:           "may mean another folder",
		`\\files.larkmoor.example\homes\STAFF~1\anna`:    "may mean another folder",
		`\\files.larkmoor.example\homes\anna:stream`:     "may mean another folder",
		`\\files.larkmoor.example\homes\.set-aside\anna`: "lies in the holding folder",
		`\\files.larkmoor.example\homes\.SET-ASIDE`:      "lies in the holding folder",
		"\\\\files.larkmoor.example\\homes\\an\x1b[2Jna": "characters that do not belong",
		"\\\\files.larkmoor.example\\homes\\anna\xff":    "not valid UTF-8",
		"/home":         "is the folder of all homes itself",
		"/home/../etc":  `has the part ".."`,
		"/homes/anna":   "no path in the settings' homes is above it",
		"/home//anna":   "has an empty part",
		`/home/an\na`:   "characters that do not belong",
		"/HOME/anna":    "no path in the settings' homes is above it",
		"home/anna":     "is not a full path",
		"C:":            "is not a full path",
		`C:anna`:        "is not a full path",
		`C`:             "is not a full path",
		`1:\anna`:       "is not a full path",
		`C:\homes`:      "no path in the settings' homes is above it",
		"anna":          "is not a full path",
		"/":             "names no folder",
		`C:\`:           "names no folder",
		`C:\homes\anna`: "no path in the settings' homes is above it",
	} {
		_, err := homes.Locate(shares, value)
		assert.ErrorContains(t, err, want, "%q", value)
	}
	for value, logon := range map[string]string{`\\Files.Larkmoor.Example\HOMES\Anna`: "anna", `\\files.larkmoor.example/homes/staff/anna/`: "anna", "/home/anna": "anna"} {
		h, err := homes.Locate(shares, value)
		require.NoError(t, err, value)
		assert.True(t, h.Named(logon), value)
		assert.False(t, h.Named("ann") || h.Named("") || h.Named("staff"), value)
	}
	unix, err := homes.Locate(shares, "/home/anna")
	require.NoError(t, err)
	assert.False(t, unix.Named("Anna"), "capitals count there")
}

func TestAHomeThatIsNotOnesOwnIsRefused(t *testing.T) {
	shares := []homes.Share{{Path: `\\files\homes`, Folder: "/srv/homes"}, {Path: "/home", Folder: "/srv/homes"}}
	for name, c := range map[string]struct{ mine, theirs, want string }{
		"the same":                {`\\files\homes\anna`, `\\FILES\homes\Anna\`, "is the home of other too"},
		"the same by another way": {`\\files\homes\anna`, `/home/anna`, "is the home of other too"},
		"in it":                   {`\\files\homes\anna`, `\\files\homes\anna\guest`, "the home of other lies in"},
		"around it":               {`\\files\homes\staff\anna`, `\\files\homes\staff`, "lies in the home of other"},
		"not known where":         {`\\files\homes\anna`, `\\old\users\anna`, "whether it is the same folder is not known"},
		"not a path, same name":   {`\\files\homes\anna`, `..\anna`, "whether it is the same folder is not known"},
		"beside it":               {`\\files\homes\anna`, `\\files\homes\anna-maria`, ""},
		"elsewhere":               {`\\files\homes\anna`, `\\old\users\bert`, ""},
		"none":                    {`\\files\homes\anna`, ``, ""},
	} {
		o := homes.NewOwners(shares)
		o.Add("1", "me", c.mine)
		o.Add("1", "me", `/home/anna`)
		o.Add("2", "other", c.theirs)
		o.Sort()
		h, err := homes.Locate(shares, c.mine)
		require.NoError(t, err)
		if c.want == "" {
			assert.Empty(t, o.Conflict(h, "1"), name)
			continue
		}
		assert.Contains(t, o.Conflict(h, "1"), c.want, name)
	}
}

func TestMappingsThatWouldBeDangerousAreRefused(t *testing.T) {
	ok := homes.Share{Path: "/home", Folder: "/srv/homes", Archive: "/srv/archive"}
	require.NoError(t, homes.CheckAll([]homes.Share{ok, {Path: `\\files\homes`, Folder: "/srv/homes", Archive: "/srv/archive"}}))
	for want, change := range map[string]func(*homes.Share){
		"is not a full path":                    func(s *homes.Share) { s.Path = "homes" },
		"below the root":                        func(s *homes.Share) { s.Folder = "/" },
		`folder: "homes"`:                       func(s *homes.Share) { s.Folder = "homes" },
		`holding: ".."`:                         func(s *homes.Share) { s.Holding = ".." },
		`holding: "a/b"`:                        func(s *homes.Share) { s.Holding = "a/b" },
		`archive: "archive"`:                    func(s *homes.Share) { s.Archive = "archive" },
		"must not lie in each other":            func(s *homes.Share) { s.Archive = "/srv/homes/archive" },
		"/srv/homes must not lie in each other": func(s *homes.Share) { s.Archive = "/srv" },
	} {
		s := ok
		change(&s)
		assert.ErrorContains(t, s.Check(), want)
	}
	assert.ErrorContains(t, homes.CheckAll([]homes.Share{ok, {Path: "/h2", Folder: "/srv/homes/staff"}}), "must not lie in each other")
	assert.ErrorContains(t, homes.CheckAll([]homes.Share{ok, {Path: "/h2", Folder: "/srv/homes"}}), "mapped twice")
}

func TestWhatIsNotAPlainFolderIsRefused(t *testing.T) {
	s := files(t, "anna/notes.txt", "staff/bert/notes.txt", "file")
	require.NoError(t, os.Symlink("anna", filepath.Join(s.Folder, "dora")))
	require.NoError(t, os.Symlink("staff", filepath.Join(s.Folder, "crew")))
	require.NoError(t, os.Symlink(t.TempDir(), filepath.Join(s.Folder, "away")))
	for value, want := range map[string]string{
		"dora":      "is a link",
		`crew\bert`: "is a link",
		"away":      "is a link",
		"file":      "is not a folder",
		"nobody":    "there is no such folder",
		"anna":      "leads to it, so it may be another's home too",
	} {
		_, err := find(s, s.Path+`\`+value)
		assert.ErrorContains(t, err, want, value)
	}
	p, err := find(s, s.Path+`\Staff\BERT`)
	require.NoError(t, err, "as the share spells it")
	assert.Equal(t, "staff/bert", p.Path)
	put(t, s, "staff/Bert/x", "")
	_, err = find(s, s.Path+`\staff\BERT`)
	assert.ErrorContains(t, err, "may be one of")
}

func TestAHomeOnAnotherFileSystemIsRefused(t *testing.T) {
	s := files(t, "anna/notes.txt")
	on := filepath.Join(s.Folder, "anna")
	if out, err := exec.Command("mount", "-t", "tmpfs", "none", on).CombinedOutput(); err != nil {
		t.Skipf("no file system can be mounted here: %s", out)
	}
	t.Cleanup(func() { _ = exec.Command("umount", on).Run() })
	_, err := find(s, s.Path+`\anna`)
	assert.ErrorContains(t, err, "lies on another file system")
}

func TestSetAsideAndBackIsNothingDone(t *testing.T) {
	s := files(t, "anna/notes.txt", "anna/deep/er/x", "bert/y")
	before := tree(t, s.Folder)
	p, err := find(s, s.Path+`\anna`)
	require.NoError(t, err)
	spot(t, p, homes.AtHome)
	require.NoError(t, p.SetAside())
	spot(t, p, homes.SetAside)
	info, err := os.Stat(filepath.Join(s.Folder, ".set-aside"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o700), info.Mode().Perm())
	assert.DirExists(t, filepath.Join(s.Folder, ".set-aside", "20261123T093000Z-anna"))
	assert.NoDirExists(t, filepath.Join(s.Folder, "anna"))
	assert.ErrorIs(t, p.SetAside(), homes.ErrAbsent, "twice")
	require.NoError(t, p.PutBack())
	spot(t, p, homes.AtHome)
	assert.ErrorIs(t, p.PutBack(), homes.ErrAbsent, "twice")
	require.NoError(t, os.Remove(filepath.Join(s.Folder, ".set-aside")))
	assert.Equal(t, before, tree(t, s.Folder))
}

func spot(t *testing.T, p homes.Place, want homes.Spot) {
	t.Helper()
	got, err := p.Spot()
	require.NoError(t, err)
	require.Equal(t, want, got)
}

// tree lists what is in a folder.
func tree(t *testing.T, folder string) (all []string) {
	t.Helper()
	require.NoError(t, filepath.Walk(folder, func(path string, info os.FileInfo, err error) error {
		all = append(all, path+" "+info.Mode().String())
		return err
	}))
	return all
}

func TestAnotherFolderInItsPlaceIsLeftAlone(t *testing.T) {
	s := files(t, "anna/notes.txt", "bert/y")
	p, err := find(s, s.Path+`\anna`)
	require.NoError(t, err)

	require.NoError(t, os.Rename(p.String(), p.String()+"-old"))
	put(t, s, "anna/somebody else's", "")
	assert.ErrorContains(t, p.SetAside(), "another folder than the one that was staged")
	assert.FileExists(t, filepath.Join(s.Folder, "anna", "somebody else's"))
	spot(t, p, homes.Elsewhere)

	// A link to the very folder is not the folder.
	require.NoError(t, os.RemoveAll(p.String()))
	require.NoError(t, os.Symlink("anna-old", p.String()))
	assert.ErrorContains(t, p.SetAside(), "is a link")
	require.NoError(t, os.Remove(p.String()))
	require.NoError(t, os.Rename(p.String()+"-old", p.String()))

	// The place is taken when it is to come back.
	require.NoError(t, p.SetAside())
	put(t, s, "anna/new", "")
	spot(t, p, homes.Displaced)
	assert.ErrorContains(t, p.PutBack(), "is taken")
	assert.FileExists(t, filepath.Join(s.Folder, "anna", "new"))
	assert.FileExists(t, filepath.Join(p.HeldAt(), "notes.txt"))
}

func TestAHoldingFolderThatOthersMayWriteToIsRefused(t *testing.T) {
	s := files(t, "anna/notes.txt")
	p, err := find(s, s.Path+`\anna`)
	require.NoError(t, err)
	holding := filepath.Join(s.Folder, ".set-aside")
	require.NoError(t, os.Mkdir(holding, 0o700))
	require.NoError(t, os.Chmod(holding, 0o777))
	assert.ErrorContains(t, p.SetAside(), "others may write in")
	require.NoError(t, os.Remove(holding))
	require.NoError(t, os.Symlink(t.TempDir(), holding))
	assert.ErrorContains(t, p.SetAside(), "is a link")
	spot(t, p, homes.AtHome)
}

// aside sets a home with all kinds of things in it aside.
func aside(t *testing.T) (homes.Share, homes.Place, string) {
	t.Helper()
	s := files(t, "anna/notes.txt", "anna/deep/ümläut\n", "anna/\xff\xfe")
	require.NoError(t, os.Symlink("/etc/passwd", filepath.Join(s.Folder, "anna", "link")))
	require.NoError(t, os.Mkdir(filepath.Join(s.Folder, "anna", "empty"), 0o500))
	if out, err := exec.Command("mkfifo", filepath.Join(s.Folder, "anna", "pipe")).CombinedOutput(); err != nil {
		t.Logf("no pipe: %s", out)
	}
	p, err := find(s, s.Path+`\anna`)
	require.NoError(t, err)
	require.NoError(t, p.SetAside())
	file, err := homes.ArchiveOf([]homes.Share{s}, p)
	require.NoError(t, err)
	assert.Equal(t, filepath.Join(s.Archive, "20261123T093000Z-anna.tar.zst"), file)
	return s, p, file
}

func TestAnArchiveHoldsTheHomeAndOnlyThenIsItRemoved(t *testing.T) {
	s, p, file := aside(t)
	require.NoError(t, homes.Archive(p, file))
	info, err := os.Stat(file)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	assert.ErrorContains(t, homes.Archive(p, file), "exists already")
	sum, err := homes.CheckArchive(p, file)
	require.NoError(t, err)

	assert.ErrorContains(t, homes.Remove(p, file, "0123"), "is not the archive that was made of it")
	assert.DirExists(t, p.HeldAt())
	require.NoError(t, homes.Remove(p, file, sum))
	gone, err := p.Gone()
	require.NoError(t, err)
	assert.True(t, gone)
	assert.DirExists(t, filepath.Join(s.Folder, ".set-aside"), "the holding folder stays")

	if _, err := exec.LookPath("zstd"); err != nil {
		t.Skip("zstd is not installed")
	}
	out := t.TempDir()
	text, err := exec.Command("tar", "--zstd", "-xf", file, "-C", out).CombinedOutput()
	require.NoError(t, err, "%s", text)
	content, err := os.ReadFile(filepath.Join(out, "deep", "ümläut\n"))
	require.NoError(t, err)
	assert.Equal(t, "content of anna/deep/ümläut\n", string(content))
	link, err := os.Readlink(filepath.Join(out, "link"))
	require.NoError(t, err)
	assert.Equal(t, "/etc/passwd", link)
}

func TestWhatIsNotInTheArchiveKeepsTheFolder(t *testing.T) {
	for name, change := range map[string]func(t *testing.T, home string){
		"a new file": func(t *testing.T, home string) {
			require.NoError(t, os.WriteFile(filepath.Join(home, "new"), nil, 0o600))
		},
		"a longer one": func(t *testing.T, home string) {
			require.NoError(t, os.WriteFile(filepath.Join(home, "notes.txt"), []byte("longer than before"), 0o600))
		},
		"another link": func(t *testing.T, home string) {
			require.NoError(t, os.Remove(filepath.Join(home, "link")))
			require.NoError(t, os.Symlink("/etc/shadow", filepath.Join(home, "link")))
		},
		"a file for a link": func(t *testing.T, home string) {
			require.NoError(t, os.Remove(filepath.Join(home, "link")))
			require.NoError(t, os.WriteFile(filepath.Join(home, "link"), nil, 0o600))
		},
	} {
		_, p, file := aside(t)
		require.NoError(t, homes.Archive(p, file))
		sum, err := homes.CheckArchive(p, file)
		require.NoError(t, err)
		change(t, p.HeldAt())
		assert.ErrorContains(t, homes.Remove(p, file, sum), "is not in the archive", name)
		assert.FileExists(t, filepath.Join(p.HeldAt(), "notes.txt"), name)
	}
	// What has gone meanwhile, as after a removal that was cut short, is no
	// reason to keep the rest.
	_, p, file := aside(t)
	require.NoError(t, homes.Archive(p, file))
	sum, err := homes.CheckArchive(p, file)
	require.NoError(t, err)
	require.NoError(t, os.RemoveAll(filepath.Join(p.HeldAt(), "deep")))
	require.NoError(t, homes.Remove(p, file, sum))
}

func TestABrokenArchiveKeepsTheFolder(t *testing.T) {
	_, p, file := aside(t)
	require.NoError(t, homes.Archive(p, file))
	whole, err := os.ReadFile(file)
	require.NoError(t, err)
	sum, err := homes.CheckArchive(p, file)
	require.NoError(t, err)
	for i := range whole {
		broken := append([]byte(nil), whole...)
		broken[i] ^= 0x41
		require.NoError(t, os.WriteFile(file, broken, 0o600))
		require.Error(t, homes.Remove(p, file, sum), "octet %d", i)
	}
	require.NoError(t, os.WriteFile(file, whole[:len(whole)/2], 0o600))
	require.Error(t, homes.Remove(p, file, sum))
	assert.FileExists(t, filepath.Join(p.HeldAt(), "notes.txt"))
}

func TestAMountInAHeldHomeIsNeitherArchivedNorRemoved(t *testing.T) {
	_, p, file := aside(t)
	on := filepath.Join(p.HeldAt(), "deep")
	if out, err := exec.Command("mount", "-t", "tmpfs", "none", on).CombinedOutput(); err != nil {
		t.Skipf("no file system can be mounted here: %s", out)
	}
	t.Cleanup(func() { _ = exec.Command("umount", on).Run() })
	assert.ErrorContains(t, homes.Archive(p, file), "lies on another file system")
	assert.NoFileExists(t, file)
}

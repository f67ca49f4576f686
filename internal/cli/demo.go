package cli

import (
	"context"
	_ "embed"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"text/template"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/urfave/cli/v3"

	"yardbroom/internal/calendar"
	"yardbroom/internal/demo"
	"yardbroom/internal/practice"
	"yardbroom/internal/settings"
)

func (a *app) demoCommand() *cli.Command {
	return &cli.Command{
		Name: "demo", Usage: "the whole job, on the made-up Larkmoor Observatory, with no server and no network",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "keep", Value: "larkmoor-demo", Usage: "leave the demo's files in `DIR`"},
			&cli.BoolFlag{
				Name:  "serve",
				Usage: "leave the practice directory running until Ctrl-C; a folder of an earlier demo is served as it is",
			},
			asOfFlag(),
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if err := a.noArguments(cmd); err != nil {
				return err
			}
			asOf := a.now()
			if text := cmd.String("as-of"); text != "" {
				var err error
				if asOf, err = calendar.ParseTime(text, time.UTC); err != nil {
					return usage("--as-of: %w", err)
				}
			}
			d := &demonstration{
				app:   a,
				dir:   cmd.String("keep"),
				asOf:  asOf.UTC().Truncate(time.Second),
				dated: cmd.IsSet("as-of"),
			}
			again, err := d.prepare(cmd.Bool("serve"))
			if err != nil {
				return err
			}
			server, err := d.start(ctx)
			if err != nil {
				return err
			}
			defer server.Close()
			if again {
				a.note("note: the directory begins anew, as larkmoor.ldif in that folder has it: what an earlier run changed in it is gone, while its batches and journal are still there")
			}
			if !again {
				if err := d.tour(ctx); err != nil {
					return err
				}
			}
			return d.end(ctx, cmd.Bool("serve"))
		},
	}
}

// demonstration is one run of the demo in its folder.
type demonstration struct {
	*app
	dir   string
	asOf  time.Time
	dated bool // for another time than now, which each command must be told
	addr  string
}

// demoMark is the file by which a folder is known to be a demo's, which may
// be made anew.
const demoMark = ".yardbroom-demo"

const demoPassword = "practice only"

// prepare makes the folder with the directory, roster and settings. It
// reports whether there is one from an earlier run that is only to be served.
func (d *demonstration) prepare(serve bool) (again bool, err error) {
	switch names, err := os.ReadDir(d.dir); {
	case errors.Is(err, fs.ErrNotExist):
	case err != nil:
		return false, fmt.Errorf("--keep: %w", err)
	case len(names) > 0:
		if _, err := os.Stat(filepath.Join(d.dir, demoMark)); err != nil {
			return false, usage("--keep %s: the folder is not empty and is no demo's; name another", d.dir)
		}
		if serve {
			set, err := settings.Load(filepath.Join(d.dir, "settings.yaml"))
			if err != nil {
				return false, err
			}
			u, err := url.Parse(set.Yards["observatory"].Servers[0])
			if err != nil {
				return false, err
			}
			d.addr = u.Host
			return true, nil
		}
		for _, name := range []string{"state", "larkmoor.ldif", "roster.csv", "settings.yaml", "password", "report.html", "week", "ladders", demo.Logs} {
			if err := os.RemoveAll(filepath.Join(d.dir, name)); err != nil {
				return false, err
			}
		}
	}
	if err := os.MkdirAll(d.dir, 0o700); err != nil {
		return false, fmt.Errorf("--keep: %w", err)
	}
	return false, d.write()
}

//go:embed demo/settings.yaml
var demoSettings string

func (d *demonstration) write() error {
	addr, err := freeAddress()
	if err != nil {
		return err
	}
	d.addr = addr
	yard := demo.Yard{AsOf: d.asOf}
	if err := d.result(filepath.Join(d.dir, "larkmoor.ldif"), yard.WriteLDIF); err != nil {
		return err
	}
	if err := d.result(filepath.Join(d.dir, "roster.csv"), yard.WriteRoster); err != nil {
		return err
	}
	if err := yard.WriteLogs(d.dir); err != nil {
		return err
	}
	var yaml strings.Builder
	err = template.Must(template.New("").Parse(demoSettings)).Execute(&yaml, map[string]string{
		"Address": addr,
		"Base":    demo.Base,
		"Account": demo.Account,
		"Ended":   d.asOf.AddDate(0, 0, -20).Format(time.DateOnly),
	})
	if err != nil {
		return err
	}
	files := map[string]string{demoMark: "", "password": demoPassword + "\n", "settings.yaml": yaml.String()}
	for name, content := range files {
		if err := os.WriteFile(filepath.Join(d.dir, name), []byte(content), 0o600); err != nil {
			return err
		}
	}
	return nil
}

func freeAddress() (string, error) {
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", err
	}
	defer ln.Close()
	return ln.Addr().String(), nil
}

// start puts the practice directory on its address.
func (d *demonstration) start(ctx context.Context) (*practice.Server, error) {
	file, err := os.Open(filepath.Join(d.dir, "larkmoor.ldif"))
	if err != nil {
		return nil, err
	}
	defer file.Close()
	dir := practice.New(demo.Base, demo.SID, d.now)
	if err := dir.Load(file); err != nil {
		return nil, fmt.Errorf("%s: %w", file.Name(), err)
	}
	server := &practice.Server{Dir: dir, Account: demo.Account, Password: demoPassword, Host: "dc1.larkmoor.example"}
	if _, err := server.Listen(ctx, d.addr); err != nil {
		return nil, fmt.Errorf("starting the practice directory: %w", err)
	}
	return server, nil
}

// step is one command of the tour.
type step struct {
	says string
	args []string
}

func (d *demonstration) steps() []step {
	parked := "OU=Parked," + demo.Base
	return []step{
		{
			"What is untidy? The directory is read over LDAP and judged, check by check.",
			[]string{"audit", "--limit", "2"},
		},
		{"Somebody rings and cannot sign in. Who is locked out, now?", []string{"list", "users", "--locked"}},
		{"He was unlocked this morning, and yesterday. What locks him out, and does unlocking help?", []string{"trace", "jcastell", "--limit", "5"}},
		{
			"One of the stale ones, closely: a service account that nobody has used for over a year.",
			[]string{"show", "svc-plate-scanner"},
		},
		{"It scans the old plates once a year, so it is left alone from now on, with a reason, an owner and an end.",
			[]string{
				"exempt",
				"add",
				"svc-plate-scanner",
				"--reason",
				"scans the old plates once a year",
				"--owner",
				"archive@larkmoor.example",
				"--until",
				"1y",
			}},
		{"Who has left, which accounts have no owner, who has no account? HR's list against the accounts.",
			[]string{"reconcile", "--roster", filepath.Join(d.dir, "roster.csv"), "--limit", "2"}},
		{
			"One account has the person id of somebody else and its own mail address. He was asked; from now on its owner is known.",
			[]string{"link", "confirm", "divarsen", "20208", "--why", "asked him"},
		},
		{"Stage a cleanup: disable what is stale and park it. Only sure findings come in. Nothing is changed yet.",
			[]string{"stage", "disable,move", "--check", "stale", "--to", parked, "--why", "yearly cleanup"}},
		{"One of them is away on an expedition; take the line out.", []string{"batch", "drop", "1", "qsandoval"}},
		{
			"Carry it out. Each entry is read again, tested, journaled, changed and read back.",
			[]string{"apply", "1", "--yes"},
		},
		{
			"Look again: what is left of the stale accounts?",
			[]string{"audit", "--check", "stale", "--check", "disabled-astray", "--limit", "5"},
		},
		{
			"For whoever asked: the whole audit as one page to open in a browser.",
			[]string{"audit", "--output", filepath.Join(d.dir, "report.html")},
		},
		{
			"Take it all back. One is not enabled again, since by the roster its person has left.",
			[]string{"undo", "1", "--yes"},
		},
		{"And prove that the record of all this is whole.", []string{"journal", "--verify"}},
	}
}

// tour runs the commands as a user would.
func (d *demonstration) tour(ctx context.Context) error {
	st := d.style(time.Local)
	bold := func(s string) string {
		if st.Color {
			return text.Colors{text.Bold}.Sprint(s)
		}
		return s
	}
	for name, value := range map[string]string{"YARDBROOM_CONFIG": filepath.Join(d.dir, "settings.yaml"), "YARDBROOM_STATE": filepath.Join(d.dir, "state")} {
		if err := os.Setenv(name, value); err != nil {
			return err
		}
	}
	fmt.Fprintf(d.out, "The Larkmoor Observatory is made up; its directory of accounts is served from memory at %s.\n",
		d.addr)
	fmt.Fprintf(d.out, "Every command below is one that you can type yourself, after:\n\n%s\n", bold(d.exports()))
	for i, s := range d.steps() {
		if d.dated && slices.Contains([]string{"audit", "list", "show", "stage", "reconcile"}, s.args[0]) {
			s.args = append(s.args, "--as-of", d.asOf.Format(time.RFC3339))
		}
		fmt.Fprintf(d.out, "\n%s\n%s\n\n", fmt.Sprintf("%d. %s", i+1, s.says), bold("$ yardbroom "+quoted(s.args)))
		if status := Main(ctx, append([]string{"yardbroom"}, s.args...), d.in, d.out, d.err); status != exitDone && (status != exitNotDone || s.args[0] != "stage") {
			return fmt.Errorf("the demo stopped: that command ended with status %d", status)
		}
	}
	if err := d.week(ctx, fmt.Sprintf("\n%d. ", len(d.steps())+1), bold); err != nil {
		return err
	}
	return d.seasons(ctx, fmt.Sprintf("\n%d. ", len(d.steps())+2), bold)
}

func (d *demonstration) exports() string {
	return "  export YARDBROOM_CONFIG=" + quoted(
		[]string{filepath.Join(d.dir, "settings.yaml")}) + " YARDBROOM_STATE=" + quoted(
		[]string{filepath.Join(d.dir, "state")})
}

// quoted writes words as a shell takes them.
func quoted(words []string) string {
	out := make([]string, len(words))
	for i, w := range words {
		out[i] = w
		if w == "" || strings.ContainsAny(w, " \t\n'\"$&;<>()|*?[]#~`\\!{}") {
			out[i] = "'" + strings.ReplaceAll(w, "'", `'\''`) + "'"
		}
	}
	return strings.Join(out, " ")
}

func (d *demonstration) end(ctx context.Context, serve bool) error {
	fmt.Fprintf(d.out,
		"\nLeft in %s: larkmoor.ldif (the directory), roster.csv (HR's list), report.html, settings.yaml, state, logs (of sign-ins), week (pages and mails), ladders (the directory after five months on the ladders).\n",
		d.dir)
	if !serve {
		fmt.Fprintf(
			d.out,
			"To type the commands yourself:\n\n  yardbroom demo --serve --keep %s     # in one terminal\n%s     # in another\n  yardbroom audit\n  yardbroom reconcile\n  yardbroom list users --idle 120d --enabled\n\nOr without a server: yardbroom audit --from %s\n",
			quoted([]string{d.dir}),
			d.exports(),
			quoted([]string{filepath.Join(d.dir, "larkmoor.ldif")}),
		)
		return nil
	}
	fmt.Fprintf(d.out,
		"The practice directory runs at ldap://%s until Ctrl-C. In another terminal:\n\n%s\n  yardbroom audit\n",
		d.addr, d.exports())
	<-ctx.Done()
	return nil
}

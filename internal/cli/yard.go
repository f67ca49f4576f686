package cli

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"yardbroom/internal/audit"
	"yardbroom/internal/directory"
	"yardbroom/internal/render"
	"yardbroom/internal/sheet"
	"yardbroom/internal/source"
	"yardbroom/internal/wording"
	"yardbroom/internal/work"
)

func (a *app) yardCommand() *cli.Command {
	return &cli.Command{
		Name: "yard", Usage: "the yards of the settings: add one, list them, test one",
		Commands: []*cli.Command{
			a.yardAddCommand(),
			{Name: "list", Usage: "the yards of the settings", Flags: outputFlags(rowFormats), Action: a.yardList},
			{
				Name:      "servers",
				Usage:     "the servers of a yard, by the directory itself and by DNS, and which are in use",
				ArgsUsage: "[YARD|URL]",
				Flags:     append(serverFlags(), &cli.BoolFlag{Name: "no-dns", Usage: "do not ask DNS"}),
				Action:    a.yardServers,
			},
			{
				Name:      "test",
				Usage:     "connection, encryption, sign-in, rights, clock, and what this account cannot see",
				ArgsUsage: "[YARD|URL]",
				Flags: append(
					serverFlags(),
					&cli.BoolFlag{
						Name:  "quick",
						Usage: "do not read every entry to find out what is hidden from this account",
					},
					&cli.StringFlag{
						Name:  "probe",
						Usage: "in this `OU`, make an account, delete it, bring it back and delete it again, to see whether what is deleted comes back",
					},
				),
				Action: a.yardTest,
			},
		},
	}
}

func (a *app) yardList(_ context.Context, cmd *cli.Command) error {
	if err := a.noArguments(cmd); err != nil {
		return err
	}
	if len(a.work.Settings.Yards) == 0 {
		a.note("the settings name no yard")
		return nil
	}
	var names []string
	for name := range a.work.Settings.Yards {
		names = append(names, name)
	}
	slices.Sort(names)
	list := &sheet.Sheet{Name: "yards", Columns: []sheet.Column{
		column("yard", "Yard", sheet.Text), column("default", "Default", sheet.Truth), column("servers", "Servers", sheet.Text),
		column("base", "Base", sheet.Text), column("bound", "Bound as", sheet.Text),
	}}
	for _, name := range names {
		y := a.work.Settings.Yards[name]
		list.Rows = append(list.Rows, []any{name, name == a.work.Settings.Default, strings.Join(y.Servers, " "), y.Base, y.Bind.DN})
	}
	return a.writeList(cmd, list, a.style(nil), 2, 3)
}

// dnsPatience is how long DNS is waited for.
const dnsPatience = 5 * time.Second

func (a *app) yardServers(ctx context.Context, cmd *cli.Command) error {
	p, err := a.work.OpenServer(ctx, at(cmd, cmd.Args().First()))
	if err != nil {
		return err
	}
	defer p.Close()
	server, _ := p.Server()
	var lookup source.LookupSRV
	if !cmd.Bool("no-dns") {
		lookup = lookupDNS
	}
	known, err := server.Servers(ctx, lookup)
	if known == nil && err != nil {
		return err
	}
	if err != nil {
		a.note("note: %v", err)
	}
	yes := map[bool]string{true: "yes"}
	unused := false
	var rows [][]string
	for _, k := range known {
		use := "not in the settings: its own sign-ins are not seen"
		switch {
		case k.Avoided:
			use = "avoided: its own sign-ins are not seen"
		case k.Silent != nil:
			use = "does not answer: " + k.Silent.Error()
		case k.Connected:
			use = "in use, read from"
		case k.URL != "":
			use = "in use, asked for its own sign-ins"
		}
		unused = unused || k.URL == "" && !k.Avoided && k.Listed
		rows = append(rows,
			[]string{render.Visible(k.Host), render.Visible(k.Site), yes[k.Listed], yes[k.InDNS], render.Visible(use)})
	}
	render.Table(a.out, a.style(nil), []string{"Server", "Site", "In the directory", "In DNS", "Use"}, rows, 4)
	if unused {
		a.note("name all servers of the directory in the yard's servers, so that a last logon is sure")
	}
	return nil
}

func (a *app) yardTest(ctx context.Context, cmd *cli.Command) error {
	return a.testYard(ctx, cmd, at(cmd, cmd.Args().First()))
}

// testYard says line by line what can be done with a yard.
func (a *app) testYard(ctx context.Context, cmd *cli.Command, from work.From) error {
	p, err := a.work.OpenServer(ctx, from)
	if err != nil {
		return err
	}
	defer p.Close()
	server, _ := p.Server()
	probe, err := server.Probe(ctx)
	if err != nil {
		return err
	}
	failed, width := false, a.style(nil).Width
	line := func(ok bool, label, value string) {
		mark := "ok  "
		if !ok {
			mark, failed = "LOOK", true
		}
		const left = 23 // where values begin
		fmt.Fprintf(a.out, "%s  %-16s %s\n", mark, label, render.Hang(render.Visible(value), width, left))
	}
	names := []string{server.URL, server.HostName()}
	line(true, "Server", strings.Join(slices.Compact(names), ", "))
	line(probe.Encrypted || probe.Loopback, "Encryption", probe.Encryption)
	line(server.Bound != "", "Bound as", cmp.Or(server.Bound, "nobody (anonymous)"))
	line(true, "Dialect", server.Dialect.Name)
	line(true, "Directory", probe.Identity.String())
	no, err := server.TakesWrites(ctx)
	if err != nil {
		return err
	}
	line(no == "", "Writable", cmp.Or(no, "the server takes writes"))
	line(probe.Paging, "Paging",
		map[bool]string{true: "offered", false: "not offered; large directories cannot be read whole"}[probe.Paging])
	for _, r := range probe.Rights {
		line(r.OK, r.What, r.Text)
	}
	line(probe.ClockOK(), "Clock", probe.ClockText())
	if err := a.lineOfReturn(ctx, cmd, p, line); err != nil {
		return err
	}
	if !cmd.Bool("quick") {
		survey, err := server.Visibility(ctx)
		if err != nil {
			return err
		}
		hiddenLines(survey, line)
	}
	if err := a.mentionLines(ctx, p, line); err != nil {
		return err
	}
	if failed {
		a.note("lines marked LOOK limit what can be judged or done here")
	}
	return nil
}

// lineOfReturn says whether what is deleted comes back: it is tried, where --probe
// asks for that, else what was seen the last time.
func (a *app) lineOfReturn(
	ctx context.Context, cmd *cli.Command, p *work.Place, line func(ok bool, label, value string),
) error {
	const label = "Comes back"
	server, _ := p.Server()
	container := cmd.String("probe")
	if container == "" {
		seen, err := a.work.SeenReturn(ctx, p)
		line(true, label, cmp.Or(seen, "not tried: --probe OU=… does, with an account of its own"))
		return err
	}
	seen, err := a.work.TryReturn(ctx, p, container)
	if seen != nil {
		line(seen.Why == "" && (seen.Itself || server.Dialect != directory.AD), label, seen.String())
	}
	return err
}

// mentionLines say what the settings name that the directory does not have.
func (a *app) mentionLines(ctx context.Context, p *work.Place, line func(ok bool, label, value string)) error {
	if _, known := a.work.Settings.Yards[p.Name]; !known {
		return nil // a URL, which the settings say nothing of
	}
	all, err := a.work.Mentions(ctx, p)
	if err != nil {
		return err
	}
	good := true
	for _, m := range all {
		if m.Wrong != "" {
			line(false, "Settings", fmt.Sprintf("%s names %s: %s", m.Setting, m.Name, m.Wrong))
			good = false
		}
	}
	if good {
		line(true, "Settings", wording.Count(len(all), "name")+" of entries, groups, attributes and people, all of them known")
	}
	return nil
}

// hiddenLines say what a survey could not show.
func hiddenLines(s *directory.Survey, line func(ok bool, label, value string)) {
	if !s.RightsRead {
		line(
			false,
			"Hidden",
			"the server does not tell what this account may not read; what most entries show and those of one place never do is taken as hidden there",
		)
	}
	hidden := audit.DescribeHidden(s, directory.AttrSet{})
	for _, h := range hidden {
		line(false, "Hidden", h)
	}
	if len(hidden) == 0 {
		line(true, "Hidden", "nothing that checks rest on")
	}
	if own := s.HidingOwn(); len(own) > 0 {
		line(
			true,
			"Hidden",
			fmt.Sprintf("entries in %d of the domain's own places (%s, for one); no check rests on them", len(own),
				own[0]),
		)
	}
}

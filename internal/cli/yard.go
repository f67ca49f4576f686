package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"yardbroom/internal/render"
)

func (a *app) yardCommand() *cli.Command {
	return &cli.Command{
		Name: "yard", Usage: "the yards of the settings: list them, test one",
		Commands: []*cli.Command{
			{Name: "list", Usage: "the yards of the settings", Action: a.yardList},
			{Name: "test", Usage: "connection, encryption, sign-in, rights, clock", ArgsUsage: "[YARD|URL]", Flags: serverFlags(), Action: a.yardTest},
		},
	}
}

func (a *app) yardList(_ context.Context, cmd *cli.Command) error {
	if err := noArguments(cmd); err != nil {
		return err
	}
	if len(a.set.Yards) == 0 {
		a.note("the settings name no yard")
		return nil
	}
	var names []string
	for name := range a.set.Yards {
		names = append(names, name)
	}
	slices.Sort(names)
	var rows [][]string
	for _, name := range names {
		y := a.set.Yards[name]
		mark := ""
		if name == a.set.Default {
			mark = "default"
		}
		rows = append(rows, []string{name, mark, strings.Join(y.Servers, " "), y.Base, y.Bind.DN})
	}
	render.Table(a.out, a.style(nil), []string{"Yard", "", "Servers", "Base", "Bound as"}, rows, 2, 3)
	return nil
}

func (a *app) yardTest(ctx context.Context, cmd *cli.Command) error {
	where := cmd.Args().First()
	if where == "" {
		where = a.set.Default
	}
	if _, ok := a.set.Yards[where]; !ok && !strings.Contains(where, "://") {
		return usage("%q is neither a yard of the settings nor a URL", where)
	}
	p, err := a.openNamed(ctx, cmd, where)
	if err != nil {
		return err
	}
	defer p.Close()
	server, _ := p.server()
	probe, err := server.Probe(ctx)
	if err != nil {
		return err
	}
	failed := false
	line := func(ok bool, label, value string) {
		mark := "ok  "
		if !ok {
			mark, failed = "LOOK", true
		}
		fmt.Fprintf(a.out, "%s  %-16s %s\n", mark, label, render.Visible(value))
	}
	line(true, "Server", server.URL+", "+server.HostName())
	line(probe.Encrypted || probe.Loopback, "Encryption", probe.Encryption)
	line(server.Bound != "", "Bound as", orElse(server.Bound, "nobody (anonymous)"))
	line(true, "Dialect", server.Dialect.Name)
	line(true, "Directory", probe.Identity.String())
	line(!server.Root.ReadOnly, "Writable", map[bool]string{true: "no, a read-only server", false: "the server takes writes"}[server.Root.ReadOnly])
	line(probe.Paging, "Paging", map[bool]string{true: "offered", false: "not offered; large directories cannot be read whole"}[probe.Paging])
	for _, r := range probe.Rights {
		line(r.OK, r.What, r.Says)
	}
	line(probe.ClockOK(), "Clock", probe.ClockText())
	if failed {
		a.note("lines marked LOOK limit what can be judged or done here")
	}
	return nil
}

func orElse(s, other string) string {
	if s == "" {
		return other
	}
	return s
}

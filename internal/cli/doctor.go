package cli

import (
	"context"
	"fmt"
	"time"

	"github.com/urfave/cli/v3"

	"yardbroom/internal/doctor"
	"yardbroom/internal/render"
	"yardbroom/internal/wording"
)

func (a *app) doctorCommand() *cli.Command {
	return &cli.Command{
		Name: "doctor", Usage: "look over the whole installation: settings, state, secrets, servers, rounds; what is wrong, and what to do",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "quick", Usage: "ask no server"},
			&cli.BoolFlag{Name: "all", Usage: "show what is in order, too"},
			&cli.DurationFlag{Name: "late", Value: time.Hour, Usage: "how long after its time a round may begin"},
			&cli.StringFlag{Name: "format", Value: formatTable, Usage: "table or json"},
		},
		Action: a.doctor,
	}
}

func (a *app) doctor(ctx context.Context, cmd *cli.Command) error {
	if err := a.noArguments(cmd); err != nil {
		return err
	}
	signs, err := doctor.Look(ctx, a.runner(), &doctor.Request{Quick: cmd.Bool("quick"), Late: cmd.Duration("late")})
	if err != nil {
		return err
	}
	bad := 0
	for _, s := range signs {
		if !s.OK {
			bad++
		}
	}
	if cmd.String("format") == formatJSON {
		err = render.JSON(a.out, doctor.ShapeOf(signs))
	} else {
		a.tellSigns(signs, cmd.Bool("all"), bad)
	}
	if err == nil && bad > 0 {
		err = &exitError{exitFailed, fmt.Errorf("")}
	}
	return err
}

// tellSigns says what is wrong, each with what to do.
func (a *app) tellSigns(signs []doctor.Sign, all bool, bad int) {
	width := a.style(nil).Width
	const indent = "      "
	for _, s := range signs {
		switch text := render.Visible(s.Area + ": " + s.Text); {
		case !s.OK:
			fmt.Fprintln(a.out, "LOOK  "+render.Hang(text, width, len(indent)))
			fmt.Fprintln(a.out, indent+"→ "+render.Hang(render.Visible(s.Do), width, len(indent)+2))
		case all:
			fmt.Fprintln(a.out, "ok    "+render.Hang(text, width, len(indent)))
		}
	}
	if bad == 0 {
		fmt.Fprintf(a.out, "Nothing is wrong: %s looked at.\n", wording.Count(len(signs), "thing"))
		return
	}
	fmt.Fprintf(a.out, "\n%s to look at, %d in order.\n", wording.Count(bad, "thing"), len(signs)-bad)
}
